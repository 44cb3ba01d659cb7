"""A review: everything that the rules have found, the worst first."""

import datetime
from collections.abc import Callable, Iterator, Sequence
from typing import Any

from northgate.engine.reports import AnswerModel
from northgate.engine.reports.losses import LossRow
from northgate.engine.solver import Flow
from northgate.plan import Plan
from northgate.review.context import Context
from northgate.review.registry import RULES, SEVERITIES, Found, Needs, Rule, Severity
from northgate.review.rules import listening, losing, naming, placing, probing, reaching, sharing, tidying, written

# Rules register themselves when their module is read.
TOPICS = (written, placing, listening, naming, reaching, probing, sharing, losing, tidying)
LOOKED_AT: tuple[Needs, ...] = ("plan", "flow", "losses")


class FindingAnswer(AnswerModel):
    """One finding: its code and severity, where (JSON Pointer) and about what, in words, what would mend it, and the
    edit that does so (JSON Patch; empty where a person must decide). `because`: why it is left as it is (None: it is
    not)."""

    code: str
    severity: Severity
    where: str
    about: str
    message: str
    remedy: str
    patch: list[dict[str, Any]]
    because: str | None


class ReviewAnswer(AnswerModel):
    """All findings, the worst first and those that are left as they are last; how many there are of each severity that
    are not; which kinds of rules have been asked; and whether the plan can be run at all."""

    findings: list[FindingAnswer]
    counts: dict[Severity, int]
    looked_at: list[Needs]
    runs: bool


def review(
    plan: Plan, today: datetime.date, losses: Sequence[LossRow] | None = None, flow: Callable[[], Flow] | None = None
) -> ReviewAnswer:
    """Asks every rule that can be asked: those about losses only where losses are given."""
    context = Context(plan, today, losses, flow)
    looked_at = [kind for kind in LOOKED_AT if _can_be_asked(context, kind)]
    asked = [rule for rule in RULES.values() if rule.needs in looked_at]
    reasons = {(one.code, one.about): one.because for one in plan.accepted}
    findings = [_answer(rule, found, reasons) for rule in asked for found in _once(rule, context)]
    open_ones = [one for one in findings if one.because is None]
    return ReviewAnswer(
        findings=sorted(findings, key=_rank),
        counts={severity: sum(one.severity == severity for one in open_ones) for severity in SEVERITIES},
        looked_at=looked_at,
        runs=context.network is not None,
    )


def _rank(one: FindingAnswer) -> tuple[bool, int, int]:
    """The worst first, what is left as it is last; of equals what is written wrong before what follows from it."""
    return one.because is not None, SEVERITIES.index(one.severity), LOOKED_AT.index(RULES[one.code].needs)


def _once(rule: Rule, context: Context) -> Iterator[Found]:
    """What a rule finds, the same thing about the same object once."""
    seen = set()
    for found in rule.find(context):
        key = (found.where, found.about, found.message)
        if key not in seen:
            seen.add(key)
            yield found


def _can_be_asked(context: Context, kind: Needs) -> bool:
    if kind == "plan":
        return True
    return context.network is not None and (kind == "flow" or context.losses is not None)


def _answer(rule: Rule, found: Found, reasons: dict[tuple[str, str], str]) -> FindingAnswer:
    return FindingAnswer(
        code=rule.code, severity=rule.severity, where=found.where, about=found.about, message=found.message,
        remedy=found.remedy, patch=list(found.patch), because=reasons.get((rule.code, found.about)),
    )  # fmt: skip
