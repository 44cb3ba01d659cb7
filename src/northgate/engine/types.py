"""Array types of the engine."""

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]
Ints = NDArray[np.int64]
Bools = NDArray[np.bool_]


def total_by(index: Ints, values: Floats | Bools, count: int) -> Floats:
    """Sums `values` that have the same index: an array of `count` totals."""
    return np.bincount(index, weights=values, minlength=count).astype(np.float64)
