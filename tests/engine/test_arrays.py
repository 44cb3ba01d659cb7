"""Sums by index, and what lies between 0 and 1, against what they mean entry by entry."""

import numpy as np

from northgate.engine.base import distinct, sum_columns, sum_rows, unit

RANDOM = np.random.default_rng(7)
INDEX = np.array([2, 0, 2, 3, 0])


def test_rows_of_the_same_index_are_added_up():
    values = RANDOM.random((5, 3))
    made = sum_rows(INDEX, values, 5)
    assert made.shape == (5, 3)
    for place in range(5):
        assert np.allclose(made[place], values[place == INDEX].sum(axis=0), rtol=1e-15)


def test_columns_are_added_up_as_rows_turned():
    values = RANDOM.random((3, 5))
    assert np.array_equal(sum_columns(INDEX, values, 5), sum_rows(INDEX, values.T, 5).T)


def test_what_is_beyond_0_and_1_is_the_nearest_of_them():
    assert unit(np.array([-1e-17, 0.0, 0.25, 1.0, 1 + 1e-12])).tolist() == [0, 0, 0.25, 1, 1]


def test_different_values_are_those_of_numpy_in_order():
    for size in range(6):
        values = RANDOM.choice([3.0, -1.0, np.inf, 0.5], size=(size, 2))
        made = distinct(values)
        assert made.tolist() == sorted(set(values.ravel().tolist()))
        assert made.dtype == values.dtype
