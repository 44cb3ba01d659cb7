"""Endpoints that sweep one or two settings of a plan."""

from typing import Annotated

from fastapi import APIRouter, Depends, Query

from northgate.sweep import Setting, SweepAnswer, settings_of, sweep
from northgate.web.deciding.meanwhile import told_meanwhile
from northgate.web.judge import WorkDone, work_done
from northgate.web.plans import Revision, TheComputer
from northgate.web.told.problems import PROBLEM_RESPONSES
from northgate.web.waiting.leaving import watch_client

router = APIRouter(
    prefix="/api/plans/{key}/sweep",
    tags=["deciding"],
    responses=PROBLEM_RESPONSES,
    dependencies=[Depends(watch_client)],
)  # fmt: skip
Settings = Annotated[
    list[str], Query(alias="set", min_length=1, max_length=2, description="PATH=LOW..HIGH/STEP, one or two.")
]


@router.get("")
def swept(
    key: str,
    computer: TheComputer,
    drill: str,
    settings: Settings,
    reading: str = "failed",
    loss: Annotated[float, Query(ge=0, le=1, description="The share of probes that fail though all is well.")] = 0.001,
    revision: Revision = None,
) -> SweepAnswer:
    """What a drill comes to at each value of one or two settings, and at what price in probes."""
    number = computer.number(key, revision)
    question, plan = ("sweep", key, number, drill, tuple(settings), reading, loss), computer.plan(key, number)
    return told_meanwhile(computer, question, lambda told: sweep(plan, drill, settings, reading, loss, told))


@router.get("/progress")
def progress_of_sweep(
    key: str,
    computer: TheComputer,
    drill: str,
    settings: Settings,
    reading: str = "failed",
    loss: float = 0.001,
    revision: Revision = None,
) -> WorkDone:
    """How many cells of a sweep have been computed."""
    number = computer.number(key, revision)
    return work_done(computer, ("sweep", key, number, drill, tuple(settings), reading, loss))


@router.get("/settings")
def what_can_be_swept(key: str, computer: TheComputer, revision: Revision = None) -> list[Setting]:
    """Every number of a plan, with its value now and the values that a sweep would go over at first."""
    return settings_of(computer.plan(key, revision))
