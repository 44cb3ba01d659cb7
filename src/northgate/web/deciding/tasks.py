"""What other processes judge and make of plans for the server; see `web.tasks`."""

import datetime
from collections.abc import Sequence

from northgate.change import Rehearsed, UsualMade, rehearsed, usual
from northgate.change.asked import Given
from northgate.engine.reports.losses import LossRow
from northgate.handover.sheet import export
from northgate.plan import Plan
from northgate.review import ReviewAnswer, review
from northgate.web.tasks import Ready
from northgate.work import Teller, as_it_is, prepared


def reviewed(plan: str, today: datetime.date, rows: Sequence[LossRow] | None, _told: Teller) -> ReviewAnswer:
    """What is wrong with a plan, with what its losses come to where that is known."""
    found: Plan = prepared(as_it_is, plan)
    return review(found, today, rows, lambda: prepared(Ready, plan).now)


def change(before: str, after: str, order: Sequence[tuple[int, float | None]] | None, told: Teller) -> Rehearsed:
    """A change, rehearsed."""
    return rehearsed(prepared(as_it_is, before), prepared(as_it_is, after), order, told=told)


def usual_change(plan: str, code: str, given: Given, told: Teller) -> UsualMade:
    """A usual change, rehearsed."""
    return usual(prepared(as_it_is, plan), code, given, told)


def exported(plan: str, kind: str, today: datetime.date, _told: Teller) -> str:
    """A plan for those who build it."""
    return export(prepared(as_it_is, plan), kind, today)
