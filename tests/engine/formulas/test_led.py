"""Connections that sessions lead to targets through several fronts, against the equations that they follow."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.integrate import solve_ivp
from scipy.linalg import expm

from northgate.engine.formulas.masses.occupancy import Occupancy, Openings
from tests.support.exploring import examples

# Two targets through two fronts, one through a front alone.
TARGET = np.array([0, 1, 0, 1, 2])
BOUND = np.array([0.2, 0.1, 0.2, 0.1, 0.3])
PART = st.lists(st.floats(0, 0.95), min_size=5, max_size=5).map(np.array)
CHANCE = st.lists(st.floats(0.01, 0.5), min_size=5, max_size=5).map(np.array)
SILENT = st.sampled_from([[0] * 5, [1, 0, 0, 0, 0], [1, 0, 1, 0, 0], [0, 1, 0, 0, 1]]).map(
    lambda one: np.array(one) > 0
)
ENDS = st.sampled_from([1 / 30, 1 / 3600])


def masses_of(held, rate, drawn, chance, ends, silent, bound=BOUND):
    """The masses of one kind; nobody opens any where nothing answers."""
    drawn, chance = (np.where(silent, 0.0, np.broadcast_to(one, 5)) for one in (drawn, chance))
    ways = np.stack([drawn, np.zeros(5), bound, chance])[:, None]
    openings = Openings(ways, np.array([rate]), np.array([[ends], [np.inf]]), silent[None], TARGET)
    return Occupancy(held[None], openings)


def slopes(openings, held):
    """The equation."""
    (drawn, _, bound, chance), rate = openings.ways[:, 0], openings.rate[0]
    waits = np.bincount(TARGET, bound - held)[TARGET]
    return rate * chance * waits + rate * drawn - (openings.ends[0, 0] + rate * openings.silent[0]) * held


def exactly(masses, t):
    """What is held after `t` seconds, and on the mean until then: of the linear equation, its integral and 1."""
    system, opened = np.zeros((11, 11)), masses.openings
    system[:5, 10] = slopes(opened, np.zeros(5))
    system[:5, :5] = np.array([slopes(opened, one) for one in np.eye(5)]).T - system[:5, 10:]
    system[5:10, :5] = np.eye(5)
    made = expm(system * t) @ [*masses.held[0], *np.zeros(5), 1]
    return made[:5], made[5:10] / t


def random_masses(part, rate, chance, ends, silent):
    """Masses of which a few are drawn."""
    return masses_of(part * BOUND, rate, 0.01 * ends / rate, chance, ends, silent)


MASSES = st.builds(random_masses, PART, st.floats(0.1, 3), CHANCE, ENDS, SILENT)


@settings(max_examples=examples(30))
@given(MASSES, st.floats(0.5, 40))
def test_what_is_held_solves_the_equation(masses, t):
    later, mean = exactly(masses, t)
    assert masses.after(t)[0] == pytest.approx(later, abs=1e-8)
    assert masses.mean(t)[0] == pytest.approx(mean, abs=1e-8)
    if not masses.openings.silent.any():
        assert masses.led_on(masses.openings, masses.openings, t)[0][0] == pytest.approx(later, abs=1e-8)


@settings(max_examples=examples(30))
@given(MASSES)
def test_what_is_settled_stays(masses):
    settled = Occupancy(masses.settled(), masses.openings)
    assert slopes(settled.openings, settled.held[0]) == pytest.approx(0, abs=1e-12)
    assert settled.step_s() == settled.drawn_s() == np.inf


@pytest.mark.parametrize(
    "silent", [[False] * 5, [False, True, False, False, False]], ids=["all answer", "one is silent"]
)
@pytest.mark.parametrize(("t", "most"), [(1.0, 5e-5), (0.5, 5e-6)])
def test_what_changes_is_followed_along_its_parabola(silent, t, most):
    held, silent = 0.4 * BOUND, np.array(silent)

    def opened_at(second):
        chance = np.array([0.4, 0.3, 0.2, 0.5, 0.9]) - 0.02 * second + 0.001 * second**2
        return masses_of(held, 2 + 0.1 * second, 0.01, chance, 1 / 30, silent, BOUND - 0.004 * second).openings

    made, off = Occupancy(held[None], opened_at(0)).led_on(opened_at(t / 2), opened_at(t), t)
    way = solve_ivp(lambda second, now: slopes(opened_at(second), now), (0, t), held, rtol=1e-10, atol=1e-12)
    assert np.abs(made[0] - way.y[:, -1]).sum() < min(most, off)


def test_how_soon_to_look_again_follows_what_moves_fastest():
    """What a target has comes to rest by λ Σ σ + δ; how fronts share it, by δ alone."""
    silent, chance, ends = np.zeros(5, dtype=bool), np.full(5, 0.4), 1 / 30
    rest = masses_of(np.zeros(5), 2.0, 0.0, chance, ends, silent).settled()[0]
    less = masses_of(rest * np.array([0.9, 1, 0.9, 1, 1]), 2.0, 0.0, chance, ends, silent)
    assert less.step_s() == less.drawn_s() == pytest.approx(0.5 / (2 * 0.8 + ends))
    other = masses_of(rest + np.array([0.05, 0, -0.05, 0, 0]), 2.0, 0.0, chance, ends, silent)
    assert other.step_s() == other.drawn_s() == pytest.approx(0.5 / ends)
