"""Sessions and connections as mass: the closed forms against the equation they solve."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from northgate.engine.formulas.occupancy import STILL, Occupancy, idle_ends
from tests.support.exploring import examples

ENDS = st.sampled_from([0.0, 1 / 30, 1 / 3600])
HELD = st.lists(st.floats(0, 0.3), min_size=3, max_size=3).map(np.array)
CHANCES = st.lists(st.floats(0, 0.33), min_size=3, max_size=3).map(np.array)
SILENT = st.sampled_from([[False] * 3, [False, False, True], [True, False, True], [True] * 3]).map(np.array)
MASSES = st.builds(
    lambda held, rate, opens, ends, silent: Occupancy(held, rate, np.where(silent, 0.0, opens), ends, silent),
    HELD, st.floats(0, 2), CHANCES, ENDS, SILENT,
)  # fmt: skip


def stepwise(masses, t, steps=400):
    """The equation followed in small steps (fourth order), and the mean on the way."""

    def drift(m):
        ends = masses.ends + np.where(masses.silent, masses.rate, 0.0)
        return masses.rate * (1 - m.sum()) * masses.opens - m * ends

    h, held, total = t / steps, masses.held, np.zeros(3)
    for _ in range(steps):
        k1 = drift(held)
        k2 = drift(held + h / 2 * k1)
        k3 = drift(held + h / 2 * k2)
        k4 = drift(held + h * k3)
        after = held + h / 6 * (k1 + 2 * k2 + 2 * k3 + k4)
        total += h / 6 * (held + 4 * (held + h / 2 * (k1 + k2 + k3) / 3) + after)
        held = after
    return held, total / t


@pytest.mark.no_cover
@settings(max_examples=examples(30))
@given(MASSES, st.floats(0.5, 60))
def test_the_closed_forms_solve_the_equation(masses, t):
    later, mean = stepwise(masses, t)
    assert masses.after(t) == pytest.approx(later, abs=1e-7)
    assert masses.mean(t) == pytest.approx(mean, abs=1e-4)


@pytest.mark.no_cover
@given(MASSES, st.floats(0.5, 60))
def test_a_mean_of_two_halves_is_the_mean_of_the_whole(masses, t):
    middle = Occupancy(masses.after(t / 2), masses.rate, masses.opens, masses.ends, masses.silent)
    assert masses.mean(t) == pytest.approx((masses.mean(t / 2) + middle.mean(t / 2)) / 2, abs=1e-9)
    assert masses.after(t) == pytest.approx(middle.after(t / 2), abs=1e-9)


@given(MASSES)
def test_what_is_settled_stays(masses):
    if masses.rate * masses.opens.sum() > 0:
        settled = Occupancy(masses.settled(), masses.rate, masses.opens, masses.ends, masses.silent)
        assert settled.after(50) == pytest.approx(settled.held, abs=1e-9)
        assert settled.step_s() == np.inf
        assert settled.held.sum() <= 1 + 1e-12


def test_what_moves_is_looked_at_again():
    silent = np.array([False, False, True])
    dying = Occupancy(np.array([0.2, 0.2, 0.2]), 0.5, np.array([0.5, 0.5, 0]), 1 / 30, silent)
    assert 0 < dying.step_s() <= 1 / 0.5
    assert Occupancy(np.array([0.2, 0.2, STILL / 2]), 0.0, np.zeros(3), 0.0, silent).step_s() == np.inf


@pytest.mark.parametrize(("rate", "idle_s"), [(0.2, 6.0), (3.0, 0.5), (0.01, 60.0), (1.0, 30.0)])
def test_connections_are_closed_so_often_that_those_with_a_recent_call_have_one(rate, idle_s):
    """In balance λ (1 - M) = δ M, and M is the chance of a call within the time-out: 1 - e^(-λ T)."""
    ends = idle_ends(rate, idle_s)
    assert rate / (rate + ends) == pytest.approx(1 - np.exp(-rate * idle_s), rel=1e-12)


def test_without_calls_a_connection_lasts_as_long_as_the_time_out():
    assert idle_ends(0.0, 60.0) == pytest.approx(1 / 60)
    assert idle_ends(1e-9, 60.0) == pytest.approx(1 / 60, rel=1e-6)
    assert idle_ends(5.0, 60.0) == 0, "one gap in e^300 is as long"
