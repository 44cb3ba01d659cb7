"""Array types of the engine."""

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]
Ints = NDArray[np.int64]
Bools = NDArray[np.bool_]


# What long work calls at every step, so that whoever asked for it can stop it by raising an error.
Watch = Callable[[], None]


def go_on() -> None:
    """Watches nothing: the work goes on to its end."""


def total_by(index: Ints, values: Floats | Bools, count: int) -> Floats:
    """Sums `values` that have the same index: an array of `count` totals."""
    return np.bincount(index, weights=values, minlength=count).astype(np.float64)
