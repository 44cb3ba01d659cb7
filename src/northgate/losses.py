"""The loss table of a plan as a whole: every part lost, and every pair of them, with headroom and a year."""

from collections.abc import Mapping, Sequence
from itertools import combinations_with_replacement

from msgspec import Struct

from northgate.engine.drill import Losing
from northgate.engine.network import Network, compile_network
from northgate.engine.reports import AnswerModel
from northgate.engine.reports.losses import (
    Alike,
    Headroom,
    LossRow,
    YearAnswer,
    alike,
    called_as,
    effect_of,
    headroom,
    loss_row,
    pairs_count,
    parts_of,
    year,
)
from northgate.engine.truth import Paths
from northgate.plan import Plan
from northgate.plan.models.faults import Part
from northgate.work import Told, spread, untold

# In pairs a process and a page of an instance are left out: they cost what their instance does, or less.
NOT_IN_PAIRS = ("process", "page")


class LossesAnswer(AnswerModel):
    """Losses ranked by what fails; headroom without a loss and for each zone; what a year comes to."""

    losses: list[LossRow]
    headroom: list[Headroom]
    year: YearAnswer


class Room(Struct, frozen=True):
    """The question how far away overload is, after the loss of a part or without any."""

    part: Part | None


def loss_table(plan: Plan, *, pairs: bool = False, told: Told = untold) -> LossesAnswer:
    """Every single loss, and every pair where they are asked for; raises CannotRun."""
    network = compile_network(plan)
    classes = alike(network)
    lost: list[list[Alike]] = [[one] for one in classes]
    lost += [list(pair) for pair in _in_pairs(classes)] if pairs else []
    rooms = [Room(None), *(Room(one.part) for one in classes if one.kind == "zone")]
    rows, headrooms = _answers(plan, network, lost, rooms, told)
    costs = [(row.words, row.kinds[0], row.count, row.failed_until_repaired) for row in rows[: len(classes)]]
    return LossesAnswer(
        losses=sorted(rows, key=lambda row: -row.failed_requests), headroom=headrooms, year=year(plan, costs)
    )


def losing_of(plan: Plan) -> tuple[Plan, Losing]:
    """A plan, and what loses its parts, in whatever process."""
    return plan, Losing(compile_network(plan))


def single_losses(plan: Plan, told: Told = untold) -> list[LossRow]:
    """Every single loss, as it comes; raises CannotRun."""
    network = compile_network(plan)
    return _answers(plan, network, [[one] for one in alike(network)], [], told)[0]


def answer_one(given: tuple[Plan, Losing], question: list[Alike] | Room) -> LossRow | Headroom:
    """A loss, or how far away overload is; a task of `work.spread`."""
    plan, losing = given
    if isinstance(question, Room):
        return headroom(plan, question.part)
    return loss_row(losing, question)


def _answers(
    plan: Plan, network: Network, lost: Sequence[list[Alike]], rooms: Sequence[Room], told: Told
) -> tuple[list[LossRow], list[Headroom]]:
    """A row for each of these losses, and headroom; pairs that have the effect of another, as where a region contains
    its zones, are not computed again."""
    paths, pairs = Paths.of(network), any(len(one) > 1 for one in lost)
    effects = [effect_of(paths, parts_of(one)) if pairs else str(place).encode() for place, one in enumerate(lost)]
    first = {effect: place for place, effect in reversed(list(enumerate(effects)))}
    places = [place for place, one in enumerate(lost) if len(one) == 1 or first[effects[place]] == place]
    asked: list[list[Alike] | Room] = [*(lost[place] for place in places), *rooms]
    answers = spread(answer_one, losing_of, plan, asked, told)
    made = dict(zip(places, [one for one in answers if isinstance(one, LossRow)], strict=True))
    rows = [made.get(place) or called_as(made[first[effects[place]]], one) for place, one in enumerate(lost)]
    alone = {row.words: row for row in rows if len(row.of) == 1}
    rows = [row.model_copy(update={"alone": _alone(row, alone)}) for row in rows]
    return rows, [one for one in answers if isinstance(one, Headroom)]


def _alone(row: LossRow, alone: Mapping[str, LossRow]) -> float:
    """What fails when only the costlier of the parts is lost."""
    return max(alone[one].failed_requests for one in row.of)


def _in_pairs(classes: Sequence[Alike]) -> list[tuple[Alike, Alike]]:
    """Every pair of classes, and each with itself where there are two of it."""
    kept = [one for one in classes if one.kind not in NOT_IN_PAIRS]
    return [pair for pair in combinations_with_replacement(kept, 2) if pairs_count(list(pair))]
