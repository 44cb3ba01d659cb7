"""Array types of the engine."""

from collections.abc import Callable
from functools import wraps
from typing import TypeVar
from weakref import WeakKeyDictionary

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]
Ints = NDArray[np.int64]
Bools = NDArray[np.bool_]


# What long work calls at every step, so that whoever asked for it can stop it by raising an error.
Watch = Callable[[], None]
# What is told how far long work has come: here, the second of a drill that has been reached.
Reached = Callable[[float], None]


Of = TypeVar("Of")
Made = TypeVar("Made")


def kept(make: Callable[[Of], Made]) -> Callable[[Of], Made]:
    """Makes something of an immutable object once, and keeps it for as long as that object lives."""
    made: WeakKeyDictionary[Of, Made] = WeakKeyDictionary()

    @wraps(make)
    def get(of: Of) -> Made:
        if of not in made:
            made[of] = make(of)
        return made[of]

    return get


def go_on() -> None:
    """Watches nothing: the work goes on to its end."""


def untold(_second: float) -> None:
    """Tells nobody how far the work has come."""


def total_by(index: Ints, values: Floats | Bools, count: int) -> Floats:
    """Sums `values` that have the same index: an array of `count` totals."""
    return np.bincount(index, weights=values, minlength=count).astype(np.float64)


def sum_columns(index: Ints, values: Floats, count: int) -> Floats:
    """Sums the columns of `values` that have the same index: (rows, len(index)) to (rows, count)."""
    rows = values.shape[0]
    flat = (np.arange(rows)[:, None] * count + index).ravel()
    return total_by(flat, values.ravel(), rows * count).reshape(rows, count)
