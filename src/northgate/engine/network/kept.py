"""What clients keep, compiled: sessions on targets, and layer 4 connections through fronts to targets."""

import numpy as np

from northgate.engine.base import Bools, Floats, Ints, floats
from northgate.engine.formulas import METHODS
from northgate.engine.network.sources import Segment
from northgate.engine.network.tables import (
    Arrivals,
    Calls,
    Cells,
    ConnectionKind,
    Entries,
    Fronts,
    Kept,
    SessionKind,
    WeightedGroups,
)
from northgate.plan import Plan


class Keeping:
    """What clients keep, while it is compiled."""

    def __init__(
        self, plan: Plan, segments: tuple[Segment, ...], fronts: Fronts, cells: Cells, weighted: WeightedGroups,
        calls: Calls, entries: Entries, arrivals: Arrivals,
    ) -> None:  # fmt: skip
        self.plan, self.segments, self.fronts, self.cells = plan, segments, fronts, cells
        self.weighted, self.calls, self.entries, self.arrivals = weighted, calls, entries, arrivals

    def compiled(self) -> Kept:
        """Every kind of session and of connection."""
        sessions = tuple(self._session_kinds())
        connections = tuple(self._connection_kinds(sessions))
        unbound = [sessions[kind.session].ends if kind.session >= 0 else np.nan for kind in connections]
        led = any(kind.session >= 0 for kind in connections)
        return Kept(sessions, connections, self._at_cells(), np.array(unbound if led else [], dtype=np.float64))

    def _session_kinds(self) -> list[SessionKind]:
        found = []
        for index, group in enumerate(self.plan.target_groups):
            cells = np.flatnonzero(self.cells.group == index)
            at_4 = self.fronts.layer[self.cells.front[cells]] == 4
            if group.affinity.by != "none":
                ends = 0.0 if group.affinity.renews else 1 / group.affinity.lasts_s
                # A layer 4 balancer sees no cookies.
                found += self._kinds_at(index, cells if group.affinity.by == "source" else cells[~at_4], ends)
            if group.affinity.by != "source" and METHODS[group.balance].sticky_by_key and group.protocol != "udp":
                # A key may fall to another target in another region.
                balancer = self.fronts.balancer[self.cells.front[cells]]
                for one in np.unique(balancer[at_4]):
                    found += self._kinds_at(index, cells[at_4 & (balancer == one)], 0.0, by_key=True)
        return found

    def _kinds_at(self, group: int, cells: Ints, ends: float, *, by_key: bool = False) -> list[SessionKind]:
        """A kind for each client group, where any cells keep it."""
        clients = enumerate(self.plan.clients) if len(cells) else ()
        return [SessionKind(number, group, one.sources, cells, ends, by_key=by_key) for number, one in clients]

    def _connection_kinds(self, sessions: tuple[SessionKind, ...]) -> list[ConnectionKind]:
        """A call each that a layer 4 listener takes over TCP."""
        entry, front, route = self.arrivals.entry, self.arrivals.front, self.arrivals.route
        through = (self.entries.member[entry] < 0) & (route >= 0) & (self.fronts.layer[front] == 4)
        found = []
        for call, client in enumerate(self.calls.client):
            rows = np.flatnonzero(through & (self.entries.call[entry] == call))
            if len(rows) and client < len(self.plan.clients) and self.calls.requests[call].scheme != "udp":
                found.append(self._connection_kind(call, rows, sessions))
        return found

    def _connection_kind(self, call: int, rows: Ints, sessions: tuple[SessionKind, ...]) -> ConnectionKind:
        front, route = self.arrivals.front[rows], self.arrivals.route[rows]
        client = self.plan.clients[int(self.calls.client[call])]
        row_of_front = np.full(len(self.fronts.zone), -1)
        row_of_front[front[::-1]] = rows[::-1]
        weighted = np.flatnonzero(np.isin(self.weighted.route, route))
        weighted_of_cell = np.full(len(self.cells.front), -1)
        weighted_of_cell[self.weighted.cell[weighted][::-1]] = weighted[::-1]
        sources = client.sources * self.segments[int(self.calls.segment[call])].share
        mine = [
            number
            for number, kind in enumerate(sessions)
            if kind.client == self.calls.client[call] and np.isin(self.weighted.cell[weighted], kind.cells).all()
        ]
        idle_s = min(self.plan.balancers[one].idle_timeout_s for one in self.fronts.balancer[front].tolist())
        return ConnectionKind(
            call,
            sources,
            1 / client.connection_s,
            idle_s,
            rows,
            row_of_front,
            weighted_of_cell,
            mine[0] if mine else -1,
        )

    def _at_cells(self) -> Bools:
        """As `Kept.at_cells` says."""
        entry, route = self.arrivals.entry, self.arrivals.route
        made = np.zeros((len(self.calls.client), len(self.cells.front)), dtype=bool)
        asked = (route >= 0) & (self.calls.client[self.entries.call[entry]] < len(self.plan.clients))
        at_route = np.zeros((int(self.weighted.route.max(initial=-1)) + 1, len(self.cells.front)), dtype=bool)
        at_route[self.weighted.route, self.weighted.cell] = True
        np.logical_or.at(made, self.entries.call[entry[asked]], at_route[route[asked]])
        return made


def sources_told(kept: Kept) -> Floats:
    """Per kind of session how many sources may hold one, where it is one, and no key."""
    return floats(0.0 if kind.by_key else kind.sources for kind in kept.sessions)


def keyed_cells(kept: Kept) -> set[int]:
    """The cells at which connections follow keys."""
    return {cell for kind in kept.sessions if kind.by_key for cell in kind.cells.tolist()}
