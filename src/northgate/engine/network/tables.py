"""A plan compiled into index arrays, on which everything else in the engine works.

Objects become positions in plan order; names return only at the edges. The arrays, by what they run over:

    machine   one instance (fleets expanded)
    service   one port that a machine serves
    member    one target of one group (a berth of the board)
    front     the part of a balancer that stands in one zone
    cell      one front and one group that it may use
    pair      one front and one member within its reach: who is chosen, and who probes whom
    route     one front and one pool
    choice    one tier of a route
    lane      one group of a choice
    segment   the sources of a client group that every rule and firewall of the plan treats alike
    call      one kind of request of a segment, or of a name's prober
    entry     one call and one place to which its name may lead: the rule that takes it there

A target that is another balancer (or a host name that leads to some) stands for it as a pseudo machine; the requests
that it gets are entries of their own (`member` >= 0), one level deeper.
"""

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

import numpy as np

from northgate.engine.base import Bools, Floats, Ints
from northgate.engine.formulas import Keys, target_keys
from northgate.engine.matching import Request
from northgate.engine.network.names import NameBook
from northgate.engine.network.sources import Segment
from northgate.plan import Plan
from northgate.plan.addressing import AddressBook
from northgate.plan.balancers import Balancer
from northgate.plan.groups import Probe

# What no part of the plan owns answers, and stands here.
OUTSIDE = "outside"


CLIENTS_JUDGE = -1


NO_PATH = -1


@dataclass(frozen=True)
class Machines:
    """Per machine: zone, capacity (requests/s, inf when no limit is known), idle service time and queue (s).

    `real` ones are instances of the plan, which come first; the others stand for what targets lead to elsewhere.
    """

    names: tuple[str, ...]
    zone: Ints
    capacity: Floats
    service_s: Floats
    queue_s: Floats
    real: Bools


@dataclass(frozen=True)
class Services:
    """Per service: its machine, port and protocol; `status[s, p]` is what it answers to path p."""

    machine: Ints
    port: Ints
    protocol: tuple[str, ...]
    pages: tuple[dict[str, int], ...]
    status: Ints


@dataclass(frozen=True)
class Members:
    """Per member: group, machine, weight, place within its group, and service (-1: nothing serves its port).

    `port` is the one that requests ask, `probe_port` the one that the group's probe asks; `leads_on` ones are no
    machines: what they get goes on to another balancer.
    """

    group: Ints
    machine: Ints
    weight: Floats
    place: Ints
    service: Ints
    probe_service: Ints
    port: Ints
    probe_port: Ints
    leads_on: Bools


@dataclass(frozen=True)
class Fronts:
    """Per front: balancer, zone, and how long a dead one stays in (a returned one out of) the address, seconds."""

    balancer: Ints
    zone: Ints
    failover_s: Floats


@dataclass(frozen=True)
class Pairs:
    """Per pair: front, member, cell, machine, weight; whether both stand in one zone."""

    front: Ints
    member: Ints
    cell: Ints
    machine: Ints
    weight: Floats
    same_zone: Bools


@dataclass(frozen=True)
class Routes:
    """Cells, routes, choices and lanes: how a request at a front finds its group."""

    cell_front: Ints
    cell_group: Ints
    route_front: Ints
    route_pool: Ints
    choice_route: Ints
    choice_tier: Ints
    choice_min_count: Floats
    choice_min_share: Floats
    choice_shares_out: Bools
    lane_choice: Ints
    lane_cell: Ints
    lane_weight: Floats

    @cached_property
    def lane_route(self) -> Ints:
        """The route of each lane."""
        return self.choice_route[self.lane_choice]

    @cached_property
    def first_choice(self) -> Ints:
        """The first choice (tier 1) of each route."""
        return np.flatnonzero(self.choice_tier == 0)


@dataclass(frozen=True)
class Calls:
    """Per call: client group (one past the last: a name's prober), its place in the group, segment, area (-1: none),
    share of the group's rate, and outcome class.

    Calls of one outcome class fare alike at every target: they ask the same path, wait equally long, are judged alike
    (`outcome_judge`: the probe, or `CLIENTS_JUDGE`), come from the same distance (`outcome_trip`, a row of `trips_s`),
    and where it matters from the same sources (`outcome_who`). `distance_s` is the round trip from the call's area to
    each region (s), inf where the plan does not tell it: nobody chooses what is infinitely far while there is anything
    else.
    """

    client: Ints
    number: Ints
    segment: Ints
    area: Ints
    share: Floats
    outcome: Ints
    outcome_path: Ints
    outcome_timeout_s: Floats
    outcome_judge: Ints
    outcome_who: Ints
    outcome_trip: Ints
    outcome_connect_s: Floats
    connect_timeout_s: Floats
    timeout_s: Floats
    distance_s: Floats
    trips_s: Floats
    requests: tuple[Request, ...]


@dataclass(frozen=True)
class Entries:
    """Per entry: call, where it comes from and where it leads.

    `member` is the target that passes the request on (-1: the client itself). `name` is the name that was asked (one
    past the last: none), `asker` who asks it in the name book (-1: nobody has to, it is the only way), `leaf` the place
    among that asker's leaves.
    `balancer` is -1 outside the plan, `front` the only one with that address (-1: any). `pool` is -1 when no pool
    serves: then `fixed_cause` is the cause of failure, or -1 when the answer is a good one of status `fixed_status`.
    """

    call: Ints
    member: Ints
    name: Ints
    asker: Ints
    leaf: Ints
    balancer: Ints
    front: Ints
    listener: Ints
    rule: Ints
    pool: Ints
    fixed_cause: Ints
    fixed_status: Ints


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


@dataclass(frozen=True, eq=False)
class Network:
    """A plan as index arrays; see the module for what they run over. Immutable."""

    plan: Plan
    zones: tuple[str, ...]
    zone_region: Ints
    regions: tuple[str, ...]
    paths: tuple[str, ...]
    machines: Machines
    services: Services
    members: Members
    fronts: Fronts
    pairs: Pairs
    routes: Routes
    calls: Calls
    entries: Entries
    segments: tuple[Segment, ...]
    names: NameBook
    book: AddressBook
    level: Ints
    spares: frozenset[str] = frozenset()
    probe_calls: Mapping[int, int] = field(default_factory=dict)

    @cached_property
    def spare(self) -> Bools:
        """The machines that are not there from the start: places for what an autoscaler may launch."""
        return np.array([name in self.spares for name in self.machines.names], dtype=bool)

    @cached_property
    def levels(self) -> int:
        """How many balancers stand behind each other at most."""
        return int(self.level.max(initial=0)) + 1

    @cached_property
    def entry_fronts(self) -> tuple[Ints, Ints, Ints]:
        """Rows (entry, front, route or -1): every front that may take an entry's requests."""
        route_of = {
            (int(front), int(pool)): number
            for number, (front, pool) in enumerate(zip(self.routes.route_front, self.routes.route_pool, strict=True))
        }
        of_balancer = [np.flatnonzero(self.fronts.balancer == index) for index in range(len(self.plan.balancers))]
        ways = zip(self.entries.balancer, self.entries.front, self.entries.pool, strict=True)
        rows = [
            (entry, int(front), route_of.get((int(front), int(pool)), -1))
            for entry, (balancer, only, pool) in enumerate(ways)
            for front in (of_balancer[int(balancer)] if balancer >= 0 else ())
            if only in (-1, front)
        ]
        table = ints(rows).reshape(-1, 3)
        return table[:, 0], table[:, 1], table[:, 2]

    @cached_property
    def probed(self) -> Ints:
        """The pairs whose group has a probe."""
        has_probe = np.array([probe is not None for probe in self.group_probes], dtype=bool)
        return np.flatnonzero(has_probe[self.members.group[self.pairs.member]])

    @cached_property
    def group_probes(self) -> tuple[Probe | None, ...]:
        """The probe that watches each group."""
        probes = {probe.name: probe for probe in self.plan.probes}
        return tuple(probes.get(group.probe or "") for group in self.plan.target_groups)

    @cached_property
    def entries_of_call(self) -> tuple[Ints, ...]:
        """The entries by which each call itself sets out."""
        own = self.entries.member < 0
        return tuple(np.flatnonzero(own & (self.entries.call == call)) for call in range(len(self.calls.client)))

    @cached_property
    def row_level(self) -> Ints:
        """The level of each row of `entry_fronts`."""
        return self.level[self.fronts.balancer[self.entry_fronts[1]]]

    @cached_property
    def front_layer(self) -> Ints:
        """The layer, 4 or 7, of each front's balancer."""
        layers = ints(balancer.layer for balancer in self.plan.balancers)
        return layers[self.fronts.balancer] if len(layers) else layers

    @cached_property
    def bandwidth_mbps(self) -> Floats:
        """Per balancer: what its answers may take together (megabits/s); inf where no limit is known."""
        return floats(balancer.bandwidth_mbps or np.inf for balancer in self.plan.balancers)

    @cached_property
    def call_megabits(self) -> Floats:
        """Per call: the size of its answer (megabits), a kilobyte being 1,000 bytes; 0 for the probes of names."""
        clients = self.plan.clients
        sizes = [
            clients[client].calls[number].kilobytes if client < len(clients) else 0.0
            for client, number in zip(self.calls.client.tolist(), self.calls.number.tolist(), strict=True)
        ]
        return floats(sizes) * 8 / 1000

    @cached_property
    def cell_method(self) -> tuple[str, ...]:
        """How each cell's targets are chosen."""
        return tuple(self.plan.target_groups[int(group)].balance for group in self.routes.cell_group)

    @cached_property
    def member_keys(self) -> Keys:
        """The hash of each member's name."""
        return target_keys([self.machines.names[int(machine)] for machine in self.members.machine])

    @cached_property
    def cell_pairs(self) -> tuple[Ints, ...]:
        """The pairs of each cell, in order."""
        order = np.argsort(self.pairs.cell, kind="stable")
        sizes = np.bincount(self.pairs.cell, minlength=len(self.routes.cell_front))
        return tuple(np.split(order, np.cumsum(sizes)[:-1])) if len(sizes) else ()

    @cached_property
    def session_kinds(self) -> tuple[tuple[int, Ints], ...]:
        """Every client group with the cells of each group that keeps sessions: client, cells."""
        found = []
        for index, group in enumerate(self.plan.target_groups):
            if group.affinity.by != "none":
                cells = np.flatnonzero(self.routes.cell_group == index)
                if group.affinity.by != "source":
                    # A layer 4 balancer sees no cookies.
                    cells = cells[self.front_layer[self.routes.cell_front[cells]] == 7]
                found += [(client, cells) for client in range(len(self.plan.clients)) if len(cells)]
        return tuple(found)

    @cached_property
    def calls_at_cells(self) -> Bools:
        """Per call and cell: whether requests of a client may come there, through other balancers too."""
        entry, _, route = self.entry_fronts
        made = np.zeros((len(self.calls.client), len(self.routes.cell_front)), dtype=bool)
        asked = (route >= 0) & (self.calls.client[self.entries.call[entry]] < len(self.plan.clients))
        at_route = np.zeros((len(self.routes.route_front), len(self.routes.cell_front)), dtype=bool)
        at_route[self.routes.lane_route, self.routes.lane_cell] = True
        np.logical_or.at(made, self.entries.call[entry[asked]], at_route[route[asked]])
        return made

    @cached_property
    def connection_kinds(self) -> tuple[ConnectionKind, ...]:
        """The kinds of layer 4 connections: a call each that a layer 4 listener takes over TCP."""
        entry, front, route = self.entry_fronts
        of_client = self.entries.member[entry] < 0
        through = of_client & (route >= 0) & (self.front_layer[front] == 4) if len(entry) else of_client
        found = []
        for call, client in enumerate(self.calls.client):
            rows = np.flatnonzero(through & (self.entries.call[entry] == call))
            if len(rows) and client < len(self.plan.clients) and self.calls.requests[call].scheme != "udp":
                found.append(self._connection_kind(call, rows))
        return tuple(found)

    def _connection_kind(self, call: int, rows: Ints) -> ConnectionKind:
        _, front, route = self.entry_fronts
        client = self.plan.clients[int(self.calls.client[call])]
        row_of_front = np.full(len(self.fronts.zone), -1)
        row_of_front[front[rows][::-1]] = rows[::-1]
        lanes = np.flatnonzero(np.isin(self.routes.lane_route, route[rows]))
        lane_of_cell = np.full(len(self.routes.cell_front), -1)
        lane_of_cell[self.routes.lane_cell[lanes][::-1]] = lanes[::-1]
        sources = client.sources * self.segments[int(self.calls.segment[call])].share
        return ConnectionKind(call, sources, 1 / client.connection_s, rows, row_of_front, lane_of_cell)

    @cached_property
    def connection_of_call(self) -> dict[int, int]:
        """The kind of connection of each call that has one."""
        return {kind.call: number for number, kind in enumerate(self.connection_kinds)}

    @cached_property
    def connection_session(self) -> tuple[int, ...]:
        """Per kind of connection the kind of session that says where all of its connections lead; -1 where none
        does."""
        found = []
        for kind in self.connection_kinds:
            cells = self.routes.lane_cell[np.isin(self.routes.lane_route, self.entry_fronts[2][kind.rows])]
            client = int(self.calls.client[kind.call])
            mine = [
                number
                for number, (whose, kept) in enumerate(self.session_kinds)
                if whose == client and np.isin(cells, kept).all()
            ]
            found.append(mine[0] if mine else -1)
        return tuple(found)

    @cached_property
    def outside(self) -> Bools:
        """Per machine: whether it stands for an address or host that no part of the plan owns."""
        if OUTSIDE not in self.zones:
            return np.zeros(len(self.machines.names), dtype=bool)
        return ~self.machines.real & (self.machines.zone == self.zones.index(OUTSIDE))

    @cached_property
    def onward_checks(self) -> tuple[Ints, Ints]:
        """The probed pairs whose target leads on, and the call that stands for each one's probe."""
        pairs = self.probed[np.isin(self.pairs.member[self.probed], list(self.probe_calls))]
        return pairs, ints(self.probe_calls[int(member)] for member in self.pairs.member[pairs])

    @cached_property
    def checks(self) -> tuple[tuple[int, int, int, int], ...]:
        """The probers of names, as (name, answer, area, call)."""
        return self.names.checks

    @cached_property
    def probe_timeout_s(self) -> Floats:
        """Per probed pair: how long its probe waits for an answer (s)."""
        waits = np.array([probe.timeout_s if probe else np.inf for probe in self.group_probes], dtype=np.float64)
        return waits[self.members.group[self.pairs.member[self.probed]]]

    @cached_property
    def pair_response_timeout_s(self) -> Floats:
        """Per pair: how long its balancer waits for the target's answer to begin (s)."""
        response = np.array([group.response_timeout_s for group in self.plan.target_groups], dtype=np.float64)
        waits = response[self.members.group[self.pairs.member]]
        return np.where(self.front_layer[self.pairs.front] == 7, waits, np.inf)

    @cached_property
    def round_trip_s(self) -> Floats:
        """Per call and region: the round trip as far as it is known (s)."""
        return known_trips_s(self.calls.distance_s)

    @cached_property
    def pair_region(self) -> Ints:
        """Per pair: the region of its front."""
        return self.zone_region[self.fronts.zone[self.pairs.front]]

    @cached_property
    def pair_first(self) -> Bools:
        """Per pair: whether clients ask its balancer themselves, so that their round trip leads to its front."""
        asked = np.unique(self.entries.balancer[self.entries.member < 0])
        return np.isin(self.fronts.balancer[self.pairs.front], asked)

    @cached_property
    def pairs_behind(self) -> tuple[tuple[Ints, Ints], ...]:
        """For each balancer that no client asks itself, the nearest to clients first: its pairs, and those that lead to
        it."""
        found = []
        balancer = self.fronts.balancer[self.pairs.front]
        for inner in np.argsort(self.level, kind="stable"):
            into = np.flatnonzero((balancer == inner) & ~self.pair_first)
            members = self.entries.member[(self.entries.balancer == inner) & (self.entries.member >= 0)]
            before = np.flatnonzero(np.isin(self.pairs.member, members))
            if len(into) and len(before):
                found.append((into, before))
        return tuple(found)

    @cached_property
    def pair_connect_timeout_s(self) -> Floats:
        """Per pair: how long a request hangs on a silent target (s); at layer 4 the clients' own mean patience."""
        connect = np.array([group.connect_timeout_s for group in self.plan.target_groups], dtype=np.float64)
        waits = connect[self.members.group[self.pairs.member]]
        own = [client.connect_timeout_s for client in self.plan.clients]
        return np.where(self.front_layer[self.pairs.front] == 7, waits, sum(own) / len(own) if own else np.inf)

    def service_speaks(self, protocols: Sequence[str]) -> Bools:
        """Per service: whether it speaks one of these protocols."""
        return np.isin(np.array(self.services.protocol), protocols)

    def machine_index(self, name: str) -> int:
        """The position of a machine; raises KeyError."""
        return self._machine_positions[name]

    @cached_property
    def _machine_positions(self) -> dict[str, int]:
        return {name: position for position, name in enumerate(self.machines.names)}

    def front_name(self, front: int) -> str:
        """The zone in which a front stands, which names it within its balancer."""
        return self.zones[int(self.fronts.zone[front])]

    def balancer_of(self, front: int) -> str:
        """The name of a front's balancer."""
        return self.plan.balancers[int(self.fronts.balancer[front])].name


def ints(values: Iterable[Any]) -> Ints:
    """An array of whole numbers."""
    return np.array(list(values), dtype=np.int64)


def floats(values: Iterable[Any]) -> Floats:
    """An array of numbers."""
    return np.array(list(values), dtype=np.float64)


def known_trips_s(trip_s: Floats) -> Floats:
    """Round trips (s) for what they add to the time of a call: nothing is made up for one that is not known."""
    return np.where(np.isfinite(trip_s), trip_s, 0.0)


def seen_source(balancer: Balancer) -> str:
    """Whom targets see as the source: the balancer (by default at layer 7), or the client (at layer 4)."""
    return balancer.source_seen or ("balancer" if balancer.layer == 7 else "client")
