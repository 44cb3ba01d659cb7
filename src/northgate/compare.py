"""Two plans side by side: what differs, what the same drills come to, what they cost, and which findings come and
go."""

import datetime
from collections.abc import Sequence
from dataclasses import asdict
from typing import Literal

from northgate.cost import cost
from northgate.engine.base import CannotRun
from northgate.engine.drill import Readings, run_drill
from northgate.engine.network import Network, compile_network
from northgate.engine.reports import AnswerModel
from northgate.plan import Plan
from northgate.plan.difference import difference
from northgate.plan.models.drills import Drill
from northgate.plan.references import names_of, references
from northgate.review import FindingAnswer, review

SECONDARY = ("failed_by_cause", "failed_by_mechanism", "settled")


class DifferenceAnswer(AnswerModel):
    """One difference: where (JSON Pointer), in words, and whether it can be made in place or replaces the thing."""

    where: str
    words: str
    how: Literal["in place", "replace"]


class Both(AnswerModel):
    """A reading of both plans; None where the drill cannot be run on one."""

    a: float | None
    b: float | None


class Held(AnswerModel):
    """Whether all that a drill expects is held by both plans; None where it cannot be run on one."""

    a: bool | None
    b: bool | None


class DrillPair(AnswerModel):
    """The same drill on both plans."""

    name: str
    readings: dict[str, Both]
    held: Held


class FindingsMoved(AnswerModel):
    """Findings that only the second plan has, and those that only the first has."""

    gained: list[FindingAnswer]
    lost: list[FindingAnswer]


class CompareAnswer(AnswerModel):
    """Two plans side by side."""

    differences: list[DifferenceAnswer]
    drills: list[DrillPair]
    cost_month: Both
    findings: FindingsMoved


def compare(a: Plan, b: Plan, today: datetime.date, drill: str | None = None) -> CompareAnswer:
    """Compares two plans under every drill of either, or one; where both have it, the second's script is run on both.
    Raises CannotRun where neither can be run."""
    networks = _networks(a, b)
    drills = {one.name: one for plan in (a, b) for one in plan.drills if drill in (None, one.name)}
    return CompareAnswer(
        differences=[
            DifferenceAnswer(
                where=one.where, words=f"{one.about}: {one.words}",
                how="replace" if one.effect == "replace" else "in place",
            )
            for one in difference(a, b)
        ],
        drills=[_pair(networks, one) for one in drills.values()],
        cost_month=Both(**{
            side: cost(plan).month if network else None
            for side, plan, network in zip("ab", (a, b), networks, strict=True)
        }),
        findings=_moved(review(a, today).findings, review(b, today).findings),
    )  # fmt: skip


def _networks(a: Plan, b: Plan) -> list[Network | None]:
    found: list[Network | None] = []
    wrong: CannotRun | None = None
    for plan in (a, b):
        try:
            found.append(compile_network(plan))
        except CannotRun as error:
            found.append(None)
            wrong = error
    if wrong and not any(found):
        raise wrong
    return found


def _pair(networks: Sequence[Network | None], drill: Drill) -> DrillPair:
    runs = [_run(network, drill) for network in networks]
    readings = [_flat(readings) if readings else {} for readings, _ in runs]
    return DrillPair(
        name=drill.name,
        readings={
            name: Both(a=readings[0].get(name), b=readings[1].get(name))
            for name in dict.fromkeys([*readings[0], *readings[1]])
        },
        held=Held(a=runs[0][1], b=runs[1][1]),
    )


def _run(network: Network | None, drill: Drill) -> tuple[Readings | None, bool | None]:
    """What a drill comes to on a plan, and whether it holds; nothing where the plan has not what it fails."""
    if network is None:
        return None, None
    names = names_of(network.plan)
    alone = Plan.model_construct(northgate=1, name="drill", drills=[drill])
    if any(one.name not in names[one.kind] for one in references(alone)):
        return None, None
    try:
        run = run_drill(network, drill)
    except CannotRun:
        return None, None
    return run.readings, all(run.held(one) for one in drill.expect)


def _flat(readings: Readings) -> dict[str, float]:
    """The readings that are numbers; causes as `failed_by_cause.refused`."""
    found = {name: float(value) for name, value in asdict(readings).items() if name not in SECONDARY}
    return found | {f"failed_by_cause.{cause}": value for cause, value in readings.failed_by_cause.items()}


def _moved(before: Sequence[FindingAnswer], after: Sequence[FindingAnswer]) -> FindingsMoved:
    """Findings by what they are about: a number in their words may change."""
    old, new = ({(one.code, one.about): one for one in some if one.because is None} for some in (before, after))
    return FindingsMoved(
        gained=[one for key, one in new.items() if key not in old],
        lost=[one for key, one in old.items() if key not in new],
    )
