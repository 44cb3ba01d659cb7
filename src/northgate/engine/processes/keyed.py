"""Connections that follow a key: at layer 4 a source whose hash decides connects to the same target each time.

Who has a connection keeps it until it ends; who has none connects where its key falls, in vain as long as nobody
answers there. So sources are bound as by a session that never ends (`solver/totals/opening.py`), and follow their keys
as targets come and go; whose key has moved on keeps the connection that it has.
"""

from collections.abc import Callable

import numpy as np
from msgspec.structs import replace

from northgate.engine.base import Bools, Floats, same, total_by, where_true
from northgate.engine.network import Network
from northgate.engine.processes.holdings import Holdings
from northgate.engine.solver import State

# Fronts that send a key to others by less than this (of all keys) send it alike.
ALIKE = 1e-9
# Fewer than these (a share) are nobody.
FEW = 1e-12


class Keyed:
    """Which sources keys bind to which targets, while connections follow them."""

    def __init__(self, holdings: Holdings) -> None:
        self._network, self._holdings = holdings.network, holdings
        self._kinds = [number for number, kind in enumerate(self._network.kept.sessions) if kind.by_key]
        self._known: list[Bools | Floats] = []
        # Where keys bind those whose connections lead elsewhere (see `State`).
        self._owed = np.zeros((len(self._network.kept.sessions), len(self._network.members.group)))

    def follow(self, state: State, drawn: Callable[[State], Floats]) -> State:
        """Binds sources by their keys, if who may be chosen is not as before; returns the state with that. `drawn`:
        what finds how those are drawn whom nothing holds (see `Solver.drawn`)."""
        chosen: list[Bools | Floats] = [state.in_use, state.warmth, state.truth.front_dead]
        chosen += [] if state.exists is None else [state.exists]
        if not self._kinds or (len(chosen) == len(self._known) and all(map(same, chosen, self._known))):
            return replace(state, owed=self._owed) if self._kinds else state
        self._known = chosen
        self._owed, shares = self._owed.copy(), drawn(state)
        for number in self._kinds:
            self._bind(number, _bound(self._network, number, state, shares))
        return replace(state, held=self._holdings.held, owed=self._owed)

    def _bind(self, number: int, shares: Floats) -> None:
        before = self._strays(number)
        comes = np.maximum(shares - self._holdings.held.sessions[number], 0.0)
        self._holdings.bind(number, shares)
        every = self._strays(number)
        owed = self._owed[number] * before + comes / max(float(comes.sum()), FEW) * max(every - before, 0.0)
        self._owed[number] = np.minimum(owed / max(every, FEW), 1.0)

    def _strays(self, number: int) -> float:
        """How many of a kind's sources have connections that lead elsewhere."""
        held = self._holdings.held
        return sum(
            float(held.strays[kind].sum())
            for kind, one in enumerate(self._network.kept.connections)
            if one.session == number and len(held.strays)
        )


def _bound(network: Network, number: int, state: State, drawn: Floats) -> Floats:
    """Which share of a kind's sources their keys bind to each member: nobody, where fronts send them to others, or
    those of one network elsewhere than those of another."""
    kind, members = network.kept.sessions[number], len(network.members.group)
    cells = [int(cell) for cell in kind.cells if not state.truth.front_dead[network.cells.front[cell]]]
    calls = where_true(network.calls.client == kind.client)
    fates = set(state.encounter.fate[network.calls.outcome[calls]].tolist())
    found = []
    for fate in fates:
        share = drawn[min(fate, len(drawn) - 1)]
        for cell in cells:
            mine = network.cells.pairs[cell]
            row = total_by(network.pairs.member[mine], share[mine], members)
            if row.sum() > 0:
                found.append(row / row.sum())
    if not found or any(np.abs(row - found[0]).max() > ALIKE for row in found):
        return np.zeros(members)
    return np.asarray(found[0])
