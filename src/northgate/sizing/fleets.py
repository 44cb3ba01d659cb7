"""How many instances a fleet needs, and in how many zones."""

from collections.abc import Callable, Iterator
from functools import cache

from msgspec import Struct

from northgate.engine.drill import Losing, Loss, undisturbed
from northgate.engine.network import compile_network
from northgate.engine.reports.losses import part_data
from northgate.plan import Plan
from northgate.plan.editing import patched
from northgate.plan.models.faults import Part
from northgate.plan.problems import pointer
from northgate.sizing.answers import Asked, Evidence, Patch, SizeAnswer, Survive, ZonesSize
from northgate.sizing.parts import lost_parts
from northgate.sizing.search import PLENTY, smallest, with_plenty

# Shares that are less apart than this are the same.
SAME = 1e-9
# With more and more instances, less than this share is as good as what they all come to in the end.
LITTLE = 1e-6


class _Worst(Struct, frozen=True):
    """The loss under which a fleet is busiest: how busy, and the largest share that any loss leaves unserved."""

    part: Part | None
    used: float
    unserved: float


WorstOf = Callable[[int], _Worst]


def size_of_fleet(plan: Plan, asked: Asked) -> Iterator[SizeAnswer]:
    """How many instances a fleet needs in each of its zones."""
    index = [fleet.name for fleet in plan.fleets].index(asked.name)
    fleet = plan.fleets[index]
    now, zones = fleet.count, list(fleet.zones)
    worst_of = _worst_of(plan, index, asked.survive)
    needed = _needed(worst_of, asked.bound, _may_fail(worst_of, now), now)
    count = now if needed is None else needed
    used, worst = _undisturbed(counting(plan, index, count), index), worst_of(count)
    patch = count_patch(plan, index, count) if count != now else []
    before, after = _per_zone(now, len(zones)), _per_zone(count, len(zones))
    for number, zone in enumerate(zones):
        yield SizeAnswer(
            fleet=fleet.name, zone=zone, now=before[number], needed=None if needed is None else after[number],
            utilisation=used, unserved=worst.unserved,
            evidence=Evidence(lost=part_data(worst.part) if worst.part else None, peak_utilisation=worst.used),
            patch=patch,
        )  # fmt: skip


def size_of_zones(plan: Plan, asked: Asked) -> Iterator[ZonesSize]:
    """Among how few zones a fleet survives, so that no more stays unserved than among all of them."""
    index = [fleet.name for fleet in plan.fleets].index(asked.name)
    fleet = plan.fleets[index]
    now, zones = fleet.count, list(fleet.zones.items())
    may_fail = _may_fail(_worst_of(plan, index, asked.survive), now)
    # In a single zone nobody is left when that is lost.
    for count in range(2 if asked.survive in ("zone", "region") else 1, len(zones) + 1):
        where = pointer(("fleets", index, "zones"))
        fewer: Patch = [{"op": "replace", "path": where, "value": dict(zones[:count])}]
        among = patched(plan, fewer)
        worst_of = _worst_of(among, index, asked.survive)
        if min(with_plenty(worst_of, now).unserved, worst_of(now).unserved) > may_fail + LITTLE:
            continue
        needed = _needed(worst_of, asked.bound, may_fail, now)
        if needed is not None:
            # Somebody stands in each of them.
            needed = max(needed, count)
            patch = [*fewer, *(count_patch(among, index, needed) if needed != now else [])]
            yield ZonesSize(
                fleet=fleet.name, now=len(zones), needed=count, instances_now=now, instances=needed,
                patch=patch if count < len(zones) else [],
            )  # fmt: skip
            return
    yield ZonesSize(fleet=fleet.name, now=len(zones), needed=None, instances_now=now, instances=None, patch=[])


def _needed(worst_of: WorstOf, below: float, may_fail: float, now: int) -> int | None:
    """The fewest instances with which a fleet stays below a utilisation, and no larger share unserved than may be."""

    def fits(count: int) -> bool:
        worst = worst_of(count)
        return worst.used < below and worst.unserved <= may_fail + SAME

    return smallest(fits, max(now, 1))


def _may_fail(worst_of: WorstOf, now: int) -> float:
    """The share that stays unserved however many instances there are. Where more of them always leave less, as where
    nobody notices which of them is lost, no number is as good as more: what stays unserved now."""
    plenty = with_plenty(worst_of, now).unserved
    if plenty <= LITTLE:
        return plenty
    more = with_plenty(worst_of, now, 2 * PLENTY).unserved
    return max(plenty, more) if abs(plenty - more) <= LITTLE else worst_of(now).unserved


def _per_zone(count: int, zones: int) -> list[int]:
    each, rest = divmod(count, zones)
    return [each + (number < rest) for number in range(zones)]


def _worst_of(plan: Plan, index: int, survive: Survive) -> WorstOf:
    """The worst loss by the number of instances; raises CannotRun and PlanError where there cannot be so many."""
    return cache(lambda count: _worst(counting(plan, index, count), index, survive))


def _worst(plan: Plan, index: int, survive: Survive) -> _Worst:
    network = compile_network(plan)
    mine = {*plan.fleets[index].instance_names()}
    found = _Worst(None, 0.0, 0.0)
    losing = Losing(network)
    for part in lost_parts(network, survive):
        loss = losing.lose([part], to_cascade=True)
        if loss.run.cascade is not None:
            # Whatever it settles at, this is not survived.
            return _Worst(part, max(_busiest(loss, mine), 1.0), 1.0)
        used, unserved = _busiest(loss, mine), max(found.unserved, loss.unserved_share)
        found = _Worst(part, used, unserved) if used > found.used else _Worst(found.part, found.used, unserved)
    return found


def _busiest(loss: Loss, machines: set[str]) -> float:
    """The utilisation of the busiest of these machines once a loss has settled, or while it does not."""
    frames = loss.run.keyframes[-1:] if loss.settled else loss.run.keyframes
    names = loss.run.network.machines.names
    return max((float(frame.utilisation[at]) for frame in frames for at, name in enumerate(names) if name in machines),
               default=0.0)  # fmt: skip


def _undisturbed(plan: Plan, index: int) -> float:
    flow, mine = undisturbed(compile_network(plan)), set(plan.fleets[index].instance_names())
    names = flow.network.machines.names
    return max((float(flow.queue.utilisation[at]) for at, name in enumerate(names) if name in mine), default=0.0)


def counting(plan: Plan, index: int, count: int) -> Plan:
    """The plan with so many instances in a fleet; raises PlanError where there cannot be so many."""
    return patched(plan, count_patch(plan, index, count))


def count_patch(plan: Plan, index: int, count: int) -> Patch:
    """The edit by which a fleet has so many instances."""
    where, scale = pointer(("fleets", index)), plan.fleets[index].scale
    patch: Patch = [{"op": "replace", "path": f"{where}/count", "value": count}]
    if scale is not None:
        patch.append({"op": "replace", "path": f"{where}/scale/min", "value": count})
        patch.append({"op": "replace", "path": f"{where}/scale/max", "value": max(count, scale.max)})
    return patch
