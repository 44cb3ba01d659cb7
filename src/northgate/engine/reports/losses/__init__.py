"""The loss table: what each loss costs, how far away overload is, and what a year comes to."""

from northgate.engine.reports.losses.effects import called_as, effect_of
from northgate.engine.reports.losses.parts import Alike, alike
from northgate.engine.reports.losses.table import (
    Headroom,
    LossRow,
    headroom,
    loss_row,
    pairs_count,
    part_data,
    parts_of,
)
from northgate.engine.reports.losses.year import ASSUMED, YearAnswer, failures_of, year

__all__ = [
    "ASSUMED",
    "Alike",
    "Headroom",
    "LossRow",
    "YearAnswer",
    "alike",
    "called_as",
    "effect_of",
    "failures_of",
    "headroom",
    "loss_row",
    "pairs_count",
    "part_data",
    "parts_of",
    "year",
]
