"""Masses that are opened and end: sessions on targets, and layer 4 connections through fronts to targets.

Of S sources that each ask λ times a second the share M holds a mass (a session, a connection); the others open one with
their next call that is served, with the chance p_j on place j. Masses end with the rate δ = 1/L, L being their mean
life; where a target is silent, its connections end with their first failed request too, so with δ + λ:

    dm_j/dt = λ (1 - M) p_j - d_j m_j,   d_j = δ or δ + λ

Who loses a connection under a call repeats that, and opens another with the chance q_j on place j. Between events λ, p,
q and d stay as they are. With F the sum of the masses that end faster (nobody opens one there), G that of the others, Q
the sum of q, I the integral of (1 - M) e^(-δ (t - τ)) and K that of F e^(-δ (t - τ)), all are linear:

    F' = -(δ + λ) F,   G' = λ P (1 - F - G) + λ Q F - δ G,   I' = 1 - F - G - δ I,   K' = F - δ K
    m_j(t) = m_j(0) e^(-δ t) + λ p_j I(t) + λ q_j K(t),   m_j(t) = m_j(0) e^(-(δ + λ) t) for the faster ones

Connections of sources that a session binds lead where it leads: of the share b_j that is bound to place j, or has been
when it was connected there, those without one open one there, with the chance s_j: each place has its own exponential:

    dm_j/dt = λ s_j (b_j - m_j) + λ p_j - d_j m_j
"""

import numpy as np
from msgspec import Struct

from northgate.engine.base import NEVER, Bools, Floats, Ints, cached, total_by
from northgate.engine.formulas.masses.decays import workplace
from northgate.engine.formulas.masses.led import SUMS
from northgate.engine.formulas.masses.loops import ALONG, find_masses, find_paces, idle_ends, lead_on
from northgate.engine.formulas.masses.rows import BOUND, OPENS, SERVED

# Masses are followed in steps of this part of the time in which they change, until they move less than STILL of all.
# What is SMALL goes the whole way in one step: the closed form is exact, only the load that it makes is seen later.
STEP, SLOW, SMALL, STILL, RELAXED = 0.5, 0.125, 1e-3, 1e-6, 20.0

# What is drawn is followed until no more than this share of all moves.
SEEN = 1e-2

# Where sessions lead to places.
EACH = np.zeros(0, dtype=np.int64)

# Rates at which masses are opened that differ by less than this are the same.
ALIKE = 1e-9


class Openings(Struct, frozen=True):
    """How masses of some kinds are opened and end.

    `ways` (4 or 1, kinds, places): p; q (0 where nobody repeats); b and s (NaN where no sessions say where connections
    lead; p is else λ p of those who are not bound). Of those that nobody repeats, or leads, there is p alone. Per kind
    `rate`: λ in calls per second and source, and `ends` (2, kinds): δ in 1/s of what ends whatever happens, and after
    how long without a call one is closed (s; inf: never). `silent` (kinds, places): where masses end with their first
    failed request. `target` (places,): which target each place is at, where sessions lead to targets through any of
    several fronts, s being the chance of being served there through this one; of no places where they lead to places.
    """

    ways: Floats
    rate: Floats
    ends: Floats
    silent: Bools
    target: Ints = EACH

    def otherwise(self, other: "Openings") -> bool:
        """Whether they are opened at other rates, or elsewhere."""
        mine, theirs = (one.ways[:BOUND] for one in (self, other))
        return bool(np.abs(mine - theirs).max(initial=0.0) > ALIKE)


class Occupancy(Struct, frozen=True, dict=True):
    """The masses of some kinds, as shares of their sources (kinds, places), and how they change."""

    held: Floats
    openings: Openings

    def settled(self, most: Floats | None = None) -> Floats:
        """The masses that stay as they are: M = N λP / (λP + δ), shared out as p, N (`most`, by kind) being the share
        of sources that may hold one, 1 as a rule; where sessions lead, (λ s b + λ p) / (λ s + d) at each place."""
        opens, ends = self.openings.ways[OPENS], self._ends
        every = opens.sum(axis=1)
        opening = self.openings.rate * every
        some = opening > 0
        held = np.divide(opening, opening + ends, out=np.zeros(len(some)), where=some)
        shares = np.divide(opens, every[:, None], out=np.zeros(opens.shape), where=some[:, None])
        made = np.where(some[:, None], (held if most is None else held * most)[:, None] * shares, self.held)
        for kind in range(len(made)):
            ways = self.openings.ways[:, kind]
            if len(ways) > BOUND and not np.isnan(ways[BOUND]).any():
                rate = self.openings.rate[kind]
                leaves = ends[kind] + rate * self.openings.silent[kind]
                made[kind] = _settled_led(rate * ways, leaves, ways[BOUND], self.openings.target)
        return made

    @property
    def _ends(self) -> Floats:
        """Per kind how often a second a mass ends by itself: δ."""
        openings = self.openings
        idle = [idle_ends(*one) for one in zip(openings.rate.tolist(), *openings.ends.tolist(), strict=True)]
        return np.asarray(openings.ends[0] + np.array(idle, dtype=np.float64))

    def after(self, seconds: float) -> Floats:
        """The masses `seconds` later."""
        return self._moved(seconds, 0.0)

    def mean(self, seconds: float) -> Floats:
        """The mean masses over the next `seconds`."""
        return self._moved(seconds, 1.0) / seconds if seconds > 0 else self.held

    def _moved(self, seconds: float, summed: float) -> Floats:
        """The masses later, or, where `summed` is not 0, their integral until then."""
        if not self.held.size:
            return self.held
        made, opened = np.empty(self.held.shape), self.openings
        find_masses(
            self.held, opened.ways, opened.rate, opened.ends, opened.silent, opened.target,
            np.array([seconds, summed]), workplace(), np.empty((SUMS, self.held.shape[1])), made,
        )  # fmt: skip
        return made

    def led_on(self, middle: Openings, last: Openings, seconds: float) -> tuple[Floats, float]:
        """The masses `seconds` later, while a parabola goes through how they are opened now, half-way and then; and
        which share of a kind's sources, at most, would be held otherwise in two halves than in one go.

        In two halves, each with the mean of how they are opened in it, three quarters are gone of the error of one go
        with the mean of all, which grows as the cube of the seconds (W. Magnus, "On the exponential solution of
        differential equations for a linear operator", 1954); so a third of the difference is still to be added (L. F.
        Richardson, "The deferred approach to the limit", 1927).
        """
        if not self.held.size:
            return self.held, 0.0
        made, off, first = np.empty(self.held.shape), np.zeros(1), self.openings
        rates, places = np.array([first.rate, middle.rate, last.rate]), self.held.shape[1]
        mixed, gone = np.empty((len(first.ways), places)), np.empty((3, places))
        lead_on(
            self.held, first.ways, middle.ways, last.ways, rates, first.ends, first.silent, first.target,
            ALONG, np.array([seconds]), workplace(), np.empty((SUMS, places)), mixed, gone, made, off,
        )  # fmt: skip
        return made, float(off[0])

    def step_s(self) -> float:
        """After how many seconds to look again; inf while nothing moves."""
        return self._paces[0]

    def drawn_s(self) -> float:
        """For how long a straight line draws the masses well enough; inf while next to nothing moves.

        Over the part `STEP` of the time in which it fades, an exponential lies within 3 % of it beside its chord.
        """
        return self._paces[1]

    @cached
    def _paces(self) -> tuple[float, float]:
        made, opened = np.full(2, NEVER), self.openings
        if self.held.size:
            limits = np.array([STEP, SLOW, SMALL, STILL, RELAXED, SEEN])
            sums = np.empty((SUMS, self.held.shape[1]))
            find_paces(
                self.held, opened.ways, opened.rate, opened.ends, opened.silent, opened.target, limits, sums, made
            )  # fmt: skip
        return float(made[0]), float(made[1])


def _settled_led(pulls: Floats, leaves: Floats, bound: Floats, target: Ints) -> Floats:
    """What is held at rest where sessions lead, of one kind: with r_p = λ σ_p / d_p, b - Σ m = (b - Σ λ p_p / d_p) / (1
    + Σ r_p). `pulls` are `Openings.ways`, times λ, of which this reads how often who is drawn, and bound, comes."""
    mine = target if len(target) else np.arange(len(bound))
    parts = np.divide(pulls[[SERVED, OPENS]], leaves, out=np.zeros((2, len(bound))), where=leaves > 0)
    each = np.array([total_by(mine, one, len(bound)) for one in (bound, *parts)])
    return np.asarray(parts[0] * ((each[0] - each[2]) / (1 + each[1]))[mine] + parts[1])
