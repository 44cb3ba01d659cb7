"""Classes of calls that are held at targets."""

from dataclasses import dataclass

import numpy as np

from northgate.engine.base import Bools, Floats, Ints

# A class whose calls are held at a target that takes no connect: they go on to others as those are drawn.
DRAWN = -1


# While classes are made, a pair that holds and what is spent before it are one number; NOBODY holds where none does.
STRIDE, NOBODY = 1 << 20, -1


@dataclass
class Stuck:
    """The classes of one call: their weights, which of them no session holds (`free`; the last draws anew each time),
    and per cell the pair that holds each (-1: none there does). `spent`, per cell whose calls may go on to others: how
    many silent targets those of a class have met before, or DRAWN. Row `first + e * classes + k` of the book is entry
    e's, of `entries`, for class k; `ways` are the rows of `Network.arrivals` that these entries may take."""

    call: int
    fate: int
    entries: Ints
    weights: Floats
    free: Bools
    pins: dict[int, Ints]
    spent: dict[int, Ints]
    ways: Ints
    first: int = 0
    first_kind: int = 0

    @property
    def kinds(self) -> slice:
        """The places of these classes among those of all calls."""
        return slice(self.first_kind, self.first_kind + len(self.weights))

    @property
    def rows(self) -> Ints:
        """The rows of the book, (entries, classes)."""
        shape = len(self.entries), len(self.weights)
        return self.first + np.arange(shape[0] * shape[1]).reshape(shape)

    @property
    def free_weights(self) -> Floats:
        """The weights of the classes among those whom no session holds; sums to 1."""
        free = np.where(self.free, self.weights, 0.0)
        if free.sum() <= 0:
            free = (np.arange(len(free)) == len(free) - 1).astype(np.float64)
        return np.asarray(free / free.sum())


@dataclass(frozen=True)
class Part:
    """Classes of a call's sources: their weights, per cell the pair that holds each (as one number with what is spent
    before it), and whether no session holds any of them."""

    weights: Floats
    pins: dict[int, Ints]
    free: bool

    def also(self, other: "Part") -> "Part":
        """Those who are in one class of each; where both hold, the first does."""
        return Part(self.weights * other.weights, other.pins | self.pins, free=self.free and other.free)
