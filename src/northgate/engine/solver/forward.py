"""One pass, forward: from entries to fronts, groups and targets."""

from dataclasses import dataclass

from northgate.engine.base import Bools, Floats, Ints
from northgate.engine.formulas import LastStops


@dataclass(frozen=True)
class Sent:
    """Rates on the way forward: per entry and row, and per fate (first axis) by route, lane and cell."""

    entry: Floats
    row: Floats
    route: Floats
    lane: Floats
    cell: Floats


@dataclass(frozen=True)
class Stop:
    """Requests of one fate at one cell's pairs that have tried others: which of them are bad, and where it ends."""

    fate: int
    pairs: Ints
    bad: Bools
    found: LastStops
