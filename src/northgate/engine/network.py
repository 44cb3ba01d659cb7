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

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import Any

import numpy as np

from northgate.engine.errors import CannotRun
from northgate.engine.hashing import Keys, target_keys
from northgate.engine.naming import Leaf, NameBook
from northgate.engine.readiness import check_runnable
from northgate.engine.routing import (
    CONNECT,
    OTHERWISE,
    Request,
    covers_host,
    listener_for,
    page_status,
    plain_host,
    request_for,
    rule_for,
)
from northgate.engine.sources import Segment, segments_of
from northgate.engine.types import Bools, Floats, Ints
from northgate.plan import Plan, Problem
from northgate.plan.addressing import AddressBook
from northgate.plan.balancers import Action, Balancer
from northgate.plan.drills import CAUSES
from northgate.plan.groups import Probe, Target, TargetGroup
from northgate.plan.machines import Instance
from northgate.plan.problems import pointer

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
        table = _ints(rows).reshape(-1, 3)
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
        layers = _ints(balancer.layer for balancer in self.plan.balancers)
        return layers[self.fronts.balancer] if len(layers) else layers

    @cached_property
    def bandwidth_mbps(self) -> Floats:
        """Per balancer: what its answers may take together (megabits/s); inf where no limit is known."""
        return _floats(balancer.bandwidth_mbps or np.inf for balancer in self.plan.balancers)

    @cached_property
    def call_megabits(self) -> Floats:
        """Per call: the size of its answer (megabits), a kilobyte being 1,000 bytes; 0 for the probes of names."""
        clients = self.plan.clients
        sizes = [
            clients[client].calls[number].kilobytes if client < len(clients) else 0.0
            for client, number in zip(self.calls.client.tolist(), self.calls.number.tolist(), strict=True)
        ]
        return _floats(sizes) * 8 / 1000

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
        return pairs, _ints(self.probe_calls[int(member)] for member in self.pairs.member[pairs])

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
        return _known(self.calls.distance_s)

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


def compile_network(plan: Plan, spares: frozenset[str] = frozenset()) -> Network:
    """Compiles a plan; raises CannotRun with places when it cannot be computed. `spares` are instances that are not
    there yet."""
    check_runnable(plan)
    book = AddressBook(plan)
    zones = [zone for region in plan.regions for zone in region.zones]
    regions = [region.name for region in plan.regions]
    zone_region = [index for index, region in enumerate(plan.regions) for _ in region.zones]
    if _leads_outside(plan, book):
        zones, regions, zone_region = [*zones, OUTSIDE], [*regions, OUTSIDE], [*zone_region, len(regions)]
    zone_at = {zone: position for position, zone in enumerate(zones)}
    places = _ints(zone_region)
    names = NameBook(plan, book)
    standing = _Standing(plan, book)
    level = _levels(plan, names)
    machines = standing.machines(zone_at)
    paths = _paths(plan)
    services = _services(standing.instances, paths)
    members = standing.members(services)
    fronts = _fronts(plan, zone_at)
    routes, pairs = _routes_and_pairs(plan, machines, members, fronts, places)
    segments = segments_of(plan)
    draft = _Asking(plan, names, segments, paths, regions, standing, book)
    calls, entries = draft.compiled()
    return Network(
        plan=plan,
        zones=tuple(zones),
        zone_region=places,
        regions=tuple(regions),
        paths=paths,
        machines=machines,
        services=services,
        members=members,
        fronts=fronts,
        pairs=pairs,
        routes=routes,
        calls=calls,
        entries=entries,
        segments=segments,
        names=names,
        book=book,
        level=level,
        spares=spares,
        probe_calls=draft.probe_calls,
    )


def _leads_outside(plan: Plan, book: AddressBook) -> bool:
    """Whether anything leads to an address or host that no part of the plan owns."""
    known = {plain_host(entry.name) for entry in plan.names}
    ends: list[Any] = [target for group in plan.target_groups for target in group.targets]
    ends += [answer for name in plan.names for answer in (*name.answers, name.when_none_healthy) if answer]
    hosts = [end.host for end in ends if end.host]
    addresses = [end.address for end in ends if end.address]
    asked = [request_for(call.url).host for client in plan.clients for call in client.calls]
    owned = book.owner_balancer.keys() | book.owner_instance.keys()
    return (
        any(plain_host(host) not in known for host in hosts)
        or any(address not in owned for address in addresses)
        or any(host not in owned and plain_host(host) not in known for host in asked)
    )


def _ints(values: Iterable[Any]) -> Ints:
    return np.array(list(values), dtype=np.int64)


def _floats(values: Iterable[Any]) -> Floats:
    return np.array(list(values), dtype=np.float64)


def _paths(plan: Plan) -> tuple[str, ...]:
    """Every path that a call or probe asks, once each."""
    asked = [request_for(call.url).path for client in plan.clients for call in client.calls]
    return tuple(dict.fromkeys(asked + [probe.path for probe in plan.probes]))


@dataclass(frozen=True)
class _Row:
    """One member while it is compiled; `onward` is the balancer (or the name) to which it leads."""

    group: int
    machine: int
    weight: int
    place: int
    port: int
    probe_port: int
    balancer: int = -1
    name: int = -1


class _Standing:
    """What stands behind balancers: the plan's instances, and what targets lead to elsewhere."""

    def __init__(self, plan: Plan, book: AddressBook) -> None:
        self.plan, self.book = plan, book
        self.instances: list[Instance] = list(plan.machines)
        self.real = len(self.instances)
        self._machine_at = {instance.name: index for index, instance in enumerate(self.instances)}
        self._balancer_at = {balancer.name: index for index, balancer in enumerate(plan.balancers)}
        self._name_at = {plain_host(entry.name): index for index, entry in enumerate(plan.names)}
        self._fleets = {fleet.name: fleet.instance_names() for fleet in plan.fleets}
        self.rows = [row for index, group in enumerate(plan.target_groups) for row in self._rows(index, group)]

    def _rows(self, index: int, group: TargetGroup) -> Iterator[_Row]:
        probes = {probe.name: probe for probe in self.plan.probes}
        probe, place = probes.get(group.probe or ""), 0
        for target in group.targets:
            port = target.port or group.port
            probe_port = port if probe is None or probe.port == "same" else probe.port
            for machine, balancer, name in self._ends(target, port):
                yield _Row(index, machine, target.weight, place, port, probe_port, balancer, name)
                place += 1

    def _ends(self, target: Target, port: int) -> Iterator[tuple[int, int, int]]:
        """The machines of a target; with the balancer or the name to which it leads."""
        for name in self._fleets[target.fleet] if target.fleet else [target.instance] if target.instance else []:
            yield self._machine_at[name], -1, -1
        balancer = target.balancer
        if target.address:
            owner = self.book.owner_instance.get(target.address)
            if owner:
                yield self._machine_at[owner], -1, -1
            else:
                balancer = self.book.owner_balancer.get(target.address, (None, 0))[0]
                if balancer is None:
                    yield self._elsewhere(target.address, OUTSIDE, port), -1, -1
        if balancer:
            zone = next(iter(self.plan.balancers[self._balancer_at[balancer]].zones))
            yield self._elsewhere(balancer, zone, port), self._balancer_at[balancer], -1
        if target.host:
            known = self._name_at.get(plain_host(target.host), -1)
            zone = self._zone_of_name(known) if known >= 0 else OUTSIDE
            yield self._elsewhere(target.host, zone, port), -1, known

    def _zone_of_name(self, name: int) -> str:
        """Where a name is shown that stands for a target: with the first balancer that it names."""
        for answer in self.plan.names[name].answers:
            if answer.balancer:
                return next(iter(self.plan.balancers[self._balancer_at[answer.balancer]].zones))
        return self.plan.regions[0].zones[0]

    def _elsewhere(self, name: str, zone: str, port: int) -> int:
        """A pseudo machine that answers on every port that it is asked on."""
        protocols = ("tcp", "udp")
        served = [{"port": port, "protocol": protocol, "pages": {"/": 200}} for protocol in protocols]
        made = Instance.model_validate({"name": "elsewhere", "zone": zone, "serves": served})
        self.instances.append(made.model_copy(update={"name": name}))
        return len(self.instances) - 1

    def machines(self, zone_at: dict[str, int]) -> Machines:
        """The machines as arrays."""
        instances = self.instances
        return Machines(
            names=tuple(instance.name for instance in instances),
            zone=_ints(zone_at[instance.zone] for instance in instances),
            capacity=_floats(instance.capacity_rps or np.inf for instance in instances),
            service_s=_floats(instance.service_ms / 1000 for instance in instances),
            queue_s=_floats(instance.queue_s for instance in instances),
            real=np.arange(len(instances)) < self.real,
        )

    def members(self, services: Services) -> Members:
        """The members as arrays."""
        speaks_udp = [protocol == "udp" for protocol in services.protocol]
        service_at = {
            (int(machine), int(port), udp): number
            for number, (machine, port, udp) in enumerate(zip(services.machine, services.port, speaks_udp, strict=True))
        }
        udp = [group.protocol == "udp" for group in self.plan.target_groups]
        rows = self.rows
        return Members(
            group=_ints(row.group for row in rows),
            machine=_ints(row.machine for row in rows),
            weight=_floats(row.weight for row in rows),
            place=_ints(row.place for row in rows),
            service=_ints(service_at.get((row.machine, row.port, udp[row.group]), -1) for row in rows),
            probe_service=_ints(service_at.get((row.machine, row.probe_port, False), -1) for row in rows),
            port=_ints(row.port for row in rows),
            probe_port=_ints(row.probe_port for row in rows),
            leads_on=np.array([row.balancer >= 0 or row.name >= 0 for row in rows], dtype=bool),
        )


def _levels(plan: Plan, names: NameBook) -> Ints:
    """How deep each balancer stands behind others: 0 where only clients ask it. Raises CannotRun when they go round."""
    depth = np.zeros(len(plan.balancers), dtype=np.int64)
    behind = onward_balancers(plan, names)
    for _ in plan.balancers:
        for balancer, others in enumerate(behind):
            for other in others:
                depth[other] = max(depth[other], depth[balancer] + 1)
    if len(depth) and depth.max() >= len(depth):
        deep = [plan.balancers[int(one)].name for one in np.flatnonzero(depth == depth.max())]
        where = pointer(("balancers", int(depth.argmax())))
        raise CannotRun([Problem(where, f"what stands behind {' and '.join(deep)} leads back to it")])
    return depth


def onward_balancers(plan: Plan, names: NameBook) -> list[set[int]]:
    """Which balancers stand directly behind each balancer, as targets of the groups that it uses."""
    balancer_at = {balancer.name: index for index, balancer in enumerate(plan.balancers)}
    groups = {group.name: group for group in plan.target_groups}
    pools = {pool.name: pool for pool in plan.pools}
    found: list[set[int]] = []
    for balancer in plan.balancers:
        used = {action.pool for action in _actions(balancer) if action.pool in pools}
        targets = [
            target
            for pool in used
            for tier in pools[pool or ""].tiers
            for name in tier.groups
            if name in groups
            for target in groups[name].targets
        ]
        found.append({leaf.balancer for target in targets for leaf in names.leaves_of_target(target, balancer_at)})
    return [{one for one in some if one >= 0} for some in found]


def _services(instances: list[Instance], paths: tuple[str, ...]) -> Services:
    rows = [(index, service) for index, instance in enumerate(instances) for service in instance.serves]
    known: dict[tuple[tuple[str, int], ...], list[int]] = {}
    status = []
    for _, service in rows:
        key = tuple(service.pages.items())
        if key not in known:
            known[key] = [page_status(service.pages, path) for path in paths]
        status.append(known[key])
    return Services(
        machine=_ints(index for index, _ in rows),
        port=_ints(service.port for _, service in rows),
        protocol=tuple(service.protocol for _, service in rows),
        pages=tuple(service.pages for _, service in rows),
        status=np.array(status, dtype=np.int64).reshape(len(rows), len(paths)),
    )


def _fronts(plan: Plan, zone_at: dict[str, int]) -> Fronts:
    rows = [(index, zone, balancer) for index, balancer in enumerate(plan.balancers) for zone in balancer.zones]
    return Fronts(
        balancer=_ints(index for index, _, _ in rows),
        zone=_ints(zone_at[zone] for _, zone, _ in rows),
        failover_s=_floats(balancer.front_failover_s for _, _, balancer in rows),
    )


def _actions(balancer: Balancer) -> Iterator[Action]:
    for listener in balancer.listeners:
        yield from (rule.do for rule in listener.rules)
        yield listener.otherwise


def _routes_and_pairs(
    plan: Plan, machines: Machines, members: Members, fronts: Fronts, zone_region: Ints
) -> tuple[Routes, Pairs]:
    pool_at = {pool.name: index for index, pool in enumerate(plan.pools)}
    group_at = {group.name: index for index, group in enumerate(plan.target_groups)}
    cells: dict[tuple[int, int], int] = {}
    routes: list[tuple[int, int]] = []
    choices: list[tuple[int, int, float, float, bool]] = []
    lanes: list[tuple[int, int, int]] = []
    used = [dict.fromkeys(a.pool for a in _actions(balancer) if a.pool) for balancer in plan.balancers]
    for front, balancer in enumerate(fronts.balancer):
        for pool_name in used[int(balancer)]:
            pool = plan.pools[pool_at[pool_name]]
            routes.append((front, pool_at[pool_name]))
            for number, tier in enumerate(pool.tiers):
                bound = tier.min_healthy
                choices.append(
                    (len(routes) - 1, number, bound.count or 0, bound.share or 0, tier.empty_group == "share-out")
                )
                for group_name, weight in tier.groups.items():
                    cell = cells.setdefault((front, group_at[group_name]), len(cells))
                    lanes.append((len(choices) - 1, cell, weight))
    choice_table = np.array(choices, dtype=np.float64).reshape(-1, 5)
    lane_table = np.array(lanes, dtype=np.int64).reshape(-1, 3)
    cell_table = _ints(cells).reshape(-1, 2)
    route_table = _ints(routes).reshape(-1, 2)
    made = Routes(
        cell_front=cell_table[:, 0],
        cell_group=cell_table[:, 1],
        route_front=route_table[:, 0],
        route_pool=route_table[:, 1],
        choice_route=choice_table[:, 0].astype(np.int64),
        choice_tier=choice_table[:, 1].astype(np.int64),
        choice_min_count=choice_table[:, 2],
        choice_min_share=choice_table[:, 3],
        choice_shares_out=choice_table[:, 4].astype(bool),
        lane_choice=lane_table[:, 0],
        lane_cell=lane_table[:, 1],
        lane_weight=lane_table[:, 2].astype(np.float64),
    )
    return made, _pairs(plan, machines, members, fronts, zone_region, cell_table)


def _pairs(plan: Plan, machines: Machines, members: Members, fronts: Fronts, zone_region: Ints, cells: Ints) -> Pairs:
    front_parts, member_parts, cell_parts = [_ints([])], [_ints([])], [_ints([])]
    of_group = [np.flatnonzero(members.group == index) for index in range(len(plan.target_groups))]
    for cell, (front, group) in enumerate(cells):
        candidates = of_group[int(group)]
        zones = machines.zone[members.machine[candidates]]
        reach = plan.target_groups[int(group)].reach
        # What leads on, or outside, is no place of its own: every front may use it.
        everywhere = ~machines.real[members.machine[candidates]]
        if reach == "zone":
            candidates = candidates[everywhere | (zones == fronts.zone[front])]
        elif reach != "any":
            candidates = candidates[everywhere | (zone_region[zones] == zone_region[fronts.zone[front]])]
        front_parts.append(np.full(len(candidates), front))
        member_parts.append(candidates)
        cell_parts.append(np.full(len(candidates), cell))
    front, member, cell_of = map(np.concatenate, (front_parts, member_parts, cell_parts))
    machine = members.machine[member]
    return Pairs(
        front=front,
        member=member,
        cell=cell_of,
        machine=machine,
        weight=members.weight[member],
        same_zone=(fronts.zone[front] == machines.zone[machine]) | members.leads_on[member],
    )


class _Asking:
    """Calls and entries while they are compiled."""

    def __init__(
        self, plan: Plan, names: NameBook, segments: Sequence[Segment], paths: tuple[str, ...],
        regions: Sequence[str], standing: _Standing, book: AddressBook,
    ) -> None:  # fmt: skip
        self.plan, self.names, self.segments, self.regions = plan, names, segments, regions
        self.standing, self.book = standing, book
        self._path_at = {path: column for column, path in enumerate(paths)}
        self._areas = {area.name: index for index, area in enumerate(plan.areas)}
        self._pool_at = {pool.name: index for index, pool in enumerate(plan.pools)}
        self._outcomes: dict[tuple[int, float, int, int, int, float], int] = {}
        self._rows: list[tuple[int, int, int, int, float, int, float, float]] = []
        self._trips = self._trips_s()
        self._trip_kind = {row: kind for kind, row in enumerate(dict.fromkeys(self._trips))}
        self._requests: list[Request] = []
        self._entries: list[tuple[int, ...]] = []
        self._by_source = any(
            group.balance == "source-hash" or group.affinity.by != "none" for group in plan.target_groups
        ) or any(seen_source(balancer) == "client" for balancer in plan.balancers)
        self._onward = [number for number, row in enumerate(standing.rows) if row.balancer >= 0 or row.name >= 0]
        # Affinity by source holds at layer 4 too, and there each call has connections of its own.
        at_4 = {action.pool for one in plan.balancers if one.layer == 4 for action in _actions(one) if action.pool}
        groups = {name for pool in plan.pools if pool.name in at_4 for tier in pool.tiers for name in tier.groups}
        self._sticks_at_4 = any(one.affinity.by == "source" and one.name in groups for one in plan.target_groups)
        # A session's target may take no connect, after which a key decides who comes next: each source has its own.
        self._goes_on_by_key = any(
            one.affinity.by != "none" and one.balance == "source-hash" and one.try_others for one in plan.target_groups
        )
        self.probe_calls: dict[int, int] = {}

    def compiled(self) -> tuple[Calls, Entries]:
        """All calls of clients, then the probes of names; and where they lead."""
        for number, segment in enumerate(self.segments):
            if segment.client < len(self.plan.clients):
                self._client_calls(number, segment)
        self._name_probes()
        self._onward_probes()
        table = np.array(self._entries, dtype=np.int64).reshape(-1, 12)
        return self._calls(), Entries(*(table[:, column] for column in range(12)))

    def _trips_s(self) -> list[tuple[float, ...]]:
        """Per area, and last for who is in none: the round trip to each region (s); inf where it is not known."""
        of_plan = {region.name for region in self.plan.regions}
        made = [
            tuple(area.latency_ms.get(region, np.inf if region in of_plan else 0.0) / 1000 for region in self.regions)
            for area in self.plan.areas
        ]
        return [*made, (0.0,) * len(self.regions)]

    def _client_calls(self, number: int, segment: Segment) -> None:
        client = self.plan.clients[segment.client]
        whole = sum(call.share for call in client.calls)
        area = self._areas.get(client.area or "", -1)
        for position, asked in enumerate(client.calls):
            request = request_for(asked.url, asked.method, asked.headers)
            share = asked.share / whole * segment.share
            call = self._add_call(
                segment.client, position, number, area, share, client.connect_timeout_s, request, client.timeout_s
            )
            name = self.names.index(request.host)
            if name is not None:
                # Who goes by an alias goes by the name behind it too; all askers are known before a network is shared.
                asker, *_ = [self.names.asker(one, area) for one in self.names.names_below(name)]
                self._leads(call, -1, name, asker, request, segment)
            else:
                leaf = self.names.leaf_of_address(request.host)
                self._leads(call, -1, len(self.plan.names), leaf, request, segment)

    def _name_probes(self) -> None:
        """A name's probe is a call from its area to the answer itself, judged by what it expects."""
        probes = {probe.name: index for index, probe in enumerate(self.plan.probes)}
        outsider = len(self.segments) - 1
        for number, entry in enumerate(self.plan.names):
            if entry.probe not in probes:
                continue
            judge = probes[entry.probe or ""]
            probe = self.plan.probes[judge]
            host = plain_host(probe.host or entry.name)
            for answer in range(len(entry.answers)):
                for area_name in entry.probed_from:
                    area = self._areas[area_name]
                    scheme = CONNECT if probe.protocol == "tcp" else probe.protocol
                    asked = Request(scheme, host, int(probe.port), probe.path)
                    call = self._add_call(
                        len(self.plan.clients), 0, outsider, area, 0.0, probe.timeout_s, asked, probe.timeout_s, judge
                    )
                    self.names.add_check(number, answer, area, call)
                    asker = self.names.asker(number, area, answer)
                    self._leads(call, -1, len(self.plan.names), asker, asked, self.segments[outsider])

    def _onward_probes(self) -> None:
        """The probe of a target that leads on is a call from the front to where it leads, judged by what it expects."""
        probes = {probe.name: index for index, probe in enumerate(self.plan.probes)}
        outsider = len(self.segments) - 1
        for member in self._onward:
            row = self.standing.rows[member]
            judge = probes.get(self.plan.target_groups[row.group].probe or "")
            if judge is None:
                continue
            probe = self.plan.probes[judge]
            scheme = CONNECT if probe.protocol == "tcp" else probe.protocol
            # Who asks a balancer or an address for no host meets no certificate that could fail to name it.
            named = self.plan.names[row.name].name if row.name >= 0 else ""
            host = plain_host(probe.host or named)
            asked = Request(scheme, host, row.probe_port, probe.path)
            call = self._add_call(
                len(self.plan.clients), 0, outsider, -1, 0.0, probe.timeout_s, asked, probe.timeout_s, judge
            )
            self.probe_calls[member] = call
            self._leads_from(call, member, asked, self.segments[outsider])

    def _add_call(
        self, client: int, position: int, segment: int, area: int, share: float, connect_s: float, request: Request,
        timeout_s: float, judge: int = CLIENTS_JUDGE,
    ) -> int:  # fmt: skip
        call = len(self._rows)
        own = self._onward or (self._by_source and client < len(self.plan.clients) and self._follows(client))
        who = call if own else segment if self._by_source else 0
        path = self._path_at[request.path] if request.scheme in ("http", "https") else NO_PATH
        key = (path, timeout_s, judge, who, self._trip_kind[self._trips[area]], connect_s)
        outcome = self._outcomes.setdefault(key, len(self._outcomes))
        self._rows.append((client, position, segment, area, share, outcome, connect_s, timeout_s))
        self._requests.append(request)
        return call

    def _follows(self, client: int) -> bool:
        """Whether calls of a client group are followed one by one: what they hold decides where they go again."""
        asks = self.plan.clients[client]
        return asks.retries > 0 or asks.tries_next_address or self._sticks_at_4 or self._goes_on_by_key

    def _leads(
        self, call: int, member: int, name: int, way: int | Leaf, request: Request, segment: Segment
    ) -> None:  # fmt: skip
        """Adds the entries of a request that may go to any leaf of an asker, or to the one leaf that there is, and of
        what stands behind them."""
        asker, leaves = (-1, (way,)) if isinstance(way, Leaf) else (way, self.names.leaves_for(self.names.askers[way]))
        if not leaves:
            nowhere = (-1, -1, -1, -1, -1, OTHERWISE, -1, CAUSES.index("blocked"), 0)
            self._entries.append((call, member, name, *nowhere))
        for place, leaf in enumerate(leaves):
            listener, rule, pool, cause, status = -1, OTHERWISE, -1, -1, 200
            if leaf.balancer >= 0:
                listener, rule, pool, cause, status = self._taken(
                    self.plan.balancers[leaf.balancer], request, segment if member < 0 else None
                )
            self._entries.append(
                (call, member, name, asker, place, leaf.balancer, leaf.front, listener, rule, pool, cause, status)
            )
            if pool >= 0:
                self._leads_on(call, leaf.balancer, pool, request, segment)

    def _leads_on(self, call: int, balancer: int, pool: int, request: Request, segment: Segment) -> None:
        groups = {name for tier in self.plan.pools[pool].tiers for name in tier.groups}
        for member in self._onward:
            row = self.standing.rows[member]
            if self.plan.target_groups[row.group].name not in groups:
                continue
            if any(entry[0] == call and entry[1] == member for entry in self._entries):
                continue
            scheme = request.scheme
            if self.plan.balancers[balancer].layer == 7:
                scheme = self.plan.target_groups[row.group].protocol
            self._leads_from(call, member, replace(request, scheme=scheme, port=row.port), segment)

    def _leads_from(self, call: int, member: int, request: Request, segment: Segment) -> None:
        """Adds the entries of a request that a target passes on."""
        row, area = self.standing.rows[member], int(self._rows[call][3])
        way = Leaf((), row.balancer, -1) if row.balancer >= 0 else self.names.asker(row.name, area)
        self._leads(call, member, row.name if row.name >= 0 else len(self.plan.names), way, request, segment)

    def _taken(self, balancer: Balancer, request: Request, segment: Segment | None) -> tuple[int, int, int, int, int]:
        """How a balancer takes a request: listener, rule, pool (-1: none), fixed cause and fixed status."""
        listener = listener_for(balancer, request)
        if listener is None:
            return -1, OTHERWISE, -1, CAUSES.index("refused"), 0
        chosen = balancer.listeners[listener]
        if not certificate_covers(self.plan, chosen.certificate, request.host, request.scheme):
            return listener, OTHERWISE, -1, CAUSES.index("refused"), 0
        rule = rule_for(chosen, request, segment.span if segment else None)
        action = chosen.otherwise if rule == OTHERWISE else chosen.rules[rule].do
        pool = self._pool_at[action.pool] if action.pool else -1
        return listener, rule, pool, _fixed_cause(action), _fixed_status(action)

    def _calls(self) -> Calls:
        rows = self._rows
        area = _ints(row[3] for row in rows)
        return Calls(
            client=_ints(row[0] for row in rows),
            number=_ints(row[1] for row in rows),
            segment=_ints(row[2] for row in rows),
            area=area,
            share=_floats(row[4] for row in rows),
            outcome=_ints(row[5] for row in rows),
            outcome_path=_ints(key[0] for key in self._outcomes),
            outcome_timeout_s=_floats(key[1] for key in self._outcomes),
            outcome_judge=_ints(key[2] for key in self._outcomes),
            outcome_who=_ints(key[3] for key in self._outcomes),
            outcome_trip=_ints(key[4] for key in self._outcomes),
            outcome_connect_s=_floats(key[5] for key in self._outcomes),
            connect_timeout_s=_floats(row[6] for row in rows),
            timeout_s=_floats(row[7] for row in rows),
            distance_s=np.array(self._trips, dtype=np.float64).reshape(len(self._trips), -1)[area],
            trips_s=_known(np.array(list(self._trip_kind), dtype=np.float64).reshape(len(self._trip_kind), -1)),
            requests=tuple(self._requests),
        )


def _known(trip_s: Floats) -> Floats:
    """Round trips (s) for what they add to the time of a call: nothing is made up for one that is not known."""
    return np.where(np.isfinite(trip_s), trip_s, 0.0)


def seen_source(balancer: Balancer) -> str:
    """Whom targets see as the source: the balancer (by default at layer 7), or the client (at layer 4)."""
    return balancer.source_seen or ("balancer" if balancer.layer == 7 else "client")


def certificate_covers(plan: Plan, name: str | None, host: str, scheme: str) -> bool:
    """Whether a listener's certificate, if it has one, names the host that a client asks for (RFC 6125)."""
    found = next((one for one in plan.certificates if one.name == name), None)
    asks = bool(host) and scheme in ("https", "tls")
    return found is None or not asks or any(covers_host(one, host) for one in found.hosts)


def _fixed_cause(action: Action) -> int:
    """The cause for which a request fails at the balancer itself; -1 when it does not."""
    return CAUSES.index("bad_status") if action.respond and action.respond.status >= 400 else -1


def _fixed_status(action: Action) -> int:
    """The status that the balancer itself answers; 0 when a pool does."""
    if action.redirect:
        return action.redirect.status
    return action.respond.status if action.respond else 0
