"""Endpoints that hold two revisions side by side, rehearse the way between them, and hand a plan over."""

import datetime
from collections.abc import Sequence
from typing import Annotated

from fastapi import APIRouter, Depends, Path, Query, Response
from msgspec import Struct

from northgate.change import RehearsalAnswer, Rehearsed
from northgate.compare import CompareAnswer, LossesMoved, compare, losses_moved
from northgate.engine.reports import BoardState, board_state
from northgate.handover.sheet import EXPORTS, MEDIA
from northgate.plan import Plan, PlanError, Problem
from northgate.plan.problems import did_you_mean
from northgate.store.repository import UnknownPlan
from northgate.web.computing import Computer
from northgate.web.deciding import tasks
from northgate.web.deciding.meanwhile import alone_meanwhile
from northgate.web.judge import WorkDone, work_done
from northgate.web.judging import TheJudge
from northgate.web.plans import LATEST, Revision, TheComputer
from northgate.web.told.model import WebAnswer
from northgate.web.told.problems import PROBLEM_RESPONSES
from northgate.web.waiting.leaving import watch_client

router = APIRouter(
    prefix="/api/plans/{key}", tags=["deciding"], responses=PROBLEM_RESPONSES, dependencies=[Depends(watch_client)]
)
Since = Annotated[int | None, Query(ge=1, le=LATEST, description="The earlier revision; by default the agreed one.")]
Order = Annotated[
    str | None,
    Query(
        pattern=r"^\d{1,6}(@\d{1,7}(\.\d{1,6})?)?(,\d{1,6}(@\d{1,7}(\.\d{1,6})?)?)*$", max_length=20_000,
        description="The steps as they are to be taken, by their numbers in the usual order, each with @ its second.",
    ),
]  # fmt: skip
At = Annotated[float, Query(ge=0, le=1e7, description="Seconds into the change.")]
Beside = Annotated[str | None, Query(description="Another plan, as it is now, in the place of an earlier revision.")]
# A page that is opened by itself may have its own styles, and nothing else.
SANDBOX = "default-src 'none'; style-src 'unsafe-inline'; sandbox allow-modals"


class Side(Struct, frozen=True):
    """A revision of a plan."""

    key: str
    revision: int


def _sides(computer: Computer, key: str, since: int | None, beside: str | None, revision: int | None) -> list[Side]:
    """The earlier and the later revision that are asked for."""
    head = computer.repository.head(key, revision)
    first = Side(beside, computer.number(beside, None)) if beside else Side(key, since or head.agreed or 1)
    return [first, Side(key, head.revision)]


@router.get("/compare")
def side_by_side(
    key: str, computer: TheComputer, since: Since = None, beside: Beside = None, revision: Revision = None
) -> CompareAnswer:
    """Two revisions, or plans: what differs, what every drill comes to on both, cost, and findings gained and lost."""
    sides, today = _sides(computer, key, since, beside, revision), datetime.date.today()
    before, after = (computer.plan(one.key, one.revision) for one in sides)
    return computer.once(("compare", *sides, today), lambda: compare(before, after, today))


@router.get("/compare/losses")
def losses_side_by_side(
    key: str, judge: TheJudge, since: Since = None, beside: Beside = None, revision: Revision = None
) -> LossesMoved:
    """What each loss costs before and after, where that differs."""
    sides = _sides(judge.computer, key, since, beside, revision)
    before, after = (judge.losses(one.key, one.revision, pairs=False).losses for one in sides)
    return losses_moved(before, after)


@router.get("/compare/losses/progress")
def progress_of_losses_side_by_side(
    key: str, judge: TheJudge, since: Since = None, beside: Beside = None, revision: Revision = None
) -> WorkDone:
    """How many losses have been computed, of the plan that is at work."""
    sides = _sides(judge.computer, key, since, beside, revision)
    works = [judge.losses_work(side.key, side.revision, pairs=False) for side in sides]
    return next((one for one in works if one.done is not None or one.waits is not None), works[0])


@router.get("/change")
def change(
    key: str,
    computer: TheComputer,
    since: Since = None,
    beside: Beside = None,
    order: Order = None,
    revision: Revision = None,
) -> RehearsalAnswer:
    """The way from one revision to another, rehearsed: its steps, what fails meanwhile, and the way back."""
    return _rehearsed(computer, _sides(computer, key, since, beside, revision), order).answer


class ChangeMoment(WebAnswer):
    """A change at a second: the number of the step that was taken last, the plan as it is then, its board, and how many
    requests that will be served are under way (Little's law: rate times latency)."""

    step: int
    document: Plan
    state: BoardState
    under_way: float


@router.get("/change/state")
def state_in_change(
    key: str,
    computer: TheComputer,
    at: At,
    since: Since = None,
    beside: Beside = None,
    order: Order = None,
    revision: Revision = None,
) -> ChangeMoment:
    """The board at a second of a change."""
    return change_moment(_rehearsed(computer, _sides(computer, key, since, beside, revision), order), at)


def change_moment(change: Rehearsed, at: float) -> ChangeMoment:
    """The board of a change at a second; raises PlanError where there is nothing to be done."""
    if not change.taken:
        raise PlanError([Problem("at", "there is no second of it: nothing is to be done")])
    step, plan, flow = change.moment(at)
    state = board_state(flow, at)
    under_way = state.served_rps * state.mean_latency_ms / 1000
    return ChangeMoment(step=step, document=plan, state=state, under_way=under_way)


def _rehearsed(computer: Computer, sides: Sequence[Side], order: str | None) -> Rehearsed:
    before, after = (computer.plan(one.key, one.revision) for one in sides)
    wanted = _order(order)
    return alone_meanwhile(computer, ("change", *sides, order), tasks.change, before, after, wanted)


def _order(order: str | None) -> list[tuple[int, float | None]] | None:
    """The numbers of steps, each with its second where one is given."""
    if order is None:
        return None
    parts = [one.partition("@") for one in order.split(",")]
    return [(int(number), float(second) if second else None) for number, _, second in parts]


@router.get("/change/progress")
def progress_of_change(
    key: str,
    computer: TheComputer,
    since: Since = None,
    beside: Beside = None,
    order: Order = None,
    revision: Revision = None,
) -> WorkDone:
    """How many steps of a change have been rehearsed, there and back."""
    return work_done(computer, ("change", *_sides(computer, key, since, beside, revision), order))


@router.get("/export/{kind}", response_class=Response)
def exported(
    key: str,
    computer: TheComputer,
    kind: Annotated[str, Path(description=", ".join(EXPORTS))],
    revision: Revision = None,
    opened: Annotated[bool, Query(description="To be looked at, rather than kept as a file?")] = False,
) -> Response:
    """The plan for those who build it: the whole sheet, or one of its parts."""
    if kind not in EXPORTS:
        raise UnknownPlan(f"{key}: export {kind}{did_you_mean(kind, EXPORTS)}", [])
    number = computer.number(key, revision)
    plan, today = computer.plan(key, number), datetime.date.today()
    text = computer.alone(("export", key, number, kind, today), tasks.exported, plan, kind, today)
    media, ending = MEDIA[kind]
    name = f"{key}.{ending}" if kind in ("html", "markdown", "json") else f"{key}.{kind}.{ending}"
    place = "inline" if opened else "attachment"
    headers = {"content-disposition": f'{place}; filename="{name}"', "content-security-policy": SANDBOX}
    return Response(text, media_type=media, headers=headers)
