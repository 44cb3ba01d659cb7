"""Two plans side by side: what differs, what the same drills come to, what they cost, and which findings come and
go."""

import datetime
from collections.abc import Sequence
from dataclasses import asdict
from functools import cached_property
from typing import Literal

from northgate.cost import CostAnswer, cost
from northgate.engine.base import CannotRun
from northgate.engine.drill import Readings, run_drill
from northgate.engine.network import Network, compile_network
from northgate.engine.reports import AnswerModel
from northgate.engine.reports.losses import LossRow
from northgate.plan import Plan
from northgate.plan.difference import difference
from northgate.plan.models.drills import Drill
from northgate.plan.references import names_of, references
from northgate.review import FindingAnswer, review
from northgate.work import spread

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
    """Two plans side by side; `prices_missing`: what the cost of either does not count, for want of a price."""

    differences: list[DifferenceAnswer]
    drills: list[DrillPair]
    cost_month: Both
    prices_missing: list[str]
    findings: FindingsMoved


class LossMoved(AnswerModel):
    """What the loss of a part makes fail within an hour in each plan; None where the plan has no such part."""

    words: str
    a: float | None
    b: float | None


class LossesMoved(AnswerModel):
    """Losses by what they cost: those that cost nothing before, those that cost nothing any more, and those that cost
    more or less than before."""

    gained: list[LossMoved]
    lost: list[LossMoved]
    changed: list[LossMoved]


# A loss of which fewer requests fail costs nothing; one whose cost differs by less costs the same.
ONE_REQUEST = 0.5


# What a drill comes to on a plan, and whether all that it expects is held.
Ran = tuple[Readings | None, bool | None]


class Side:
    """A plan as it is compared: its compiled form, None where it cannot be run, and the drills run on it so far."""

    def __init__(self, plan: Plan, today: datetime.date) -> None:
        self.plan, self.today = plan, today
        self.network: Network | None = None
        self.wrong: CannotRun | None = None
        self.runs: dict[str, Ran] = {}
        try:
            self.network = compile_network(plan)
        except CannotRun as error:
            self.wrong = error

    @cached_property
    def findings(self) -> list[FindingAnswer]:
        """What is wrong with it."""
        """What is wrong with it."""
        return review(self.plan, self.today).findings

    @cached_property
    def cost(self) -> CostAnswer | None:
        """What it costs; None where it cannot be run."""
        return cost(self.plan) if self.network else None

    def run(self, drills: Sequence[Drill]) -> list[Ran]:
        """What drills come to, and whether they hold; nothing where the plan has not what they fail. Those that have
        not been run yet are shared out among processes."""
        if self.network is None:
            return [(None, None) for _ in drills]
        asked = {drill.model_dump_json(by_alias=True): drill for drill in drills}
        new = {text: drill for text, drill in asked.items() if text not in self.runs}
        self.runs |= dict(zip(new, spread(_run, compile_network, self.plan, list(new.values())), strict=True))
        return [self.runs[text] for text in asked]


def compare(a: Plan, b: Plan, today: datetime.date, drill: str | None = None) -> CompareAnswer:
    """Compares two plans under every drill of either, or one; where both have it, the second's script is run on both.
    Raises CannotRun where neither can be run."""
    return _compared(Side(a, today), Side(b, today), drill)


def compare_with_first(plans: Sequence[Plan], today: datetime.date, drill: str | None = None) -> list[CompareAnswer]:
    """Compares each plan but the first with the first, as `compare` does."""
    first, *others = (Side(plan, today) for plan in plans)
    return [_compared(first, other, drill) for other in others]


def _compared(a: Side, b: Side, drill: str | None) -> CompareAnswer:
    if a.network is None and b.wrong:
        raise b.wrong
    by_name = {one.name: one for side in (a, b) for one in side.plan.drills if drill in (None, one.name)}
    drills = list(by_name.values())
    return CompareAnswer(
        differences=[
            DifferenceAnswer(
                where=one.where, words=f"{one.about}: {one.words}",
                how="replace" if one.effect == "replace" else "in place",
            )
            for one in difference(a.plan, b.plan)
        ],
        drills=[_pair(*both) for both in zip(drills, a.run(drills), b.run(drills), strict=True)],
        cost_month=Both(a=a.cost and a.cost.month, b=b.cost and b.cost.month),
        prices_missing=sorted({one for side in (a, b) if side.cost for one in side.cost.missing}),
        findings=_moved(a.findings, b.findings),
    )  # fmt: skip


def losses_moved(before: Sequence[LossRow], after: Sequence[LossRow]) -> LossesMoved:
    """Single losses of two plans by what they cost (failed requests within an hour), the largest difference first."""
    rows = [{row.words: row.failed_requests for row in some if len(row.of) == 1} for some in (before, after)]
    pairs = [
        LossMoved(words=one, a=rows[0].get(one), b=rows[1].get(one)) for one in dict.fromkeys([*rows[0], *rows[1]])
    ]
    pairs = [one for one in pairs if abs((one.a or 0) - (one.b or 0)) >= ONE_REQUEST]
    pairs.sort(key=lambda one: -abs((one.a or 0) - (one.b or 0)))
    gained = [one for one in pairs if (one.a or 0) < ONE_REQUEST]
    lost = [one for one in pairs if (one.b or 0) < ONE_REQUEST]
    changed = [one for one in pairs if one not in gained and one not in lost]
    return LossesMoved(gained=gained, lost=lost, changed=changed)


def _pair(drill: Drill, *runs: Ran) -> DrillPair:
    readings = [_flat(readings) if readings else {} for readings, _ in runs]
    return DrillPair(
        name=drill.name,
        readings={
            name: Both(a=readings[0].get(name), b=readings[1].get(name))
            for name in dict.fromkeys([*readings[0], *readings[1]])
        },
        held=Held(a=runs[0][1], b=runs[1][1]),
    )


def _run(network: Network, drill: Drill) -> Ran:
    """What a drill comes to; a task of `work.spread`."""
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
