"""Where to begin to look for a flow: on the line or parabola through those that are known."""

from types import SimpleNamespace

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from northgate.engine.drill.ahead.course import STEEPEST, Course, weights_at
from northgate.engine.solver import Attempts


def flow_at(second, numbers):
    """As much of a flow as is asked: attempts that go as 2 + t + t^2, and shares as t and 1 - t; a pair gets none."""
    tries = np.full(numbers, 2 + second + second**2)
    attempts = Attempts.of(tries, tries[:1], np.zeros((0, 3)), np.zeros(1))
    return SimpleNamespace(attempts=attempts, pair_share=np.array([[second, 1 - second, 0.0]]))


def course_of(*seconds, numbers=2):
    return Course((second, flow_at(second, numbers)) for second in seconds)


@given(st.lists(st.integers(-20, 20), min_size=1, max_size=3, unique=True), st.floats(-3, 3), st.integers(0, 1000))
def test_a_polynomial_through_as_many_seconds_as_it_has_numbers_is_found_anywhere(known, second, seed):
    known_s, numbers = [one / 4 for one in known], np.random.default_rng(seed).uniform(-1, 1, len(known))
    at_known, at_second = (np.polynomial.polynomial.polyval(np.array(place), numbers) for place in (known_s, second))
    weights = np.array(weights_at(second, known_s))
    assert weights @ at_known == pytest.approx(at_second, abs=1e-9 * max(1, np.abs(weights).sum()))
    assert weights.sum() == pytest.approx(1, abs=1e-9 * max(1, np.abs(weights).sum()))


def test_what_goes_as_a_parabola_is_led_on_along_it():
    attempts, shares = course_of(0.2, 0.4, 0.5).at(0.7)
    assert attempts.book == pytest.approx([2 + 0.7 + 0.49] * 2)
    assert attempts.after_one == pytest.approx([2 + 0.7 + 0.49])
    assert shares == pytest.approx(np.array([[0.7, 0.3, 0.0]]))


def test_the_nearest_count_and_what_is_known_is_known():
    course = course_of(-5, 0.2, 0.4, 0.5)
    assert course.at(0.7)[0].book == pytest.approx([2 + 0.7 + 0.49] * 2)
    course.add(0.7, flow_at(0.6, 2))
    assert course.at(0.7)[0].book == pytest.approx([2 + 0.6 + 0.36] * 2)


def test_flows_of_other_sizes_lead_nowhere():
    course = course_of(0.2, 0.4, numbers=5)
    course.add(0.5, flow_at(0.5, 2))
    assert course.at(0.7)[0].book == pytest.approx([2 + 0.5 + 0.25] * 2)


def test_what_lies_far_beyond_is_not_guessed_by_a_steep_parabola():
    """Seconds 0, 0.5 and 1: at 4 the parabola would count that of 0.5 -48 times, the line that of 0.5 -6 times."""
    assert max(map(abs, weights_at(4, [1, 0.5, 0]))) == pytest.approx(48)
    assert STEEPEST < 48
    told = course_of(0, 0.5, 1).at(4)[0].book
    assert told == pytest.approx([7 * 4 - 6 * (2 + 0.5 + 0.25)] * 2)


def test_shares_stay_shares_of_the_same_pairs_and_attempts_are_none_at_least():
    attempts, shares = course_of(0.2, 0.6).at(1.5)
    assert (shares > 0).tolist() == [[True, True, False]]
    assert shares[0, 1] == pytest.approx(0.4)
    assert (course_of(1, 2).at(-2)[0].book == flow_at(1, 2).attempts.book).all()
    assert (attempts.book > 0).all()
