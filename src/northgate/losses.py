"""The loss table of a plan as a whole: every part lost, and every pair of them, with headroom and a year."""

from collections.abc import Callable, Sequence
from dataclasses import fields
from itertools import combinations_with_replacement

import numpy as np

from northgate.engine.network import Network, compile_network
from northgate.engine.reports import AnswerModel
from northgate.engine.reports.losses import (
    Alike,
    Headroom,
    LossRow,
    YearAnswer,
    alike,
    headroom,
    loss_row,
    pairs_count,
    year,
)
from northgate.engine.truth import Truth, truth_under
from northgate.plan import Plan
from northgate.plan.models.faults import Part
from northgate.work import spread

# In pairs a process and a page of an instance are left out: they cost what their instance does, or less.
NOT_IN_PAIRS = ("process", "page")

Told = Callable[[int, int], None]


class LossesAnswer(AnswerModel):
    """Losses ranked by what fails; headroom without a loss and for each zone; what a year comes to."""

    losses: list[LossRow]
    headroom: list[Headroom]
    year: YearAnswer


def untold(_: int, __: int) -> None:
    """Nobody asks how far the work has come."""


def loss_table(plan: Plan, *, pairs: bool = False, told: Told = untold) -> LossesAnswer:
    """Every single loss, and every pair where they are asked for; raises CannotRun."""
    network = compile_network(plan)
    classes = alike(network)
    lost: list[list[Alike]] = [[one] for one in classes]
    lost += _pairs(network, classes) if pairs else []
    rows = spread(loss_row, plan, lost, told)
    singles = rows[: len(classes)]
    found = rows + (_contained(network, classes, singles) if pairs else [])
    costs = [(row.words, row.kinds[0], row.count, row.failed_until_repaired) for row in singles]
    return LossesAnswer(
        losses=sorted(found, key=lambda row: -row.failed_requests), headroom=_headrooms(plan, classes),
        year=year(plan, costs),
    )  # fmt: skip


def single_losses(plan: Plan, told: Told = untold) -> list[LossRow]:
    """Every single loss, as it comes; raises CannotRun."""
    return spread(loss_row, plan, [[one] for one in alike(compile_network(plan))], told)


def _headrooms(plan: Plan, classes: Sequence[Alike]) -> list[Headroom]:
    lost: list[Part | None] = [None, *(one.part for one in classes if one.kind == "zone")]
    return [headroom(plan, part) for part in lost]


def _in_pairs(classes: Sequence[Alike]) -> list[tuple[Alike, Alike]]:
    """Every pair of classes, and each with itself where there are two of it."""
    kept = [one for one in classes if one.kind not in NOT_IN_PAIRS]
    return [pair for pair in combinations_with_replacement(kept, 2) if pairs_count(list(pair))]


def _pairs(network: Network, classes: Sequence[Alike]) -> list[list[Alike]]:
    """The pairs that are more than one of them alone."""
    return [list(pair) for pair in _in_pairs(classes) if _more_of(network, pair) is None]


def _contained(network: Network, classes: Sequence[Alike], singles: Sequence[LossRow]) -> list[LossRow]:
    """The pairs of which one contains the other, as a region its zones: what the larger costs."""
    row_of = {one.words: row for one, row in zip(classes, singles, strict=True)}
    found = []
    for pair in _in_pairs(classes):
        larger = _more_of(network, pair)
        if larger is not None:
            row, words = row_of[larger.words], " and ".join(one.called for one in pair)
            changes = {
                "parts": [one.part.model_dump(mode="json", exclude_none=True) for one in pair], "words": words,
                "kinds": [one.kind for one in pair], "count": pairs_count(list(pair)),
            }  # fmt: skip
            found.append(row.model_copy(update=changes))
    return found


def _more_of(network: Network, pair: tuple[Alike, Alike]) -> Alike | None:
    """The one of a pair that contains the other, None where each takes something of its own."""
    one, other = pair
    if one == other:
        return None
    both = truth_under(network, [one.part, other.part])
    return next((each for each in pair if _same(truth_under(network, [each.part]), both)), None)


def _same(one: Truth, other: Truth) -> bool:
    return all(np.array_equal(getattr(one, field.name), getattr(other, field.name)) for field in fields(Truth))
