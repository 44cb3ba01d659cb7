"""What lies between arrays, or beyond, with weights."""

import numpy as np
import pytest

from northgate.engine.formulas import mixed, mixed_from_nothing

VALUES = [np.array([[1.0, 4.0, 0.0], [2.0, 0.5, 3.0]]), np.array([[2.0, 1.0, 0.0], [2.0, 4.0, 3.0]]), np.ones((2, 3))]


@pytest.mark.parametrize("weights", [[1.0], [3.0, -2.0], [0.5, 0.5], [1 / 6, 4 / 6, 1 / 6], [3.0, -3.0, 1.0]], ids=str)
def test_up_to_three_arrays_are_added_up_and_nothing_comes_to_less_than_nothing(weights):
    values = VALUES[: len(weights)]
    whole = sum(weight * value for weight, value in zip(weights, values, strict=True))
    assert mixed_from_nothing(values, weights) == pytest.approx(np.maximum(whole, 0), abs=1e-15)
    assert mixed(values, weights) == pytest.approx(np.where(whole > 0, whole, values[0]), abs=1e-15)


def test_what_is_no_number_stays_so():
    made = mixed_from_nothing([np.array([np.nan, 1.0]), np.array([np.nan, 2.0])], [2.0, -1.0])
    assert np.isnan(made[0])
    assert made[1] == 0


def test_of_one_thing_alone_nothing_is_made():
    one = np.array([1.0, 0.1])
    assert mixed([one, one, one], [3.0, -3.0, 1.0]) is one


@pytest.mark.parametrize("mix", [mixed, mixed_from_nothing])
@pytest.mark.parametrize(
    ("sizes", "weights"), [((2, 1), 2), ((2, 3), 2), ((2, 2), 1), ((2, 2, 2), 2), ((2, 2, 2, 2), 4)], ids=str
)
def test_what_does_not_fit_is_refused(mix, sizes, weights):
    with pytest.raises(ValueError, match="of one shape"):
        mix([np.ones(size) for size in sizes], [1 / weights] * weights)


def test_rows_that_stand_apart_are_mixed_as_they_are():
    """Every second column of a table: its numbers do not lie side by side."""
    table = np.arange(12.0).reshape(2, 6)
    assert mixed_from_nothing([table[:, ::2], table[:, 1::2]], [0.5, 0.5]) == pytest.approx(table[:, ::2] + 0.5)
