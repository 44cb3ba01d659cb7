"""The questions turned round: how much is enough? Answered by search over the engine, each answer with its evidence and
the edit that adopts it.

What is asked for grows or shrinks with one number alone (more instances: less utilisation; a longer interval: more
failures), so that the edge is found by halving.
"""

from collections.abc import Callable, Iterator, Sequence
from typing import Any, Literal, TypeVar

from msgspec import Struct

from northgate.engine.base import CannotRun
from northgate.engine.drill import Losing, Loss, run_drill, undisturbed
from northgate.engine.network import Network, check_runnable, compile_network
from northgate.engine.reports import AnswerModel
from northgate.engine.reports.losses import alike, part_data
from northgate.plan import Plan
from northgate.plan.editing import patched, with_users_gone
from northgate.plan.models.drills import Drill, Step, Surge
from northgate.plan.models.faults import Part
from northgate.plan.problems import PlanError, pointer
from northgate.work import Told, as_it_is, spread, untold

Survive = Literal["zone", "region", "instance", "fault_domain"]
SURVIVED: tuple[Survive, ...] = ("zone", "region", "instance", "fault_domain")
# Nobody looks for more instances than this, or for intervals and TTLs longer than this (s).
MOST, LONGEST_S = 10_000, 3600.0
# Seconds are found to this.
FINE_S = 0.5
# So many times as many instances as now show what stays unserved however many there are.
PLENTY = 4
# A surge is absorbed when no more than this fails for want of capacity, beyond what fails with plenty (requests).
MISSED = 0.5

# What is raised where there is no such plan, or it cannot be run.
NOT_RUN = (CannotRun, PlanError)

Patch = list[dict[str, Any]]
Found = TypeVar("Found")


class Evidence(AnswerModel):
    """The loss that decides: what is lost, and the busiest of these targets once it has settled."""

    lost: dict[str, Any] | None
    peak_utilisation: float


class SizeAnswer(AnswerModel):
    """How many instances of a fleet a zone has and needs; with that many, how busy they are without a loss, and what
    decides. `needed` is None where no number is enough."""

    fleet: str
    zone: str
    now: int
    needed: int | None
    utilisation: float
    evidence: Evidence
    patch: Patch


class ZonesSize(AnswerModel):
    """The fewest zones among which a fleet, with as many instances in each as it needs there, survives the loss; how
    many it has in all now, and would have then. `needed` is None where no number of its zones is enough."""

    fleet: str
    now: int
    needed: int | None
    instances_now: int
    instances: int | None
    patch: Patch


class ProbeSize(AnswerModel):
    """The longest interval of a probe under which no loss costs more than is allowed, and after how many fails it then
    decides (as now, or fewer where that is needed); what the costliest loss comes to. `interval_s` is None where no
    interval is short enough; `decides` is False where the costliest loss costs as much however short it is."""

    probe: str
    interval_s: float | None
    unhealthy_after: int
    failed: float
    decides: bool
    evidence: dict[str, Any] | None
    patch: Patch


class TtlSize(AnswerModel):
    """The longest TTL of a name under which no loss costs more than is allowed; None where none is short enough.
    `decides`: whether the costliest loss costs less with a shorter one."""

    name: str
    ttl_s: float | None
    failed: float
    decides: bool
    evidence: dict[str, Any] | None
    patch: Patch


class MinimumSize(AnswerModel):
    """The smallest minimum of an autoscaled fleet with which a surge of all clients overloads nobody: what fails for
    want of capacity with as many as now, and with so many. None where no number is enough."""

    fleet: str
    now: int
    needed: int | None
    failed_now: float
    failed: float
    patch: Patch


Answer = SizeAnswer | ZonesSize | ProbeSize | TtlSize | MinimumSize


class SizingAnswer(AnswerModel):
    """How much is enough."""

    sizes: list[SizeAnswer]
    zones: list[ZonesSize]
    probes: list[ProbeSize]
    ttls: list[TtlSize]
    minimums: list[MinimumSize]


class Asked(Struct, frozen=True):
    """One question: of which fleet, probe or name; what is to be survived, and within which bound."""

    kind: Literal["fleet", "zones", "probe", "name", "minimum"]
    name: str
    survive: Survive
    bound: float


def sizing(
    plan: Plan, survive: Survive, below: float | None, failed_below: float | None, surge: float | None = None,
    told: Told = untold,
) -> SizingAnswer:  # fmt: skip
    """Every fleet below a utilisation, and every probe and TTL below a number of failed requests, after any one loss of
    a kind; every autoscaled fleet under a surge of all clients by a factor; raises CannotRun."""
    check_runnable(plan)
    asked: list[Asked] = []
    if below is not None:
        fleets = _fleets_in_use(plan)
        asked += [Asked("fleet", fleet, survive, below) for fleet in fleets]
        asked += [Asked("zones", fleet, survive, below) for fleet in fleets]
    if failed_below is not None:
        probes = {group.probe for group in plan.target_groups if group.probe}
        asked += [Asked("probe", probe.name, survive, failed_below) for probe in plan.probes if probe.name in probes]
        asked += [
            Asked("name", name.name, survive, failed_below)
            for name in plan.names
            if name.probe and len(name.answers) > 1
        ]
    if surge is not None:
        scaled = {fleet.name for fleet in plan.fleets if fleet.scale}
        asked += [Asked("minimum", fleet, survive, surge) for fleet in _fleets_in_use(plan) if fleet in scaled]
    answers = [one for some in spread(answer_one, as_it_is, plan, asked, told) for one in some]
    return SizingAnswer(
        sizes=[one for one in answers if isinstance(one, SizeAnswer)],
        zones=[one for one in answers if isinstance(one, ZonesSize)],
        probes=[one for one in answers if isinstance(one, ProbeSize)],
        ttls=[one for one in answers if isinstance(one, TtlSize)],
        minimums=[one for one in answers if isinstance(one, MinimumSize)],
    )


def answer_one(plan: Plan, asked: Asked) -> Sequence[Answer]:
    """One question answered; a task of `work.spread`."""
    # A drill that names an instance does not say that it is needed; where it goes, so do the steps that name it.
    undrilled = plan.model_copy(update={"drills": []})
    answers = list(ANSWERS[asked.kind](undrilled, asked))
    patches = [with_users_gone(plan, one.patch) if one.patch else one.patch for one in answers]
    return [one.model_copy(update={"patch": patch}) for one, patch in zip(answers, patches, strict=True)]


def _fleets_in_use(plan: Plan) -> list[str]:
    targets = [target for group in plan.target_groups for target in group.targets]
    used, tags = {target.fleet for target in targets}, {target.tagged for target in targets}
    return [one.name for one in plan.fleets if one.name in used or tags & set(one.instance.tags)]


def _lost(network: Network, survive: Survive) -> list[Part]:
    """One part of every class that may be lost."""
    return [one.part for one in alike(network) if one.kind == survive]


# Fleets


def _size_of_fleet(plan: Plan, asked: Asked) -> Iterator[SizeAnswer]:
    index = [fleet.name for fleet in plan.fleets].index(asked.name)
    fleet = plan.fleets[index]
    now, zones = fleet.count, list(fleet.zones)

    def worst_of(count: int) -> _Worst:
        return _worst(_counting(plan, index, count), index, asked.survive)

    plenty = _with_plenty(worst_of, now)

    def fits(count: int) -> bool:
        worst = worst_of(count)
        return worst.used < asked.bound and worst.unserved <= plenty.unserved + 1e-9

    needed = _smallest(fits, max(now, 1))
    counted = _counting(plan, index, needed if needed is not None else now)
    worst = worst_of(needed if needed is not None else now)
    patch = _count_patch(plan, index, needed) if needed not in (None, now) else []
    before, after = _per_zone(now, len(zones)), _per_zone(needed or 0, len(zones))
    for number, zone in enumerate(zones):
        yield SizeAnswer(
            fleet=fleet.name, zone=zone, now=before[number], needed=None if needed is None else after[number],
            utilisation=_undisturbed(counted, index),
            evidence=Evidence(lost=part_data(worst.part) if worst.part else None, peak_utilisation=worst.used),
            patch=patch,
        )  # fmt: skip


def _size_of_zones(plan: Plan, asked: Asked) -> Iterator[ZonesSize]:
    index = [fleet.name for fleet in plan.fleets].index(asked.name)
    fleet = plan.fleets[index]
    zones = list(fleet.zones.items())
    # In a single zone nobody is left when that is lost.
    fewest = 2 if asked.survive in ("zone", "region") else 1
    for count in range(fewest, len(zones) + 1):
        where = pointer(("fleets", index, "zones"))
        fewer: Patch = [{"op": "replace", "path": where, "value": dict(zones[:count])}]
        sized = list(_size_of_fleet(patched(plan, fewer), asked))
        needed = [one.needed for one in sized if one.needed is not None]
        if len(needed) == count:
            patch = [*fewer, *sized[0].patch] if count < len(zones) else []
            yield ZonesSize(
                fleet=fleet.name,
                now=len(zones),
                needed=count,
                instances_now=fleet.count,
                instances=sum(needed),
                patch=patch,
            )
            return
    yield ZonesSize(fleet=fleet.name, now=len(zones), needed=None, instances_now=fleet.count, instances=None, patch=[])


def _per_zone(count: int, zones: int) -> list[int]:
    each, rest = divmod(count, zones)
    return [each + (number < rest) for number in range(zones)]


class _Worst(Struct, frozen=True):
    """The loss under which a fleet is busiest: how busy, and the largest share that any loss leaves unserved."""

    part: Part | None
    used: float
    unserved: float


def _worst(plan: Plan, index: int, survive: Survive) -> _Worst:
    network = compile_network(plan)
    mine = {*plan.fleets[index].instance_names()}
    found = _Worst(None, 0.0, 0.0)
    losing = Losing(network)
    for part in _lost(network, survive):
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


def _counting(plan: Plan, index: int, count: int) -> Plan:
    """The plan with so many instances in a fleet."""
    return patched(plan, _count_patch(plan, index, count))


def _count_patch(plan: Plan, index: int, count: int) -> Patch:
    where, scale = pointer(("fleets", index)), plan.fleets[index].scale
    patch = [{"op": "replace", "path": f"{where}/count", "value": count}]
    if scale is not None:
        patch.append({"op": "replace", "path": f"{where}/scale/min", "value": count})
        patch.append({"op": "replace", "path": f"{where}/scale/max", "value": max(count, scale.max)})
    return patch


def _with_plenty(found: Callable[[int], Found], now: int) -> Found:
    """What is found with plenty of instances; with as many as now where the plan has no place for more."""
    try:
        return found(max(now, 1) * PLENTY)
    except NOT_RUN:
        return found(now)


def _smallest(fits: Callable[[int], bool], near: int) -> int | None:
    """The smallest number from 1 on that fits, where all larger ones do too; None if none does up to MOST. With which
    there is no plan, as another has the name of one of them, does not fit."""

    def enough(count: int) -> bool:
        try:
            return fits(count)
        except NOT_RUN:
            return False

    low, high = 0, near
    while not enough(high):
        low, high = high, high * 2
        if high > MOST:
            return None
    while high - low > 1:
        middle = (low + high) // 2
        if enough(middle):
            high = middle
        else:
            low = middle
    return high


# Seconds


def _costliest(plan: Plan, survive: Survive) -> tuple[float, Part | None]:
    """What the costliest loss of a kind costs within an hour, and which that is."""
    network = compile_network(plan)
    losing = Losing(network)
    costs = [(losing.lose([part]).failed_by(3600.0), part) for part in _lost(network, survive)]
    return max(costs, key=lambda one: one[0], default=(0.0, None))


def _longest(cost: Callable[[float], float], shortest_s: float, now_s: float, bound: float) -> float | None:
    """The longest time, in steps of FINE_S from the shortest on, that costs no more than is allowed, where longer ones
    cost more; None if none."""

    def fits(steps: int) -> bool:
        return cost(shortest_s + steps * FINE_S) <= bound

    if not fits(0):
        return None
    low, high = 0, max(int(2 * (now_s - shortest_s) / FINE_S), 1)
    while fits(high):
        low, high = high, high * 2
        if high * FINE_S > LONGEST_S:
            return shortest_s + low * FINE_S
    while high - low > 1:
        middle = (low + high) // 2
        low, high = (middle, high) if fits(middle) else (low, middle)
    return shortest_s + low * FINE_S


def _size_of_probe(plan: Plan, asked: Asked) -> Iterator[ProbeSize]:
    index = [probe.name for probe in plan.probes].index(asked.name)
    probe, where = plan.probes[index], pointer(("probes", index))

    def changes(interval_s: float, fails: int) -> Patch:
        return [
            {"op": "replace", "path": f"{where}/interval_s", "value": interval_s},
            {"op": "replace", "path": f"{where}/unhealthy_after", "value": fails},
        ]

    # As many fails as now, if that can be enough; fewer else.
    for fails in range(probe.unhealthy_after, 0, -1):

        def cost(interval_s: float, fails: int = fails) -> float:
            return _costliest(patched(plan, changes(interval_s, fails)), asked.survive)[0]

        longest_s = _longest(cost, probe.timeout_s, probe.interval_s, asked.bound)
        if longest_s is not None:
            patch = changes(longest_s, fails)
            failed, part = _costliest(patched(plan, patch), asked.survive)
            kept = longest_s == probe.interval_s and fails == probe.unhealthy_after
            yield ProbeSize(
                probe=probe.name, interval_s=longest_s, unhealthy_after=fails, failed=failed, decides=True,
                evidence=part_data(part) if part else None, patch=[] if kept else patch,
            )  # fmt: skip
            return
    failed, part = _costliest(patched(plan, changes(probe.timeout_s, 1)), asked.survive)
    yield ProbeSize(
        probe=probe.name, interval_s=None, unhealthy_after=1, failed=failed,
        decides=failed < _costliest(plan, asked.survive)[0], evidence=part_data(part) if part else None, patch=[],
    )  # fmt: skip


def _size_of_ttl(plan: Plan, asked: Asked) -> Iterator[TtlSize]:
    index = [name.name for name in plan.names].index(asked.name)
    name, where = plan.names[index], pointer(("names", index, "ttl_s"))

    def with_ttl(ttl_s: float) -> Plan:
        return patched(plan, [{"op": "replace", "path": where, "value": ttl_s}])

    longest_s = _longest(lambda ttl_s: _costliest(with_ttl(ttl_s), asked.survive)[0], 0.0, name.ttl_s, asked.bound)
    failed, part = _costliest(with_ttl(longest_s or 0.0), asked.survive)
    changed = longest_s is not None and longest_s != name.ttl_s
    patch: Patch = [{"op": "replace", "path": where, "value": longest_s}] if changed else []
    decides = longest_s is not None or failed < _costliest(plan, asked.survive)[0]
    yield TtlSize(
        name=name.name, ttl_s=longest_s, failed=failed, decides=decides, evidence=part_data(part) if part else None,
        patch=patch,
    )  # fmt: skip


# Surges


def _size_of_minimum(plan: Plan, asked: Asked) -> Iterator[MinimumSize]:
    index = [fleet.name for fleet in plan.fleets].index(asked.name)
    fleet = plan.fleets[index]
    now = fleet.scale.min if fleet.scale else fleet.count

    def failed(count: int) -> float:
        return _failed_in_surge(_counting(plan, index, count), asked.bound)

    least = _with_plenty(failed, max(fleet.count, now))
    needed = _smallest(lambda count: failed(count) <= least + MISSED, max(now, 1))
    patch = _count_patch(plan, index, needed) if needed not in (None, now) else []
    yield MinimumSize(
        fleet=fleet.name, now=now, needed=needed, failed_now=failed(now), failed=failed(needed or now), patch=patch
    )


def _failed_in_surge(plan: Plan, factor: float) -> float:
    """The requests that fail for want of capacity while all clients ask so many times as much, for a quarter of an
    hour."""
    steps = [Step(at_s=60, surge=Surge(clients=client.name, factor=factor)) for client in plan.clients]
    causes = run_drill(compile_network(plan), Drill(name="surge", lasts_s=960, steps=steps)).readings.failed_by_cause
    return causes["overloaded"] + causes["timed_out"] + causes["none_healthy"]


ANSWERS: dict[str, Callable[[Plan, Asked], Iterator[Answer]]] = {
    "fleet": _size_of_fleet, "zones": _size_of_zones, "probe": _size_of_probe, "name": _size_of_ttl,
    "minimum": _size_of_minimum,
}  # fmt: skip
