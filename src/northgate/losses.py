"""The loss table of a plan as a whole: every part lost, and every pair of them, with headroom and a year."""

from collections.abc import Mapping, Sequence
from itertools import combinations_with_replacement

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


def loss_table(plan: Plan, *, pairs: bool = False, told: Told = untold) -> LossesAnswer:
    """Every single loss, and every pair where they are asked for; raises CannotRun."""
    network = compile_network(plan)
    classes = alike(network)
    lost: list[list[Alike]] = [[one] for one in classes]
    lost += [list(pair) for pair in _in_pairs(classes)] if pairs else []
    rows = _rows(plan, network, lost, told)
    costs = [(row.words, row.kinds[0], row.count, row.failed_until_repaired) for row in rows[: len(classes)]]
    return LossesAnswer(
        losses=sorted(rows, key=lambda row: -row.failed_requests), headroom=_headrooms(plan, classes),
        year=year(plan, costs),
    )  # fmt: skip


def losing_of(plan: Plan) -> Losing:
    """What loses parts of a plan, in whatever process."""
    return Losing(compile_network(plan))


def single_losses(plan: Plan, told: Told = untold) -> list[LossRow]:
    """Every single loss, as it comes; raises CannotRun."""
    network = compile_network(plan)
    return _rows(plan, network, [[one] for one in alike(network)], told)


def _rows(plan: Plan, network: Network, lost: Sequence[list[Alike]], told: Told) -> list[LossRow]:
    """A row for each of these losses; pairs that have the effect of another, as where a region contains its zones, are
    not computed again."""
    paths, pairs = Paths(network), any(len(one) > 1 for one in lost)
    effects = [effect_of(paths, parts_of(one)) if pairs else str(place).encode() for place, one in enumerate(lost)]
    first = {effect: place for place, effect in reversed(list(enumerate(effects)))}
    places = [place for place, one in enumerate(lost) if len(one) == 1 or first[effects[place]] == place]
    made = dict(zip(places, spread(loss_row, losing_of, plan, [lost[place] for place in places], told), strict=True))
    rows = [made.get(place) or called_as(made[first[effects[place]]], one) for place, one in enumerate(lost)]
    alone = {row.words: row for row in rows if len(row.of) == 1}
    return [row.model_copy(update={"alone": _alone(row, alone)}) for row in rows]


def _alone(row: LossRow, alone: Mapping[str, LossRow]) -> float:
    """What fails when only the costlier of the parts is lost."""
    return max(alone[one].failed_requests for one in row.of)


def _headrooms(plan: Plan, classes: Sequence[Alike]) -> list[Headroom]:
    lost: list[Part | None] = [None, *(one.part for one in classes if one.kind == "zone")]
    return [headroom(plan, part) for part in lost]


def _in_pairs(classes: Sequence[Alike]) -> list[tuple[Alike, Alike]]:
    """Every pair of classes, and each with itself where there are two of it."""
    kept = [one for one in classes if one.kind not in NOT_IN_PAIRS]
    return [pair for pair in combinations_with_replacement(kept, 2) if pairs_count(list(pair))]
