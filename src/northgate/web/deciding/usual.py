"""Endpoints of usual changes, ready-made."""

from collections.abc import Hashable, Sequence
from typing import Annotated

from fastapi import APIRouter, Depends, Query

from northgate.change import UsualAnswer, UsualChange, UsualMade, offered
from northgate.plan import PlanError, Problem
from northgate.web.computing import Computer
from northgate.web.deciding import tasks
from northgate.web.deciding.handing import At, ChangeMoment, change_moment
from northgate.web.deciding.meanwhile import alone_meanwhile
from northgate.web.judge import WorkDone, work_done
from northgate.web.plans import Revision, TheComputer
from northgate.web.told.problems import PROBLEM_RESPONSES
from northgate.web.waiting.leaving import watch_client

router = APIRouter(
    prefix="/api/plans/{key}/usual", tags=["deciding"], responses=PROBLEM_RESPONSES,
    dependencies=[Depends(watch_client)],
)  # fmt: skip
Said = Annotated[tuple[str, ...], Query(description="What the change asks for, each as NAME=VALUE.", max_length=10)]


@router.get("")
def usual_changes(key: str, computer: TheComputer, revision: Revision = None) -> list[UsualChange]:
    """The usual changes that can be made of a plan, and what each asks for."""
    return offered(computer.plan(key, revision))


@router.get("/{code}")
def usual_change(key: str, code: str, computer: TheComputer, said: Said = (), revision: Revision = None) -> UsualAnswer:
    """A usual change, rehearsed, beside doing it all at once; with the edit that makes it."""
    return _made(computer, key, code, said, revision).answer


@router.get("/{code}/progress")
def progress_of_usual_change(
    key: str, code: str, computer: TheComputer, said: Said = (), revision: Revision = None
) -> WorkDone:
    """How much of a usual change has been rehearsed."""
    return work_done(computer, _question(key, computer.number(key, revision), code, said))


@router.get("/{code}/state")
def state_in_usual_change(
    key: str, code: str, computer: TheComputer, at: At, said: Said = (), revision: Revision = None
) -> ChangeMoment:
    """The board at a second of a usual change."""
    return change_moment(_made(computer, key, code, said, revision).rehearsed, at)


def _made(computer: Computer, key: str, code: str, said: Sequence[str], revision: int | None) -> UsualMade:
    number = computer.number(key, revision)
    plan, given = computer.plan(key, number), _given(said)
    return alone_meanwhile(computer, _question(key, number, code, said), tasks.usual_change, plan, code, given)


def _question(key: str, number: int, code: str, said: Sequence[str]) -> Hashable:
    return ("usual", key, number, code, *sorted(_given(said).items()))


def _given(said: Sequence[str]) -> dict[str, str]:
    wrong = [one for one in said if "=" not in one]
    if wrong:
        raise PlanError([Problem("", f"said must be NAME=VALUE; found {wrong[0]!r}")])
    return {name: value for name, _, value in (one.partition("=") for one in said)}
