"""Array types of the engine."""

from collections.abc import Iterable
from typing import Any, TypeVar

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]
Ints = NDArray[np.int64]
Bools = NDArray[np.bool_]
Number = TypeVar("Number", bound=np.number[Any])
# What arrays hold of which compiled loops know, by the letters by which they do.
LETTERS: dict[str, Any] = {"f": np.float64, "i": np.int64, "u": np.uint64, "b": np.bool_}
# Seconds are kept to the nanosecond, so that what happens together is found together.
DIGITS = 9
# A second that never comes.
NEVER = np.inf


def total_by(index: Ints, values: Floats | Bools, count: int) -> Floats:
    """Sums `values` that have the same index: an array of `count` totals."""
    return np.asarray(np.bincount(index, weights=values, minlength=count), dtype=np.float64)


def sum_columns(index: Ints, values: Floats, count: int) -> Floats:
    """Sums the columns of `values` that have the same index: (rows, len(index)) to (rows, count)."""
    rows = values.shape[0]
    flat = (np.arange(rows)[:, None] * count + index).ravel()
    return total_by(flat, values.ravel(), rows * count).reshape(rows, count)


def sum_rows(index: Ints, values: Floats, count: int) -> Floats:
    """Sums the rows of `values` that have the same index: (len(index), columns) to (count, columns)."""
    columns = values.shape[1]
    flat = (index[:, None] * columns + np.arange(columns)).ravel()
    return total_by(flat, values.ravel(), count * columns).reshape(count, columns)


def distinct(values: NDArray[Number]) -> NDArray[Number]:
    """The different values, none of them NaN, in order. `np.unique` would load NumPy's masked arrays at its first call,
    to ask whether these are masked."""
    ordered = np.sort(values, axis=None)
    made: NDArray[Number] = ordered[np.concatenate([[True], ordered[1:] != ordered[:-1]])[: len(ordered)]]
    return made


def where_true(values: Any) -> Ints:
    """Where values of a row are true, or not 0: as `np.flatnonzero`, in a fifth of the time."""
    found: Ints = values.nonzero()[0]
    return found


def same(one: NDArray[Any], other: NDArray[Any]) -> bool:
    """Whether two arrays of a kind hold the same, digit for digit: as `np.array_equal`, in a fifth of the time."""
    return one is other or (one.shape == other.shape and one.tobytes() == other.tobytes())


def some(values: NDArray[Any]) -> bool:
    """Whether any of the values is true, or not 0: as `values.any()`, in a fifth of the time."""
    return bool(np.count_nonzero(values))


def unit(values: Floats) -> Floats:
    """The values, from 0 to 1: what is beyond is the nearest of these."""
    return np.minimum(np.maximum(values, 0.0), 1.0)


def left(whole: Floats | float, gone: Floats | float) -> Floats:
    """The shares that are left of what is whole when so much of it is gone; all where nothing is."""
    rest, some = np.maximum(np.subtract(whole, gone), 0.0), np.greater(gone, 0)
    return np.asarray(np.divide(rest, whole, out=np.where(some, 0.0, 1.0), where=some & np.greater(whole, 0)))


def ints(values: Iterable[Any]) -> Ints:
    """An array of whole numbers."""
    return np.array(list(values), dtype=np.int64)


def floats(values: Iterable[Any]) -> Floats:
    """An array of numbers."""
    return np.array(list(values), dtype=np.float64)


def bools(values: Iterable[Any]) -> Bools:
    """An array of truth values."""
    return np.array(list(values), dtype=bool)


def columns(rows: NDArray[Number]) -> list[NDArray[Number]]:
    """The columns of a table, each of them in one piece."""
    return list(np.ascontiguousarray(rows.T))


def finite(values: Floats) -> Floats:
    """The values, and 0 for those that are not known (inf)."""
    return np.where(np.isfinite(values), values, 0.0)
