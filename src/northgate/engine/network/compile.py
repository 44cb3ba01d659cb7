"""A plan compiled into the tables of a network, with places for what autoscalers may ever launch."""

from collections.abc import Iterator, Mapping, Sequence
from types import MappingProxyType
from typing import Any

from northgate.engine.base import Ints, columns, ints
from northgate.engine.matching import plain_host, request_for
from northgate.engine.network.calls import CallRows
from northgate.engine.network.kept import Keeping
from northgate.engine.network.names import NameBook
from northgate.engine.network.own_addresses import with_own_addresses
from northgate.engine.network.pairs import cells_and_pairs, probed_of
from northgate.engine.network.readiness import check_runnable
from northgate.engine.network.routes import balancers_of, fronts_of, groups_of, ways_of
from northgate.engine.network.sources import segments_of
from northgate.engine.network.tables import Arrivals, Entries, Fronts, Network, Routes
from northgate.engine.network.targets import TargetRows, outside_of, services_of
from northgate.plan import Plan
from northgate.plan.models.addressing import AddressBook
from northgate.plan.models.groups import Target
from northgate.plan.models.machines import Fleet, Instance
from northgate.plan.models.traffic import Answer


def compile_network(
    plan: Plan, spares: frozenset[str] = frozenset(), emptied: frozenset[str] = frozenset(), *, checked: bool = False
) -> Network:  # fmt: skip
    """Compiles a plan; raises CannotRun with places when it cannot be computed, which is looked at first unless it has
    been (`checked`). `spares`: instances that are not there yet; `emptied`: names that may be left without answer."""
    if not checked:
        check_runnable(plan)
    plan = with_own_addresses(plan)
    book = AddressBook(plan)
    zones, regions, zone_region = _places(plan, book)
    zone_at, segments = {zone: position for position, zone in enumerate(zones)}, segments_of(plan)
    paths, names, targets = _paths(plan), NameBook(plan, book, emptied), TargetRows(plan, book)
    machines = targets.machines(zone_at, spares)
    services = services_of(targets.instances, paths)
    members, groups = targets.members(services), groups_of(plan)
    balancers, fronts = balancers_of(plan, names), fronts_of(plan, zone_at)
    ways = ways_of(plan, fronts)
    draft = CallRows(plan, names, segments, paths, regions, targets)
    calls, entries = draft.compiled()
    arrivals = _arrivals(entries, fronts, ways.routes)
    cells, pairs = cells_and_pairs(
        plan, ways, machines, members, groups, balancers, fronts, entries, zone_region, len(calls.outcome_timeout_s)
    )  # fmt: skip
    kept = Keeping(plan, segments, fronts, cells, ways.weighted, calls, entries, arrivals).compiled()
    return Network(
        plan=plan,
        zones=zones,
        zone_region=zone_region,
        regions=regions,
        paths=paths,
        machines=machines,
        services=services,
        groups=groups,
        members=members,
        balancers=balancers,
        fronts=fronts,
        cells=cells,
        pairs=pairs,
        probed=probed_of(groups, pairs, draft.probe_calls),
        routes=ways.routes,
        tiers=ways.tiers,
        weighted=ways.weighted,
        calls=calls,
        entries=entries,
        arrivals=arrivals,
        kept=kept,
        segments=segments,
        names=names,
        book=book,
    )


def _places(plan: Plan, book: AddressBook) -> tuple[tuple[str, ...], tuple[str, ...], Ints]:
    """Zones, regions, and the region of each zone; one more of each where something leads outside the plan."""
    zones = [zone for region in plan.regions for zone in region.zones]
    regions = [region.name for region in plan.regions]
    zone_region = [index for index, region in enumerate(plan.regions) for _ in region.zones]
    if _leads_outside(plan, book):
        outside = outside_of(plan)
        zones, regions, zone_region = [*zones, outside], [*regions, outside], [*zone_region, len(regions)]
    return tuple(zones), tuple(regions), ints(zone_region)


def _arrivals(entries: Entries, fronts: Fronts, routes: Routes) -> Arrivals:
    """Every front that may take an entry's requests."""
    route_of = {
        (int(front), int(pool)): number
        for number, (front, pool) in enumerate(zip(routes.front, routes.pool, strict=True))
    }
    of_balancer: dict[int, list[int]] = {}
    for front, balancer in enumerate(fronts.balancer.tolist()):
        of_balancer.setdefault(balancer, []).append(front)
    ways = zip(entries.balancer.tolist(), entries.front.tolist(), entries.pool.tolist(), strict=True)
    rows = [
        (entry, front, route_of.get((front, pool), -1))
        for entry, (balancer, only, pool) in enumerate(ways)
        for front in of_balancer.get(balancer, ())
        if only in (-1, front)
    ]
    return Arrivals(*columns(ints(rows).reshape(-1, 3)))


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


def _paths(plan: Plan) -> tuple[str, ...]:
    """Every path that a call or probe asks, once each."""
    asked = [request_for(call.url).path for client in plan.clients for call in client.calls]
    return tuple(dict.fromkeys(asked + [probe.path for probe in plan.probes]))


def roomy(
    network: Network, most: Mapping[str, int] = MappingProxyType({}),
    answers: Mapping[str, Sequence[Answer]] = MappingProxyType({}), emptied: frozenset[str] = frozenset(),
) -> Network:  # fmt: skip
    """The network with places for every instance that its autoscalers may ever launch, for so many (`most`) as are
    launched by hand, by fleet, for these more answers by name, and for none of some names (`emptied`); itself when
    there are none of all these."""
    plan = network.plan
    room = {fleet.name: _room(fleet, most) for fleet in plan.fleets if fleet.scale or fleet.name in most}
    if not room and not answers and not emptied:
        return network
    taken = {one.name for one in plan.machines}
    spares = {fleet.name: list(_spares(fleet, taken, room[fleet.name])) for fleet in plan.fleets if fleet.name in room}
    groups = [
        group.model_copy(update={"targets": [one for target in group.targets for one in _with_spares(target, spares)]})
        for group in plan.target_groups
    ]
    instances = [*plan.instances, *(one for some in spares.values() for one in some)]
    fields = {name: getattr(plan, name) for name in type(plan).model_fields}
    names = [
        entry.model_copy(update={"answers": [*entry.answers, *answers.get(entry.name, ())]}) for entry in plan.names
    ]
    more = {"instances": instances, "target_groups": groups, "names": names}
    roomier = type(plan).model_construct(**(fields | more))
    return compile_network(roomier, frozenset(one.name for some in spares.values() for one in some), emptied)


def _room(fleet: Fleet, most: Mapping[str, int]) -> int:
    """How many instances a fleet may have in one zone; as many again where lost ones are replaced."""
    scaled = fleet.scale.max * (2 if fleet.scale.replaces_lost else 1) if fleet.scale else 0
    return max(scaled, most.get(fleet.name, 0))


def _spares(fleet: Fleet, taken: set[str], room: int) -> Iterator[Instance]:
    """Places in every zone for as many as the fleet may ever have there, numbered from zone to zone in turn; numbers
    that other instances' names have are passed over."""
    zones = list(fleet.zones.items())
    begun = [one.zone for one in fleet.instances()]
    template = {field: getattr(fleet.instance, field) for field in type(fleet.instance).model_fields}
    for round_number in range(max(room - begun.count(zone) for zone, _ in zones)):
        for position, (zone, subnet) in enumerate(zones):
            if round_number < room - begun.count(zone):
                number = fleet.count + round_number * len(zones) + position + 1
                while f"{fleet.name}-{number}" in taken:
                    number += room * len(zones)
                name = f"{fleet.name}-{number}"
                yield Instance.model_construct(name=name, zone=zone, subnet=subnet, address=None, **template)


def _with_spares(target: Target, spares: dict[str, list[Instance]]) -> list[Target]:
    more = spares.get(target.fleet or "", [])
    return [target, *(target.model_copy(update={"fleet": None, "instance": one.name}) for one in more)]
