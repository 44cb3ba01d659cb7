"""Layer 4 connections that are open: where the calls over them go, and what becomes of those.

A call over an open connection asks no name and chooses no target: it meets the front and the target to which its
connection leads. Only calls of sources without one go through the fronts' choice; the share of them that is served
opens one.
"""

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from northgate.engine.flow import BLOCKED, DEAD_FRONT, KINDS, OVERLOADED, SERVED, WORK, Moment
from northgate.engine.network import Network
from northgate.engine.repeats import by_last_attempt, tries_of
from northgate.engine.truth import BLOCKED as BLOCKED_WAY
from northgate.engine.truth import SILENT
from northgate.engine.types import Bools, Floats, Ints, kept, sum_columns, total_by


@dataclass(frozen=True)
class ConnectionKind:
    """The connections of one call of a client group's segment: its sources, with what rate they end (1/s), and the rows
    of `Network.entry_fronts` by which they are opened.

    `row_of_front` and `lane_of_cell` say by which row and lane a connection through a front and cell goes (-1: none).
    """

    call: int
    sources: float
    ends: float
    rows: Ints
    row_of_front: Ints
    lane_of_cell: Ints


@kept
def connection_kinds(network: Network) -> tuple[ConnectionKind, ...]:
    """The kinds of connection of a network: a call each that a layer 4 listener takes over TCP."""
    entry, front, route = network.entry_fronts
    of_client = network.entries.member[entry] < 0
    through = of_client & (route >= 0) & (network.front_layer[front] == 4) if len(entry) else of_client
    found = []
    for call, client in enumerate(network.calls.client):
        rows = np.flatnonzero(through & (network.entries.call[entry] == call))
        if len(rows) and client < len(network.plan.clients) and network.calls.requests[call].scheme != "udp":
            found.append(_kind(network, call, rows))
    return tuple(found)


def _kind(network: Network, call: int, rows: Ints) -> ConnectionKind:
    _, front, route = network.entry_fronts
    routes = network.routes
    client = network.plan.clients[int(network.calls.client[call])]
    row_of_front = np.full(len(network.fronts.zone), -1)
    row_of_front[front[rows][::-1]] = rows[::-1]
    lanes = np.flatnonzero(np.isin(routes.lane_route, route[rows]))
    lane_of_cell = np.full(len(routes.cell_front), -1)
    lane_of_cell[routes.lane_cell[lanes][::-1]] = lanes[::-1]
    sources = client.sources * network.segments[int(network.calls.segment[call])].share
    return ConnectionKind(call, sources, 1 / client.connection_s, rows, row_of_front, lane_of_cell)


@dataclass(frozen=True)
class Bound:
    """What becomes of the calls over open connections, in calls/s: per row of `entry_fronts` and kind of outcome, the
    attempts per row, and what is served by kind of connection and pair."""

    row: Floats
    row_rps: Floats
    served: Floats


class Connected:
    """The calls over open connections at one moment: `rps[k, p]` by kind and pair; `free` is per call the share of its
    sources that have none."""

    def __init__(self, network: Network, moment: Moment, retries: Floats) -> None:
        self.network, self.moment = network, moment
        self.kinds = connection_kinds(network)
        self.free = np.ones(len(moment.call_rps))
        calls = np.array([kind.call for kind in self.kinds], dtype=np.int64)
        held = np.zeros((len(calls), len(network.pairs.front))) if moment.held is None else moment.held.connections
        self.held = held
        self.free[calls] = np.clip(1 - held.sum(axis=1), 0.0, 1.0)
        self.rps = held * moment.call_rps[calls][:, None]
        # Whether any connection is open.
        self.any = bool(self.rps.any())
        self.fate = moment.encounter.fate[network.calls.outcome[calls]]
        self.tries = np.ones_like(self.rps)
        self.anew = np.zeros_like(self.free)
        self.over = np.zeros(len(network.fronts.zone))
        clients = network.calls.client[calls]
        self.retries: Floats = retries[clients]
        front = network.pairs.front
        rows = np.array([kind.row_of_front for kind in self.kinds], dtype=np.int64)
        rows = rows.reshape(len(calls), len(network.fronts.zone))[:, front]
        self.row = rows
        self.dead = moment.truth.front_dead[front][None, :] & (rows >= 0)
        self.blocked = moment.encounter.row_blocked[np.maximum(rows, 0)] & (rows >= 0) & ~self.dead
        self.blocked = self.blocked if len(network.entry_fronts[0]) else np.zeros_like(self.dead)

    def ends_at_first_failure(self) -> Bools:
        """Per kind and pair: nothing answers there, so that a connection ends with its first failed call."""
        met = self.moment.encounter.fate_met[self.fate]
        return np.asarray(((met == SILENT) | (met == BLOCKED_WAY) | self.blocked) & ~self.dead)

    @property
    def coming(self) -> Floats:
        """Per kind and pair the attempts/s that come to the target; those through dead fronts do not."""
        return np.where(self.dead | self.blocked, 0.0, self.rps * self.tries)

    def arriving(self, fates: int) -> Floats:
        """The same per fate and pair."""
        made = np.zeros((fates, self.rps.shape[1]))
        np.add.at(made, self.fate, self.coming)
        return made

    def outcome(self, pair: Mapping[int, Floats]) -> Floats:
        """Per kind, pair and kind of outcome the share of one attempt."""
        made = np.zeros((*self.rps.shape, KINDS))
        for kind, value in pair.items():
            made[:, :, kind] = value[self.fate]
        excess = self.over[self.network.pairs.front]
        made[:, :, OVERLOADED] += made[:, :, SERVED] * excess
        made[:, :, [SERVED, WORK]] *= (1 - excess)[None, :, None]
        made[self.blocked] = 0.0
        made[self.blocked, BLOCKED] = 1.0
        made[self.dead] = 0.0
        made[self.dead, DEAD_FRONT] = 1.0
        return made

    def attempts(self, outcome: Floats) -> Floats:
        """How often a call is tried over its connection: again as long as that stands."""
        return tries_of(np.clip(1 - outcome[:, :, SERVED], 0, 1), self._repeats())

    def _repeats(self) -> Floats:
        return np.where(self.ends_at_first_failure(), 0.0, self.retries[:, None])

    def starts_anew(self, outcome: Floats) -> Floats:
        """Per call the share that goes on without a connection, as theirs has ended under them."""
        fails = np.clip(1 - outcome[:, :, SERVED], 0, 1)
        ended = self.ends_at_first_failure() & (self.retries > 0)[:, None]
        made = np.zeros_like(self.free)
        made[[kind.call for kind in self.kinds]] = (self.held * np.where(ended, fails, 0.0)).sum(axis=1)
        return made

    def ended(self, outcome: Floats) -> Bound:
        """What becomes of the calls over connections, each counted by its last attempt there."""
        repeats = np.broadcast_to(self._repeats(), self.rps.shape)
        fails = np.clip(1 - outcome[:, :, SERVED], 0, 1)
        rate = by_last_attempt(outcome, fails, repeats) * self.rps[:, :, None]
        anew = self.ends_at_first_failure() & (self.retries > 0)[:, None]
        rate[anew] = 0.0
        rows = len(self.network.entry_fronts[0])
        flat = np.maximum(self.row, 0).ravel()
        row = np.stack([total_by(flat, rate[:, :, kind].ravel(), rows) for kind in range(KINDS)], axis=1)
        return Bound(row, total_by(flat, (self.rps * self.tries).ravel(), rows), rate[:, :, SERVED])

    def by_lane(self, by_kind_cell: Floats) -> Floats:
        """Sums a value per kind and cell over the lanes by which those connections go."""
        lanes = np.array([kind.lane_of_cell for kind in self.kinds], dtype=np.int64)
        used = lanes >= 0
        return total_by(lanes[used], by_kind_cell[used], len(self.network.routes.lane_cell))

    def by_cell(self, by_pair: Floats) -> Floats:
        """Sums a value per kind and pair over the cells."""
        return sum_columns(self.network.pairs.cell, by_pair, len(self.network.routes.cell_front))
