"""Where things stand: what shares a zone, a fault domain or a maintenance wave, and which networks meet."""

import ipaddress
from collections import Counter
from collections.abc import Callable, Iterator
from itertools import combinations

from northgate.plan.models.groups import TargetGroup
from northgate.plan.models.machines import Instance
from northgate.review.context import Context, place
from northgate.review.registry import Found, finding


@finding("networks-overlap", "stops")
def networks_overlap(context: Context) -> Iterator[Found]:
    """Two networks that are peers, or stand in one region, share addresses: a route to those leads to one of them."""
    networks = context.plan.networks
    for (_, one), (index, other) in combinations(enumerate(networks), 2):
        first, second = (ipaddress.ip_network(net.cidr, strict=False) for net in (one, other))
        meet = one.region == other.region or other.name in one.peers or one.name in other.peers
        if meet and first.version == second.version and first.overlaps(second):
            yield Found(
                place("networks", index, "cidr"), other.name,
                f"networks {one.name}, {first}, and {other.name}, {second}, overlap and can reach each other",
                "give one of them a range of its own",
            )  # fmt: skip


def _all_in_one(context: Context, mark: Callable[[Instance], object], called: str, remedy: str) -> Iterator[Found]:
    for index, group in context.used_groups:
        targets = context.targets(group)
        marks = {mark(target) for target in targets}
        if len(targets) > 1 and len(marks) == 1 and None not in marks and not _others(group):
            yield Found(
                place("target_groups", index, "targets"), group.name,
                f"all {len(targets)} targets of {group.name} are in {called} {marks.pop()}: its loss takes all of them",
                remedy,
            )  # fmt: skip


def _others(group: TargetGroup) -> bool:
    """Whether a group has targets that are no instances of the plan."""
    return any(target.address or target.host or target.balancer for target in group.targets)


@finding("one-zone", "risks")
def one_zone(context: Context) -> Iterator[Found]:
    """All targets of a group stand in one zone."""
    yield from _all_in_one(context, lambda one: one.zone, "zone", "put some of them into another zone")


@finding("one-fault-domain", "risks")
def one_fault_domain(context: Context) -> Iterator[Found]:
    """All targets of a group stand in one fault domain, such as a rack."""
    remedy = "put some of them into another fault domain"
    yield from _all_in_one(context, lambda one: one.fault_domain, "fault domain", remedy)


@finding("one-wave", "risks")
def one_wave(context: Context) -> Iterator[Found]:
    """All targets of a group are restarted in the same maintenance wave."""
    yield from _all_in_one(context, lambda one: one.maintenance_wave, "maintenance wave", "spread them over waves")


@finding("one-target", "risks")
def one_target(context: Context) -> Iterator[Found]:
    """A group has a single target, and is the last choice of a pool: nothing takes over from it."""
    for _, pool in context.used_pools:
        last = context.groups_of(pool, -1)
        targets = [target for group in last for target in context.targets(group)]
        if last and len(targets) == 1 and not any(_others(group) for group in last):
            index = context.groups[last[0].name][0]
            yield Found(
                place("target_groups", index, "targets"), last[0].name,
                f"{targets[0].name} alone is the last choice of pool {pool.name}: nothing takes over from it",
                "register another target",
            )  # fmt: skip


@finding("own-zone-empty", "stops")
def own_zone_empty(context: Context) -> Iterator[Found]:
    """Fronts may use targets of their own zone only, and in one of their zones there are none: what comes to that
    front has nowhere to go."""
    for doing in context.doings:
        for group in _first_choice(context, doing.action.pool):
            if group.reach != "zone" or not group.targets:
                continue
            zones = {target.zone for target in context.targets(group)}
            index = context.groups[group.name][0]
            for zone in doing.balancer.zones:
                if zone not in zones:
                    yield Found(
                        place("target_groups", index, "reach"), group.name,
                        f"the front of {doing.balancer.name} in {zone} may use targets of its own zone only, and "
                        f"{group.name} has none there",
                        "let fronts prefer their own zone, and use the others else",
                        ({"op": "add", "path": place("target_groups", index, "reach"), "value": "prefer-zone"},),
                    )  # fmt: skip


def _first_choice(context: Context, pool: str | None) -> list[TargetGroup]:
    return context.groups_of(context.pools[pool][1], 0) if pool in context.pools else []


@finding("floating-alone", "risks")
def floating_alone(context: Context) -> Iterator[Found]:
    """A floating address has one front only: nobody stands by to take it over."""
    for index, balancer in enumerate(context.plan.balancers):
        if balancer.address_kind == "floating" and len(balancer.zones) == 1:
            yield Found(
                place("balancers", index, "zones"), balancer.name,
                f"the address of {balancer.name} floats, and {next(iter(balancer.zones))} is its only zone: nobody "
                "takes it over",
                "give it a second zone",
            )  # fmt: skip


@finding("uneven-zones", "risks")
def uneven_zones(context: Context) -> Iterator[Found]:
    """Fronts keep to their own zone, each gets as much, and zones have unlike numbers of targets: those of the smallest
    zone carry a multiple of what the others do."""
    for doing in context.doings:
        for group in _first_choice(context, doing.action.pool):
            if group.reach not in ("zone", "prefer-zone"):
                continue
            counts = Counter(target.zone for target in context.targets(group) if target.zone in doing.balancer.zones)
            if counts and max(counts.values()) >= 1.5 * min(counts.values()):
                index = context.groups[group.name][0]
                said = ", ".join(f"{count} in {zone}" for zone, count in counts.items())
                yield Found(
                    place("target_groups", index, "reach"), group.name,
                    f"fronts of {doing.balancer.name} keep to their own zone, and {group.name} has {said}: a target of "
                    f"the smallest carries {max(counts.values()) / min(counts.values()):.2g} times as much",
                    "let every front use the whole region",
                    ({"op": "add", "path": place("target_groups", index, "reach"), "value": "region"},),
                )  # fmt: skip


@finding("standby-shares-fate", "risks")
def standby_shares_fate(context: Context) -> Iterator[Found]:
    """What is to take over stands, with all that it has, where all of what it takes over from stands: in the same zone
    or fault domain."""
    for index, pool in context.used_pools:
        for number in range(1, len(pool.tiers)):
            before = [one for group in context.groups_of(pool, number - 1) for one in context.targets(group)]
            after = [one for group in context.groups_of(pool, number) for one in context.targets(group)]
            for called, one, other in (
                ("zone", {each.zone for each in before}, {each.zone for each in after}),
                ("fault domain", {each.fault_domain for each in before}, {each.fault_domain for each in after}),
            ):
                if len(one) == 1 and one == other and None not in one:
                    yield Found(
                        place("pools", index, "tiers", number), pool.name,
                        f"choice {number + 1} of pool {pool.name} stands in {called} {next(iter(one))}, as all of "
                        f"choice {number} does: they are lost together",
                        f"put some of it into another {called}",
                    )  # fmt: skip
