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
    call      one kind of request of a client group
    entry     one call and one rule of a balancer that takes it
"""

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np

from northgate.engine.readiness import check_runnable
from northgate.engine.routing import OTHERWISE, Request, listener_for, plain_host, request_for, rule_shares
from northgate.engine.types import Bools, Floats, Ints
from northgate.plan import Plan
from northgate.plan.balancers import Action, Balancer
from northgate.plan.drills import CAUSES
from northgate.plan.groups import Probe
from northgate.plan.machines import Instance
from northgate.plan.traffic import ClientGroup

NO_PAGE = 404


@dataclass(frozen=True)
class Machines:
    """Per machine: zone, capacity (requests/s, inf when no limit is known), idle service time and queue (s)."""

    names: tuple[str, ...]
    zone: Ints
    capacity: Floats
    service_s: Floats
    queue_s: Floats


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
    """Per member: group, machine, weight, place within its group, and service (-1: nothing serves its port)."""

    group: Ints
    machine: Ints
    weight: Floats
    place: Ints
    service: Ints
    probe_service: Ints


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
    """Per call: client group, share of its rate, path column, time budget (s) and outcome class.

    Calls of one outcome class fare alike at every target: they ask the same path and wait equally long.
    """

    client: Ints
    number: Ints
    share: Floats
    outcome: Ints
    outcome_path: Ints
    outcome_timeout_s: Floats
    round_trip_s: Floats


@dataclass(frozen=True)
class Entries:
    """Per entry: call, share of the call's requests, balancer, listener, rule (-1: otherwise), and what becomes of it.

    `name` is the name that was asked (one past the last: none, the address was).
    `pool` is -1 when no pool serves: then `fixed_cause` is the cause of failure, or -1 when the balancer answers well.
    """

    call: Ints
    share: Floats
    balancer: Ints
    listener: Ints
    rule: Ints
    pool: Ints
    fixed_cause: Ints
    name: Ints


@dataclass(frozen=True)
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

    @cached_property
    def entry_fronts(self) -> tuple[Ints, Ints, Ints]:
        """Rows (entry, front, route or -1): every front that may take an entry's requests."""
        route_of = {
            (int(front), int(pool)): number
            for number, (front, pool) in enumerate(zip(self.routes.route_front, self.routes.route_pool, strict=True))
        }
        rows = [
            (entry, int(front), route_of.get((int(front), int(pool)), -1))
            for entry, (balancer, pool) in enumerate(zip(self.entries.balancer, self.entries.pool, strict=True))
            for front in np.flatnonzero(self.fronts.balancer == balancer)
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
    def probe_timeout_s(self) -> Floats:
        """Per probed pair: how long its probe waits for an answer (s)."""
        waits = np.array([probe.timeout_s if probe else np.inf for probe in self.group_probes], dtype=np.float64)
        return waits[self.members.group[self.pairs.member[self.probed]]]

    @cached_property
    def pair_response_timeout_s(self) -> Floats:
        """Per pair: how long its balancer waits for the target's answer to begin (s)."""
        response = np.array([group.response_timeout_s for group in self.plan.target_groups], dtype=np.float64)
        return response[self.members.group[self.pairs.member]]

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


def compile_network(plan: Plan) -> Network:
    """Compiles a plan; raises CannotRun with places when it cannot be computed."""
    check_runnable(plan)
    zones = [zone for region in plan.regions for zone in region.zones]
    zone_at = {zone: position for position, zone in enumerate(zones)}
    zone_region = _ints([index for index, region in enumerate(plan.regions) for _ in region.zones])
    paths = _paths(plan)
    instances = plan.machines
    machines = _machines(instances, zone_at)
    services = _services(instances, paths)
    members = _members(plan, instances, services)
    fronts = _fronts(plan, zone_at)
    routes, pairs = _routes_and_pairs(plan, machines, members, fronts, zone_region)
    calls = _calls(plan, paths)
    return Network(
        plan=plan,
        zones=tuple(zones),
        zone_region=zone_region,
        regions=tuple(region.name for region in plan.regions),
        paths=paths,
        machines=machines,
        services=services,
        members=members,
        fronts=fronts,
        pairs=pairs,
        routes=routes,
        calls=calls,
        entries=_entries(plan, calls),
    )


def _ints(values: Iterable[Any]) -> Ints:
    return np.array(list(values), dtype=np.int64)


def _floats(values: Iterable[Any]) -> Floats:
    return np.array(list(values), dtype=np.float64)


def _paths(plan: Plan) -> tuple[str, ...]:
    """Every path that a call or probe asks, once each."""
    asked = [request_for(call.url).path for client in plan.clients for call in client.calls]
    return tuple(dict.fromkeys(asked + [probe.path for probe in plan.probes]))


def _machines(instances: list[Instance], zone_at: dict[str, int]) -> Machines:
    return Machines(
        names=tuple(instance.name for instance in instances),
        zone=_ints(zone_at[instance.zone] for instance in instances),
        capacity=_floats(instance.capacity_rps or np.inf for instance in instances),
        service_s=_floats(instance.service_ms / 1000 for instance in instances),
        queue_s=_floats(instance.queue_s for instance in instances),
    )


def page_status(pages: dict[str, int], path: str) -> int:
    """The status of a path: that of the longest page that begins it, 404 when there is none."""
    fitting = [page for page in pages if path.startswith(page)]
    return pages[max(fitting, key=len)] if fitting else NO_PAGE


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


def _members(plan: Plan, instances: list[Instance], services: Services) -> Members:
    service_at = {
        (int(machine), int(port)): number
        for number, (machine, port) in enumerate(zip(services.machine, services.port, strict=True))
        if services.protocol[number] != "udp"
    }
    machine_at = {instance.name: index for index, instance in enumerate(instances)}
    fleets = {fleet.name: fleet.instance_names() for fleet in plan.fleets}
    probes = {probe.name: probe for probe in plan.probes}
    rows = []
    for index, group in enumerate(plan.target_groups):
        place = 0
        probe = probes.get(group.probe or "")
        for target in group.targets:
            port = target.port or group.port
            probe_port = port if probe is None or probe.port == "same" else probe.port
            for name in fleets[target.fleet] if target.fleet else [target.instance or ""]:
                machine = machine_at[name]
                served, asked = service_at.get((machine, port), -1), service_at.get((machine, probe_port), -1)
                rows.append((index, machine, target.weight, place, served, asked))
                place += 1
    table = np.array(rows, dtype=np.float64).reshape(-1, 6)
    whole = table.astype(np.int64)
    return Members(whole[:, 0], whole[:, 1], table[:, 2], whole[:, 3], whole[:, 4], whole[:, 5])


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
        if reach == "zone":
            candidates = candidates[zones == fronts.zone[front]]
        elif reach != "any":
            candidates = candidates[zone_region[zones] == zone_region[fronts.zone[front]]]
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
        same_zone=fronts.zone[front] == machines.zone[machine],
    )


def _calls(plan: Plan, paths: tuple[str, ...]) -> Calls:
    path_at = {path: column for column, path in enumerate(paths)}
    regions = [region.name for region in plan.regions]
    areas = {area.name: area for area in plan.areas}
    outcomes: dict[tuple[int, float], int] = {}
    rows = []
    round_trips = []
    for index, client in enumerate(plan.clients):
        whole = sum(call.share for call in client.calls)
        area = areas.get(client.area or "")
        latency = [(area.latency_ms.get(region, 0) if area else 0) / 1000 for region in regions]
        for number, call in enumerate(client.calls):
            key = (path_at[request_for(call.url).path], client.timeout_s)
            rows.append((index, number, call.share / whole, outcomes.setdefault(key, len(outcomes))))
            round_trips.append(latency)
    return Calls(
        client=_ints(row[0] for row in rows),
        number=_ints(row[1] for row in rows),
        share=_floats(row[2] for row in rows),
        outcome=_ints(row[3] for row in rows),
        outcome_path=_ints(key[0] for key in outcomes),
        outcome_timeout_s=_floats(key[1] for key in outcomes),
        round_trip_s=np.array(round_trips, dtype=np.float64).reshape(len(rows), len(regions)),
    )


def _entries(plan: Plan, calls: Calls) -> Entries:
    rows: list[tuple[int, float, int, int, int, int, int, int]] = []
    for number, (client, position) in enumerate(zip(calls.client, calls.number, strict=True)):
        group = plan.clients[int(client)]
        call = group.calls[int(position)]
        request = request_for(call.url, call.method, call.headers)
        name, balancer = _answer_for(plan, request.host)
        if balancer < 0:
            rows.append((number, 1.0, -1, -1, OTHERWISE, -1, CAUSES.index("blocked"), name))
            continue
        rows += [
            (number, share, balancer, listener, rule, pool, cause, name)
            for share, listener, rule, pool, cause in _taken(plan, plan.balancers[balancer], request, group)
        ]
    table = np.array(rows, dtype=np.float64).reshape(-1, 8)
    whole = table.astype(np.int64)
    return Entries(
        call=whole[:, 0],
        share=table[:, 1],
        balancer=whole[:, 2],
        listener=whole[:, 3],
        rule=whole[:, 4],
        pool=whole[:, 5],
        fixed_cause=whole[:, 6],
        name=whole[:, 7],
    )


def _answer_for(plan: Plan, host: str) -> tuple[int, int]:
    """The name that a host asks (one past the last: it is an address) and the balancer it leads to (-1: none)."""
    balancer_at = {balancer.name: index for index, balancer in enumerate(plan.balancers)}
    for index, entry in enumerate(plan.names):
        if plain_host(entry.name) == host:
            answer = entry.answers[0].balancer if entry.answers else None
            return index, balancer_at[answer] if answer else -1
    owners = {address: index for index, balancer in enumerate(plan.balancers) for address in balancer.addresses}
    return len(plan.names), owners.get(host, -1)


def _taken(
    plan: Plan, balancer: Balancer, request: Request, client: ClientGroup
) -> list[tuple[float, int, int, int, int]]:
    """How a balancer takes a request: rows of share, listener, rule, pool (-1: none) and fixed cause (-1: none)."""
    listener = listener_for(balancer.listeners, request)
    if listener is None:
        return [(1.0, -1, OTHERWISE, -1, CAUSES.index("refused"))]
    pool_at = {pool.name: index for index, pool in enumerate(plan.pools)}
    rows = []
    for rule, share in rule_shares(balancer.listeners[listener], request, client):
        chosen = balancer.listeners[listener]
        action = chosen.otherwise if rule == OTHERWISE else chosen.rules[rule].do
        rows.append((share, listener, rule, pool_at[action.pool] if action.pool else -1, _fixed_cause(action)))
    return rows


def _fixed_cause(action: Action) -> int:
    """The cause for which a request fails at the balancer itself; -1 when it does not."""
    return CAUSES.index("bad_status") if action.respond and action.respond.status >= 400 else -1
