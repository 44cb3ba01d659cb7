"""What losses come to in a year: how often parts fail, times what each failure costs until it is repaired."""

from collections.abc import Mapping, Sequence
from typing import Any

from northgate.engine.reports.model import AnswerModel
from northgate.plan import Plan
from northgate.plan.models.faults import Failures

YEAR_S = 365 * 86_400.0
# What is assumed of kinds of parts of which a plan says nothing.
ASSUMED: dict[str, Failures] = {
    kind: Failures(per_year=per_year, repair_s=repair_s)
    for kind, per_year, repair_s in (
        ("instance", 2, 600), ("process", 4, 120), ("zone", 0.2, 3600), ("region", 0.02, 7200), ("front", 0.5, 600),
        ("link", 0.2, 1800), ("firewall", 0.2, 900), ("page", 0.5, 600), ("fault_domain", 0.2, 3600),
        ("maintenance_wave", 12, 300), ("address", 1, 1800), ("host", 1, 1800),
    )
}  # fmt: skip


class YearPart(AnswerModel):
    """What the losses of some like parts come to in a year. `assumed`: the plan does not say how often they fail."""

    words: str
    kind: str
    count: int
    per_year: float
    repair_s: float
    failed_requests: float
    assumed: bool


class YearAnswer(AnswerModel):
    """A year of the plan: requests that are expected to fail, the share that is served, and what contributes most.
    `asked`: all requests of a year, at the rates of the plan."""

    failed_requests: float
    availability: float
    asked: float
    by_part: list[YearPart]


def failures_of(plan: Plan, kind: str) -> tuple[Failures, bool]:
    """How often parts of a kind fail and how long that lasts, and whether that is only assumed."""
    given: Mapping[Any, Failures] = plan.reliability
    return (given[kind], False) if kind in given else (ASSUMED[kind], True)


def year(plan: Plan, costs: Sequence[tuple[str, str, int, float]]) -> YearAnswer:
    """A year, given for every class of parts its words, kind, count, and how many requests fail until it is repaired.
    Failures are rare, so that none meets another."""
    parts = []
    for words, kind, count, failed in costs:
        failures, assumed = failures_of(plan, kind)
        parts.append(
            YearPart(
                words=words, kind=kind, count=count, per_year=failures.per_year, repair_s=failures.repair_s,
                failed_requests=count * failures.per_year * failed, assumed=assumed,
            )
        )  # fmt: skip
    parts.sort(key=lambda part: -part.failed_requests)
    asked = sum(client.rps for client in plan.clients) * YEAR_S
    failed = min(sum(part.failed_requests for part in parts), asked)
    return YearAnswer(
        failed_requests=failed, availability=1 - failed / asked if asked else 1.0, asked=asked, by_part=parts
    )
