"""One pass, back: what becomes of requests."""

from dataclasses import dataclass

from northgate.engine.base import Floats


@dataclass(frozen=True)
class Back:
    """What becomes of a request, as shares by kind: at a pair (kind, fate, pair), at a lane's cell, at a row, at an
    entry, and by row of the repeats' book. `later`: the book after one, two, ... connects that took their time-out,
    where that makes a difference to what is too late."""

    pair: dict[int, Floats]
    cell: Floats
    row: Floats
    entry: Floats
    book: Floats
    later: tuple[Floats, ...] = ()

    @property
    def books(self) -> tuple[Floats, ...]:
        """What becomes of a connect by row of the book, after no connect that took its time-out, after one, and so
        on."""
        return (self.book, *self.later)
