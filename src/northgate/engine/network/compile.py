"""A plan compiled into the tables of a network."""

from typing import Any

from northgate.engine.matching import plain_host, request_for
from northgate.engine.network.calls import CallRows
from northgate.engine.network.names import NameBook
from northgate.engine.network.readiness import check_runnable
from northgate.engine.network.routes import fronts_of, levels_of, routes_and_pairs
from northgate.engine.network.sources import segments_of
from northgate.engine.network.tables import OUTSIDE, Network, ints
from northgate.engine.network.targets import TargetRows, services_of
from northgate.plan import Plan
from northgate.plan.addressing import AddressBook


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
    places = ints(zone_region)
    names = NameBook(plan, book)
    standing = TargetRows(plan, book)
    level = levels_of(plan, names)
    machines = standing.machines(zone_at)
    paths = _paths(plan)
    services = services_of(standing.instances, paths)
    members = standing.members(services)
    fronts = fronts_of(plan, zone_at)
    routes, pairs = routes_and_pairs(plan, machines, members, fronts, places)
    segments = segments_of(plan)
    draft = CallRows(plan, names, segments, paths, regions, standing, book)
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


def _paths(plan: Plan) -> tuple[str, ...]:
    """Every path that a call or probe asks, once each."""
    asked = [request_for(call.url).path for client in plan.clients for call in client.calls]
    return tuple(dict.fromkeys(asked + [probe.path for probe in plan.probes]))
