"""Endpoints of a plan's log: what was changed and why, who looked it over and agreed, and what stands in the way."""

import datetime
from typing import Annotated

from fastapi import APIRouter, Body, Query, Response
from pydantic import BaseModel, Field

from northgate.engine.base import CannotRun
from northgate.engine.reports import drill_answer
from northgate.plan.difference import difference
from northgate.review import FindingAnswer
from northgate.store import log
from northgate.web.computing import Computer
from northgate.web.edits import ChangeAnswer, EditAnswer, IfMatch, edited, revision_in
from northgate.web.judge import Judge
from northgate.web.plans import LATEST, Revision, TheComputer, plan_whole
from northgate.web.told.model import WebAnswer
from northgate.web.told.plans import PlanWhole
from northgate.web.told.problems import EDIT_RESPONSES

router = APIRouter(prefix="/api/plans/{key}", tags=["deciding"], responses=EDIT_RESPONSES)
# So many words are kept of what somebody says, and so many lines of the log are told at once.
MOST_WORDS, LINES = 2_000, 50
Words = Annotated[str, Field(max_length=MOST_WORDS)]


class StandingAnswer(WebAnswer):
    """Somebody has looked a revision over, or agreed on it."""

    agreed: bool
    who: str
    why: str
    at: datetime.datetime


class LogEntry(WebAnswer):
    """One revision: what it changed of the one it was made of, when and why; whether it is the current one, on the way
    to that, or undone; and who stands by it."""

    revision: int
    parent: int | None
    at: datetime.datetime
    changes: list[ChangeAnswer]
    reason: str
    from_file: bool
    current: bool
    on_the_way: bool
    standings: list[StandingAnswer]


class LogAnswer(WebAnswer):
    """Lines of the log, the newest first, of `of` in all."""

    entries: list[LogEntry]
    of: int


@router.get("/log")
def log_of_plan(
    key: str,
    computer: TheComputer,
    before: Annotated[int | None, Query(ge=1, le=LATEST, description="Only older ones.")] = None,
) -> LogAnswer:
    """How the plan came to be what it is."""
    current, entries = computer.number(key, None), log.history(computer.repository, key)
    wanted = [one for one in entries if before is None or one.revision < before][:LINES]
    return LogAnswer(entries=[_told(computer, key, one, current) for one in wanted], of=len(entries))


def _told(computer: Computer, key: str, entry: log.Entry, current: int) -> LogEntry:
    def changes() -> list[ChangeAnswer]:
        if entry.parent is None:
            return []
        made = difference(computer.plan(key, entry.parent), computer.plan(key, entry.revision))
        return [ChangeAnswer.model_validate(change, from_attributes=True) for change in made]

    return LogEntry(
        revision=entry.revision, parent=entry.parent, at=entry.at, reason=entry.reason, from_file=entry.from_file,
        changes=computer.once(("changes", key, entry.revision), changes),
        current=entry.revision == current, on_the_way=entry.on_the_way,
        standings=[StandingAnswer.model_validate(one, from_attributes=True) for one in entry.standings],
    )  # fmt: skip


class Reason(BaseModel):
    """Why a revision was made."""

    revision: int = Field(ge=1, le=LATEST)
    reason: Words


@router.put("/log/reason", status_code=204)
def give_reason(key: str, said: Reason, computer: TheComputer) -> None:
    """Says why a revision was made."""
    log.give_reason(computer.repository, key, said.revision, said.reason.strip())


@router.post("/go-to")
def go_to(
    key: str,
    revision: Annotated[int, Query(ge=1, le=LATEST, description="The revision that is to be the current one.")],
    if_match: IfMatch,
    computer: TheComputer,
    response: Response,
) -> EditAnswer:
    """Goes to any revision of the log; none is lost."""
    before = revision_in(if_match)
    return edited(computer, log.go_to(computer.repository, key, before, revision), before, response)


class Agreement(BaseModel):
    """Who looks a revision over or agrees on it, and why; free text, and either may be empty."""

    who: Words = ""
    why: Words = ""


@router.post("/agree")
def agree(
    key: str,
    if_match: IfMatch,
    computer: TheComputer,
    response: Response,
    said: Annotated[Agreement | None, Body()] = None,
) -> PlanWhole:
    """Makes the current revision the agreed one."""
    return _stand(key, if_match, computer, response, said or Agreement(), agreed=True)


@router.post("/look-over")
def look_over(key: str, if_match: IfMatch, computer: TheComputer, response: Response, said: Agreement) -> PlanWhole:
    """Says that somebody has looked the current revision over."""
    return _stand(key, if_match, computer, response, said, agreed=False)


def _stand(
    key: str, if_match: str, computer: Computer, response: Response, said: Agreement, *, agreed: bool
) -> PlanWhole:
    made_of, who, why = revision_in(if_match), said.who.strip(), said.why.strip()
    return plan_whole(computer, log.stand(computer.repository, key, made_of, who, why, agreed=agreed), response)


class Missed(WebAnswer):
    """What a drill expects and does not find."""

    drill: str
    reading: str
    wanted: str
    got: float


class GateAnswer(WebAnswer):
    """What stands in the way of agreeing: findings that stop traffic, and what drills expect and do not find. Nobody
    is held back by it."""

    stops: list[FindingAnswer]
    missed: list[Missed]


@router.get("/gate")
def gate(key: str, computer: TheComputer, revision: Revision = None) -> GateAnswer:
    """What stands in the way of agreeing on a revision."""
    number = computer.number(key, revision)
    found = Judge(computer).review(key, number, datetime.date.today(), losses=False).findings
    stops = [one for one in found if one.severity == "stops" and one.because is None]
    return GateAnswer(stops=stops, missed=_missed(computer, key, number))


def _missed(computer: Computer, key: str, number: int) -> list[Missed]:
    try:
        runs = [computer.run(key, number, drill.name) for drill in computer.plan(key, number).drills if drill.expect]
    except CannotRun:
        return []
    return [
        Missed(drill=answer.name, reading=one.reading, wanted=str(one.wanted), got=one.got)
        for answer in map(drill_answer, runs)
        for one in answer.expect
        if not one.held
    ]
