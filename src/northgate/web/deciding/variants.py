"""Endpoints of a plan's variants: try one, hold all of them against the same drills, take one over."""

import datetime
from typing import Annotated

from fastapi import APIRouter, Depends, Query, Response
from pydantic import BaseModel, Field

from northgate.engine.base import CannotRun
from northgate.engine.reports import drill_answer
from northgate.plan.models.drills import EXPECTABLE
from northgate.store.head import Head
from northgate.store.variants import add_variant, family
from northgate.web.computing import Computer
from northgate.web.edits import EditAnswer, IfMatch, edited, revision_in
from northgate.web.judge import Judge
from northgate.web.plans import TheComputer, plan_head
from northgate.web.told.model import WebAnswer
from northgate.web.told.plans import PlanHead
from northgate.web.told.problems import EDIT_RESPONSES
from northgate.web.waiting.leaving import watch_client

router = APIRouter(prefix="/api/plans/{key}", tags=["deciding"], responses=EDIT_RESPONSES)


class NewVariant(BaseModel):
    """A variant that is to be tried; without a name it is numbered."""

    name: str = Field(default="", max_length=200)


@router.get("/variants")
def variants_of_plan(key: str, computer: TheComputer) -> list[PlanHead]:
    """The plan, or that which it is a variant of, and after it all its variants."""
    return [plan_head(computer, head) for head in family(computer.repository, key)]


@router.post("/variants", status_code=201)
def try_variant(key: str, computer: TheComputer, wanted: NewVariant) -> PlanHead:
    """A variant that begins as the plan is now; the plan stays as it is."""
    return plan_head(computer, add_variant(computer.repository, key, wanted.name))


@router.post("/take-over")
def take_over(
    key: str,
    variant: Annotated[str, Query(description="The key of the variant, or of the plan itself.")],
    if_match: IfMatch,
    computer: TheComputer,
    response: Response,
) -> EditAnswer:
    """Makes the plan what a variant of it is now, as one edit."""
    before, made = revision_in(if_match), computer.plan(variant)
    return edited(computer, computer.edit(key, before, lambda _: made), before, response)


class Column(WebAnswer):
    """A plan or variant: what a month of it costs (None: it cannot be run), and how many
    findings stop its traffic."""

    key: str
    name: str
    revision: int
    cost_month: float | None
    stops: int


class MatrixCell(WebAnswer):
    """What a drill comes to; whether what it expects is held."""

    readings: dict[str, float]
    held: bool


class MatrixRow(WebAnswer):
    """A drill on each plan: None where the plan has no such drill, or cannot be run."""

    drill: str
    cells: list[MatrixCell | None]


class MatrixAnswer(WebAnswer):
    """Every drill of a plan and its variants on each of them."""

    columns: list[Column]
    rows: list[MatrixRow]


@router.get("/matrix", dependencies=[Depends(watch_client)])
def matrix(key: str, computer: TheComputer) -> MatrixAnswer:
    """Every drill of a plan and its variants on each of them."""
    heads = family(computer.repository, key)
    drills = dict.fromkeys(drill.name for head in heads for drill in computer.plan(head.key, head.revision).drills)
    return MatrixAnswer(
        columns=[_column(computer, head) for head in heads],
        rows=[MatrixRow(drill=one, cells=[_cell(computer, head, one) for head in heads]) for one in drills],
    )


def _column(computer: Computer, head: Head) -> Column:
    plan = computer.plan(head.key, head.revision)
    found = Judge(computer).review(head.key, head.revision, datetime.date.today(), losses=False)
    try:
        month = Judge(computer).cost(head.key, head.revision).month
    except CannotRun:
        month = None
    name = head.variant or plan.title or plan.name
    return Column(key=head.key, name=name, revision=head.revision, cost_month=month, stops=found.counts.get("stops", 0))


def _cell(computer: Computer, head: Head, drill: str) -> MatrixCell | None:
    if drill not in [one.name for one in computer.plan(head.key, head.revision).drills]:
        return None
    try:
        answer = drill_answer(computer.run(head.key, head.revision, drill))
    except CannotRun:
        return None
    return MatrixCell(readings={name: float(answer.readings.value(name)) for name in EXPECTABLE}, held=answer.held)
