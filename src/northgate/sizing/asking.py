"""Every question of a plan, shared out."""

from collections.abc import Callable, Iterator, Sequence

from northgate.engine.network import check_runnable
from northgate.plan import Plan
from northgate.plan.editing import with_users_gone
from northgate.sizing.answers import (
    Answer,
    Asked,
    MinimumSize,
    ProbeSize,
    SizeAnswer,
    SizingAnswer,
    Survive,
    TtlSize,
    ZonesSize,
)
from northgate.sizing.fleets import size_of_fleet, size_of_zones
from northgate.sizing.parts import fleets_in_use
from northgate.sizing.seconds import size_of_probe, size_of_ttl
from northgate.sizing.surges import size_of_minimum
from northgate.work import Told, as_it_is, spread, untold

ANSWERS: dict[str, Callable[[Plan, Asked], Iterator[Answer]]] = {
    "fleet": size_of_fleet, "zones": size_of_zones, "probe": size_of_probe, "name": size_of_ttl,
    "minimum": size_of_minimum,
}  # fmt: skip


def sizing(
    plan: Plan, survive: Survive, below: float | None, failed_below: float | None, surge: float | None = None,
    told: Told = untold,
) -> SizingAnswer:  # fmt: skip
    """Every fleet below a utilisation, and every probe and TTL below a number of failed requests, after any one loss of
    a kind; every autoscaled fleet under a surge of all clients by a factor; raises CannotRun."""
    check_runnable(plan)
    asked: list[Asked] = []
    if below is not None:
        fleets = fleets_in_use(plan)
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
        asked += [Asked("minimum", fleet, survive, surge) for fleet in fleets_in_use(plan) if fleet in scaled]
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
