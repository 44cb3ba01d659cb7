"""Sessions as mass on targets: who is bound to which, and how that changes between events.

Of S sources that each ask λ times a second, M hold a session; the others open one with their next call that is served:
`dm_j/dt = λ (S - M) p_j - m_j / L`, p_j the chance that such a call opens one on target j, L the mean life. Between
events λ and p stay as they are, so M and every m_j are sums of exponentials.
"""

from dataclasses import dataclass

import numpy as np

from northgate.engine.flow import Flow
from northgate.engine.network import Network
from northgate.engine.types import Bools, Floats, Ints

NEVER = np.inf
# Masses are followed in steps of this part of the time in which they change, until they move less than STILL of all.
STEP, STILL = 0.5, 1e-6


@dataclass(frozen=True)
class Kind:
    """The sessions of one client group with one target group: its sources, and how long a session lives (s)."""

    client: int
    sources: float
    lasts_s: float
    cells: Ints


class Sessions:
    """The mass of every kind of session on every member; `held[k, m]` is its share of kind k's sources."""

    def __init__(self, network: Network, held: Floats | None = None) -> None:
        self.network = network
        self.kinds = kinds_of(network)
        self.held = np.zeros((len(self.kinds), len(network.members.group))) if held is None else held

    def settle(self, flow: Flow) -> None:
        """The masses that stay as they are under this flow: M = λPS / (λP + 1/L), shared out as p."""
        for number, kind in enumerate(self.kinds):
            rate, opens = self._opening(flow, kind)
            chance = opens.sum()
            if rate * chance > 0:
                whole = rate * chance / (rate * chance + 1 / kind.lasts_s)
                self.held[number] = whole * opens / chance

    def after(self, flow: Flow, seconds: float) -> Floats:
        """The masses `seconds` later."""
        made = self.held.copy()
        for number, kind in enumerate(self.kinds):
            rate, opens = self._opening(flow, kind)
            made[number] = _later(self.held[number], rate, opens, kind.lasts_s, seconds)
        return made

    def mean(self, flow: Flow, seconds: float) -> Floats:
        """The mean masses over the next `seconds`."""
        made = self.held.copy()
        for number, kind in enumerate(self.kinds):
            rate, opens = self._opening(flow, kind)
            made[number] = _mean(self.held[number], rate, opens, kind.lasts_s, seconds)
        return made

    def free(self, members: Bools) -> float:
        """Ends the sessions on these members; returns how many that were."""
        sources = np.array([kind.sources for kind in self.kinds])
        moved = float((self.held[:, members].sum(axis=1) * sources).sum()) if self.kinds else 0.0
        self.held = np.where(members, 0.0, self.held)
        return moved

    def next_s(self, flow: Flow, now: float) -> float:
        """When to look again: inf while nothing moves."""
        step = NEVER
        for number, kind in enumerate(self.kinds):
            rate, opens = self._opening(flow, kind)
            fast = rate * float(opens.sum()) + 1 / kind.lasts_s
            whole = self.held[number].sum()
            drift = rate * (1 - whole) * opens - self.held[number] / kind.lasts_s
            if fast > 0 and abs(drift.sum()) / fast > STILL:
                step = min(step, STEP / fast)
            elif np.isfinite(kind.lasts_s) and np.abs(drift).max(initial=0.0) * kind.lasts_s > STILL:
                step = min(step, STEP * kind.lasts_s)
        return now + step

    def _opening(self, flow: Flow, kind: Kind) -> tuple[float, Floats]:
        """λ (calls per second and source), and per member the chance that a call without a session opens one there."""
        network = self.network
        fates = flow.fates_of_client(kind.client)
        opens = np.zeros(len(network.members.group))
        whole = 0.0
        for cell in kind.cells:
            rates = flow.fate_cell_rps[fates, cell]
            whole += float(rates.sum())
            mine = network.cell_pairs[int(cell)]
            np.add.at(opens, network.pairs.member[mine], rates @ flow.opening[fates][:, mine])
        return whole / kind.sources, opens / whole if whole > 0 else opens


def kinds_of(network: Network) -> tuple[Kind, ...]:
    """The kinds of session of a network; one that each request renews never ends."""
    found = []
    for client, cells in network.session_kinds:
        group = network.plan.target_groups[int(network.routes.cell_group[cells[0]])]
        lasts_s = NEVER if group.affinity.renews else group.affinity.lasts_s
        found.append(Kind(client, float(network.plan.clients[client].sources), lasts_s, cells))
    return tuple(found)


def _later(held: Floats, rate: float, opens: Floats, lasts_s: float, t: float) -> Floats:
    """m(t) = m(0) e^(-t/L) + λ p ∫ (1 - M(τ)) e^(-(t-τ)/L) dτ, M running to its limit with κ = λP + 1/L."""
    decay = 1 / lasts_s
    kappa, limit = _limit(rate, opens, lasts_s)
    off = held.sum() - limit
    if decay > 0:
        free = (1 - limit) * (1 - np.exp(-decay * t)) / decay
        free -= (
            off * (np.exp(-decay * t) - np.exp(-kappa * t)) / (kappa - decay)
            if kappa > decay
            else off * t * np.exp(-kappa * t)
        )
    else:
        free = (1 - limit) * t - (off * -np.expm1(-kappa * t) / kappa if kappa > 0 else off * t)
    return np.asarray(held * np.exp(-decay * t) + rate * opens * free)


def _mean(held: Floats, rate: float, opens: Floats, lasts_s: float, t: float) -> Floats:
    """The mean of m over [0, t]: from the integral of its own equation, or twice integrated where nothing ends."""
    if t <= 0:
        return held
    kappa, limit = _limit(rate, opens, lasts_s)
    off = held.sum() - limit
    gone = -np.expm1(-kappa * t) / kappa if kappa > 0 else t
    if np.isfinite(lasts_s):
        free = (1 - limit) * t - off * gone
        later = _later(held, rate, opens, lasts_s, t)
        return np.asarray(lasts_s * (rate * opens * free - (later - held)) / t)
    twice = (1 - limit) * t * t / 2 - off * ((t - gone) / kappa if kappa > 0 else t * t / 2)
    return np.asarray(held + rate * opens * twice / t)


def _limit(rate: float, opens: Floats, lasts_s: float) -> tuple[float, float]:
    """κ = λP + 1/L, and the share of sources that hold a session in the end."""
    opening = rate * float(opens.sum())
    kappa = opening + 1 / lasts_s
    return kappa, opening / kappa if kappa > 0 else 0.0
