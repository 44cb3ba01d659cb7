"""How long those who ask at machines wait."""

from collections.abc import Iterable

import numpy as np

from northgate.engine.base import NEVER, Bools, Floats, Ints
from northgate.engine.network import Network
from northgate.engine.truth.encounter import budgets_s

# So many sets of arrivals are remembered: few are in use at a time.
KEPT = 16


class Patience:
    """The latencies (s) at each machine beyond which somebody gives up: a client, a balancer, or a prober that is a
    call itself. What was asked for is remembered.

    `probes_s`: those beyond which probes of its targets give up, (machines, probes), inf past the last.
    """

    def __init__(self, network: Network) -> None:
        self._network = network
        calls, cells, pairs = network.calls, network.cells, network.pairs
        places = [int(mine[0]) if len(mine) else -1 for mine in cells.pairs]
        trips = calls.outcome_trip
        budget_s = budgets_s(network, calls.outcome_timeout_s, trips) if len(trips) else np.zeros((0, len(pairs.front)))
        # Per cell, all of whose pairs are alike in this, what is left of the budget of each outcome class.
        self._budget_s = {cell: budget_s[:, place] for cell, place in enumerate(places) if place >= 0}
        self._place = places
        self._cells_of_route: dict[int, list[int]] = {}
        for route, cell in zip(network.weighted.route.tolist(), network.weighted.cell.tolist(), strict=True):
            self._cells_of_route.setdefault(route, []).append(cell)
        self._kind, self._cells_of_kind = _kinds(network)
        self.probes_s = self._by_machine([_probe_s(network, cell) for cell in range(len(places))])
        self._waits: dict[tuple[int, int], frozenset[float]] = {}
        self._known: dict[bytes, Floats] = {}
        names = range(len(network.plan.names))
        self._together = max((network.names.most_together(name) for name in names), default=1)

    def bounds_s(self, comes: Bools) -> Floats:
        """Beyond which latencies those give up who come to each machine: (machines, bounds), inf past the last.
        `comes`: per row of `Network.arrivals`, whether anybody may come by it."""
        key = comes.tobytes()
        found = self._known.get(key)
        if found is None:
            # Threads share this: another may forget all meanwhile.
            found = self._found(comes)
            if len(self._known) >= KEPT:
                self._known.clear()
            self._known[key] = found
        return found

    def _found(self, comes: Bools) -> Floats:
        network, arrivals = self._network, self._network.arrivals
        mine = comes & (arrivals.route >= 0)
        calls, routes = network.entries.call[arrivals.entry[mine]], arrivals.route[mine]
        found: list[set[float]] = [set() for _ in self._place]
        for call, route in set(zip(calls.tolist(), routes.tolist(), strict=True)):
            for cell in self._cells_of_route.get(route, ()):
                found[cell] |= self._waits_at(call, cell)
        return self._by_machine(found)

    def _by_machine(self, of_cell: list[set[float]]) -> Floats:
        """Per machine what is so at any cell of which it is a target, in order."""
        kinds = [sorted(set[float]().union(*(of_cell[cell] for cell in mine))) for mine in self._cells_of_kind]
        made = np.full((len(kinds), max(map(len, kinds), default=0)), NEVER)
        for kind, bounds in enumerate(kinds):
            made[kind, : len(bounds)] = bounds
        return made[self._kind]

    def _waits_at(self, call: int, cell: int) -> frozenset[float]:
        """The latencies of a machine beyond which a call gives up that has come to a cell: at once, after silent
        targets, or after connects to other addresses."""
        if (call, cell) not in self._waits:
            self._waits[call, cell] = frozenset(self._waits_after(call, cell))
        return self._waits[call, cell]

    def _waits_after(self, call: int, cell: int) -> Iterable[float]:
        network, place = self._network, self._place[cell]
        if place < 0:
            return
        budget_s = float(self._budget_s[cell][network.calls.outcome[call]])
        silent_s, response_s = float(network.pairs.connect_timeout_s[place]), network.pairs.response_timeout_s[place]
        group = network.plan.target_groups[int(network.cells.group[cell])]
        for connects_s in self._connects_s(call):
            for number in range(group.try_others + 1):
                left_s = min(budget_s - connects_s - number * silent_s, float(response_s))
                if 0 < left_s < NEVER:
                    yield left_s

    def _connects_s(self, call: int) -> Iterable[float]:
        """How long connects to other addresses may have taken before."""
        plan, client = self._network.plan, int(self._network.calls.client[call])
        if client >= len(plan.clients) or not plan.clients[client].tries_next_address:
            return [0.0]
        asks = plan.clients[client]
        most = min(self._together - 1, int(asks.timeout_s // asks.connect_timeout_s) + 1)
        return [number * asks.connect_timeout_s for number in range(most + 1)]


def _probe_s(network: Network, cell: int) -> set[float]:
    """How long the probe of a cell's targets waits, if they have one."""
    probe = network.groups.probe[int(network.cells.group[cell])]
    return {probe.timeout_s} if probe else set()


def _kinds(network: Network) -> tuple[Ints, list[list[int]]]:
    """Machines that are targets at the same cells are of a kind: of which each is, and the cells of each."""
    pairs, many = network.pairs, len(network.cells.front)
    at = np.zeros((len(network.machines.names), many), dtype=bool)
    at[pairs.machine, pairs.cell] = True
    kinds, kind = np.unique(np.packbits(at, axis=1), axis=0, return_inverse=True)
    cells = np.unpackbits(kinds, axis=1, count=many).astype(bool) if many else np.zeros((len(kinds), 0), dtype=bool)
    return kind.ravel(), [np.flatnonzero(mine).tolist() for mine in cells]
