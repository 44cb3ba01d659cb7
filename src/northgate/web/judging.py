"""Endpoints that judge a plan: findings, and the table of losses."""

import datetime
from typing import Annotated

from fastapi import APIRouter, Depends, Query

from northgate.cost import CostAnswer
from northgate.losses import LossesAnswer
from northgate.review import ReviewAnswer
from northgate.sizing import SizingAnswer, Survive
from northgate.web.judge import Judge, WorkDone
from northgate.web.plans import Revision, TheComputer
from northgate.web.told.problems import PROBLEM_RESPONSES
from northgate.web.waiting.leaving import watch_client

router = APIRouter(
    prefix="/api/plans/{key}", tags=["judging"], responses=PROBLEM_RESPONSES, dependencies=[Depends(watch_client)]
)


def judge_of(computer: TheComputer) -> Judge:
    """Who judges the plans that are kept here."""
    return Judge(computer)


TheJudge = Annotated[Judge, Depends(judge_of)]
Pairs = Annotated[bool, Query(description="Every pair of parts, too?")]


@router.get("/findings")
def findings(
    key: str,
    judge: TheJudge,
    losses: Annotated[bool, Query(description="With what losses come to, which takes longer?")] = False,
    revision: Revision = None,
) -> ReviewAnswer:
    """What is wrong with a plan, the worst first; of a plan that cannot be run, as far as it goes."""
    return judge.review(key, revision, datetime.date.today(), losses=losses)


@router.get("/losses")
def losses_of_plan(key: str, judge: TheJudge, pairs: Pairs = False, revision: Revision = None) -> LossesAnswer:
    """Every part lost in turn, ranked; headroom, and a year."""
    return judge.losses(key, revision, pairs=pairs)


@router.get("/cost")
def cost_of_plan(key: str, judge: TheJudge, revision: Revision = None) -> CostAnswer:
    """What a plan costs by its own unit prices, also when idle; prices that are missing are named."""
    return judge.cost(key, revision)


@router.get("/losses/progress")
def progress_of_losses(key: str, judge: TheJudge, pairs: Pairs = False, revision: Revision = None) -> WorkDone:
    """How many losses have been computed."""
    return judge.losses_work(key, revision, pairs=pairs)


@router.get("/sizing")
def how_much_is_enough(
    key: str,
    judge: TheJudge,
    survive: Survive = "zone",
    below: Annotated[float | None, Query(gt=0, le=1, description="The utilisation that a loss may lead to.")] = None,
    failed_below: Annotated[float | None, Query(ge=0, description="The failed requests that it may cost.")] = None,
    surge: Annotated[float | None, Query(ge=1, le=1000, description="How many times as much clients ask.")] = None,
    revision: Revision = None,
) -> SizingAnswer:
    """The fewest instances, and the longest probe intervals and TTLs, with which any one loss is survived."""
    return judge.sizing(key, revision, survive, below, failed_below, surge)
