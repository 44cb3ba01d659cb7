"""Usual changes that leave the plan as it is: restarting all in batches, and emptying a zone before maintenance."""

from collections.abc import Sequence

from northgate.change.asked import Ask, ByHand, Given, choice, machines, named, number, proof_s
from northgate.change.rehearsal import LEAD_S
from northgate.plan import Plan
from northgate.plan.models.drills import Drain, Drill, Roll, Step
from northgate.plan.models.faults import Part

# What is done by hand is looked at for so long after its last step has settled, at the least (s).
AFTER_S = 120.0


def roll_asks(plan: Plan) -> list[Ask]:
    """What it asks of a plan; nothing where it cannot be made of it."""
    groups = [one.name for one in plan.target_groups if machines(plan, one)]
    return (
        [choice("group", "group", groups), number("batch", "at a time", 1), number("restart_s", "away for", 30)]
        if groups
        else []
    )


def roll(plan: Plan, given: Given) -> ByHand:
    """Each batch is drained, restarted and proven before the next; beside it, all at the same moment."""
    group = named(plan.target_groups, given["group"])
    mine, batch, restart_s = machines(plan, group), int(given["batch"]), float(given["restart_s"])
    rounds = -(-len(mine) // batch)
    # Each batch leaves, restarts, and is proven; none takes longer than that.
    lasts_s = LEAD_S + rounds * (group.drain_s + restart_s + proof_s(plan, group)) + AFTER_S
    roll = Step(at_s=LEAD_S, roll=Roll(group=group.name, batch=batch, restart_s=restart_s))
    words = f"restart the {len(mine)} instances of {group.name}, {batch} at a time, in {rounds} batches"
    down = [Step(at_s=LEAD_S, fail=Part(process=one)) for one in mine]
    up = [Step(at_s=LEAD_S + restart_s, restore=Part(process=one)) for one in mine]
    return ByHand(
        _drill(plan, f"restart-{group.name}", f"restart {group.name}, {batch} at a time", lasts_s, [roll]),
        [(LEAD_S, words)],
        _drill(plan, "at-once", "", LEAD_S + restart_s + proof_s(plan, group) + AFTER_S, [*down, *up]),
    )


def empty_asks(plan: Plan) -> list[Ask]:
    """What it asks of a plan; nothing where it cannot be made of it."""
    used = {one for group in plan.target_groups for one in machines(plan, group)}
    at = {one.zone for one in plan.machines if one.name in used}
    zones = [zone for region in plan.regions for zone in region.zones if zone in at]
    return [choice("zone", "zone", zones), number("away_s", "for", 300)] if zones else []


def empty(plan: Plan, given: Given) -> ByHand:
    """The zone's instances are drained, it is turned off and on again, and they come back."""
    zone, away_s = given["zone"], float(given["away_s"])
    used = [(group, one) for group in plan.target_groups for one in machines(plan, group)]
    here = {one.name for one in plan.machines if one.zone == zone}
    mine = list(dict.fromkeys(one for _, one in used if one in here))
    drain_s = max((group.drain_s for group, one in used if one in here), default=0.0)
    proven_s = max((proof_s(plan, group) for group, one in used if one in here), default=0.0)
    off_s = LEAD_S + drain_s + 1
    on_s = off_s + away_s
    off, on = Step(at_s=off_s, fail=Part(zone=zone)), Step(at_s=on_s, restore=Part(zone=zone))
    steps = [
        *(Step(at_s=LEAD_S, drain=Drain(instance=one)) for one in mine), off, on,
        *(Step(at_s=on_s, undrain=Drain(instance=one)) for one in mine),
    ]  # fmt: skip
    marks = [
        (LEAD_S, f"drain the {len(mine)} instances of {zone}"), (off_s, f"turn {zone} off"),
        (on_s, f"turn {zone} on, and bring its instances back"),
    ]  # fmt: skip
    lasts_s = on_s + proven_s + AFTER_S
    once = [
        off.model_copy(update={"at_s": LEAD_S}), on.model_copy(update={"at_s": LEAD_S + away_s}),
    ]  # fmt: skip
    return ByHand(
        _drill(plan, f"empty-{zone}", f"empty {zone} before maintenance", lasts_s, steps),
        marks,
        _drill(plan, "at-once", "", lasts_s, once),
    )


def _drill(plan: Plan, name: str, title: str, lasts_s: float, steps: Sequence[Step]) -> Drill:
    taken = {one.name for one in plan.drills}
    names = (f"{name}-{number}" if number > 1 else name for number in range(1, len(taken) + 2))
    return Drill(
        name=next(one for one in names if one not in taken), title=title, lasts_s=lasts_s, phases="worst",
        steps=list(steps),
    )  # fmt: skip
