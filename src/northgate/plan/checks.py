"""What contradicts itself in a plan, or cannot work as it is meant: told with its place, while a draft may still be on
its way to what it is to be."""

import ipaddress
from collections.abc import Callable, Iterable, Iterator, Sequence

from northgate.plan.models.balancers import Balancer
from northgate.plan.models.document import Plan
from northgate.plan.models.machines import Fleet
from northgate.plan.models.types import PlanModel
from northgate.plan.problems import Location, Problem, did_you_mean, pointer

ENCRYPTED = ("https", "tls")


def contradictions(plan: Plan) -> list[Problem]:
    """Everything of this kind, by kind in document order."""
    return [problem for check in CHECKS.values() for problem in check(plan)]


def _ports_taken_twice(plan: Plan) -> Iterator[Problem]:
    for index, balancer in enumerate(plan.balancers):
        first: dict[tuple[int, bool], str] = {}
        for position, listener in enumerate(balancer.listeners):
            taken = first.setdefault((listener.port, listener.protocol == "udp"), listener.name)
            if taken != listener.name:
                yield Problem(
                    pointer(("balancers", index, "listeners", position, "port")),
                    f"listeners {taken} and {listener.name} of {balancer.name} both take port {listener.port}: "
                    f"{listener.name} never gets a request",
                )


def _without_certificate(plan: Plan) -> Iterator[Problem]:
    for index, balancer in enumerate(plan.balancers):
        for position, listener in enumerate(balancer.listeners):
            if listener.protocol in ENCRYPTED and listener.certificate is None:
                yield Problem(
                    pointer(("balancers", index, "listeners", position, "certificate")),
                    f"listener {listener.name} of {balancer.name} speaks {listener.protocol} without a certificate",
                )


def _subnets_astray(plan: Plan) -> Iterator[Problem]:
    """Subnets that leave their network, or overlap."""
    for index, network in enumerate(plan.networks):
        whole = ipaddress.ip_network(network.cidr, strict=False)
        before: list[tuple[str, ipaddress.IPv4Network | ipaddress.IPv6Network]] = []
        for position, subnet in enumerate(network.subnets):
            where = pointer(("networks", index, "subnets", position, "cidr"))
            part = ipaddress.ip_network(subnet.cidr, strict=False)
            if part.version != whole.version or not part.subnet_of(whole):  # type: ignore[arg-type]
                yield Problem(where, f"{subnet.name}, {part}, leaves its network {network.name}, {whole}")
            for name, other in before:
                if part.overlaps(other):
                    yield Problem(where, f"{subnet.name}, {part}, overlaps {name}, {other}")
            before.append((subnet.name, part))


def _addresses_given_twice(plan: Plan) -> Iterator[Problem]:
    given: list[tuple[str, str, Location]] = []
    given += [
        (address, one.name, ("instances", index, field))
        for index, one in enumerate(plan.instances)
        for field, address in (("address", one.address), ("public_address", one.public_address))
        if address
    ]
    given += [
        (address, one.name, ("balancers", index, "addresses", position))
        for index, one in enumerate(plan.balancers)
        for position, address in enumerate(one.addresses)
    ]
    first: dict[str, str] = {}
    for address, name, location in given:
        owner = first.setdefault(str(ipaddress.ip_address(address)), name)
        if owner != name:
            yield Problem(pointer(location), f"{owner} and {name} both have the address {address}")


def _subnets_elsewhere(plan: Plan) -> Iterator[Problem]:
    """Things in a zone whose subnet is in another, or in another region."""
    subnets = {one.name: (network, one) for network in plan.networks for one in network.subnets}
    regions = {zone: region.name for region in plan.regions for zone in region.zones}
    for what, zone, subnet, location in _placed(plan):
        if subnet not in subnets or zone not in regions:
            continue
        network, found = subnets[subnet]
        if network.region != regions[zone]:
            yield Problem(pointer(location), f"{what} in {zone} has the subnet {subnet}, which is in {network.region}")
        elif found.zone not in (None, zone):
            yield Problem(pointer(location), f"{what} in {zone} has the subnet {subnet}, which is in {found.zone}")


def _placed(plan: Plan) -> Iterator[tuple[str, str, str | None, Location]]:
    """What stands in a zone with a subnet: (what, zone, subnet, where that is said)."""
    for index, one in enumerate(plan.instances):
        yield one.name, one.zone, one.subnet, ("instances", index, "subnet")
    spread: dict[str, Sequence[Fleet | Balancer]] = {"fleets": plan.fleets, "balancers": plan.balancers}
    for field, items in spread.items():
        for index, item in enumerate(items):
            for zone, subnet in item.zones.items():
                yield item.name, zone, subnet, (field, index, "zones", zone)


def _addresses_outside_their_subnet(plan: Plan) -> Iterator[Problem]:
    ranges = {one.name: one.cidr for network in plan.networks for one in network.subnets}
    for index, one in enumerate(plan.instances):
        cidr = ranges.get(one.subnet or "")
        if one.address and cidr and ipaddress.ip_address(one.address) not in ipaddress.ip_network(cidr, strict=False):
            where = pointer(("instances", index, "address"))
            yield Problem(where, f"{one.address} of {one.name} is not in its subnet {one.subnet}, {cidr}")


def _names_alike(plan: Plan) -> Iterator[Problem]:
    first: dict[str, str] = {}
    for index, entry in enumerate(plan.names):
        other = first.setdefault(entry.name.lower().rstrip("."), entry.name)
        if other != entry.name:
            yield Problem(
                pointer(("names", index, "name")), f"{entry.name} and {other} are one name: case and a final dot differ"
            )
    for host, location in _hosts(plan):
        other = first.setdefault(host.lower().rstrip("."), host)
        if other != host and not any(entry.name == other for entry in plan.names):
            yield Problem(pointer(location), f"{host} and {other} are one host: case and a final dot differ")


def _hosts(plan: Plan) -> Iterator[tuple[str, Location]]:
    """Hosts that are targets or answers, and where that is said."""
    for index, group in enumerate(plan.target_groups):
        for position, target in enumerate(group.targets):
            if target.host:
                yield target.host, ("target_groups", index, "targets", position, "host")
    for index, entry in enumerate(plan.names):
        for position, answer in enumerate(entry.answers):
            if answer.host:
                yield answer.host, ("names", index, "answers", position, "host")


def _replacing_nothing(plan: Plan) -> Iterator[Problem]:
    known = sorted(_replaceable())
    for index, entry in enumerate(plan.platform.replace_only):
        if entry not in known:
            yield Problem(
                pointer(("platform", "replace_only", index)),
                f"no field is called {entry!r}{did_you_mean(entry, known)}",
            )


def _replaceable() -> Iterable[str]:
    """Every field that can be named in `platform.replace_only`: `balancer.exposure`, `listener.port`."""
    from northgate.plan.models import balancers, groups, machines, places, traffic

    kinds: dict[str, type[PlanModel]] = {
        "region": places.Region, "area": places.Area, "network": places.Network, "firewall": places.Firewall,
        "instance": machines.Instance, "fleet": machines.Fleet, "probe": groups.Probe,
        "target_group": groups.TargetGroup, "pool": groups.Pool, "certificate": balancers.Certificate,
        "balancer": balancers.Balancer, "listener": balancers.Listener, "name": traffic.DnsEntry,
        "client": traffic.ClientGroup,
    }  # fmt: skip
    return (f"{kind}.{field}" for kind, model in kinds.items() for field in model.model_fields)


def _counts_beyond_their_scale(plan: Plan) -> Iterator[Problem]:
    for index, fleet in enumerate(plan.fleets):
        if fleet.scale and not fleet.scale.min <= fleet.count <= fleet.scale.max:
            yield Problem(
                pointer(("fleets", index, "count")),
                f"fleet {fleet.name} counts {fleet.count}, but scales from {fleet.scale.min} to {fleet.scale.max}",
            )


def _cookies_unseen(plan: Plan) -> Iterator[Problem]:
    """Sessions by cookie behind balancers of layer 4 alone, which see none."""
    layers: dict[str, set[int]] = {}
    pools = {pool.name: {group for tier in pool.tiers for group in tier.groups} for pool in plan.pools}
    for balancer in plan.balancers:
        for listener in balancer.listeners:
            for action in (*(rule.do for rule in listener.rules), listener.otherwise):
                for name in pools.get(action.pool or "", ()):
                    layers.setdefault(name, set()).add(balancer.layer)
    for index, group in enumerate(plan.target_groups):
        if group.affinity.by == "cookie" and layers.get(group.name) == {4}:
            yield Problem(
                pointer(("target_groups", index, "affinity", "by")),
                f"group {group.name} keeps sessions by cookie, which its balancers, at layer 4, never see: by source "
                "they could",
            )


# By what each is told as (`northgate.review`).
CHECKS: dict[str, Callable[[Plan], Iterable[Problem]]] = {
    "port-twice": _ports_taken_twice,
    "certificate-missing": _without_certificate,
    "subnet-astray": _subnets_astray,
    "address-twice": _addresses_given_twice,
    "subnet-elsewhere": _subnets_elsewhere,
    "address-outside-subnet": _addresses_outside_their_subnet,
    "names-alike": _names_alike,
    "replaces-nothing": _replacing_nothing,
    "count-beyond-scale": _counts_beyond_their_scale,
    "cookie-unseen": _cookies_unseen,
}
