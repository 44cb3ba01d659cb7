"""Sessions and connections as mass: the closed forms against the equation they solve."""

import numpy as np
import pytest
from hypothesis import assume, given, settings
from hypothesis import strategies as st
from scipy.integrate import quad

from northgate.engine.formulas.masses.loops import idle_ends
from northgate.engine.formulas.masses.occupancy import STILL, Occupancy, Openings
from northgate.engine.formulas.masses.rows import OPENS
from tests.support.exploring import examples

ENDS = st.sampled_from([0.0, 1 / 30, 1 / 3600])
HELD = st.lists(st.floats(0, 0.3), min_size=3, max_size=3).map(np.array)
CHANCES = st.lists(st.floats(0, 0.33), min_size=3, max_size=3).map(np.array)
SILENT = st.sampled_from([[False] * 3, [False, False, True], [True, False, True], [True] * 3]).map(np.array)


def masses_of(held, rate, opens, ends, silent, again=0.0, bound=np.nan, served=np.nan, idle_s=np.inf):
    """The masses of one kind."""
    ways = np.stack([np.broadcast_to(one, held.shape) for one in (opens, again, bound, served)])
    return Occupancy(held[None], Openings(ways[:, None], np.array([rate]), np.array([[ends], [idle_s]]), silent[None]))


MASSES = st.builds(
    lambda held, rate, opens, ends, silent: masses_of(held, rate, np.where(silent, 0.0, opens), ends, silent),
    HELD, st.floats(0, 2), CHANCES, ENDS, SILENT,
)  # fmt: skip


def stepwise(masses, t, steps=400):
    """The equation followed in small steps (fourth order), and the mean on the way; `masses` are of one kind."""
    opened, rate = masses.openings, masses.openings.rate[0]

    def drift(m):
        ends = opened.ends[0, 0] + np.where(opened.silent, rate, 0.0)
        return rate * (1 - m.sum()) * opened.ways[OPENS] - m * ends

    h, held, total = t / steps, masses.held, np.zeros((1, 3))
    for _ in range(steps):
        k1 = drift(held)
        k2 = drift(held + h / 2 * k1)
        k3 = drift(held + h / 2 * k2)
        k4 = drift(held + h * k3)
        after = held + h / 6 * (k1 + 2 * k2 + 2 * k3 + k4)
        total += h / 6 * (held + 4 * (held + h / 2 * (k1 + k2 + k3) / 3) + after)
        held = after
    return held, total / t


@settings(max_examples=examples(30))
@given(MASSES, st.floats(0.5, 60))
def test_the_closed_forms_solve_the_equation(masses, t):
    later, mean = stepwise(masses, t)
    assert masses.after(t) == pytest.approx(later, abs=1e-7)
    assert masses.mean(t) == pytest.approx(mean, abs=1e-4)


@given(MASSES, st.floats(0.5, 60))
def test_a_mean_of_two_halves_is_the_mean_of_the_whole(masses, t):
    middle = Occupancy(masses.after(t / 2), masses.openings)
    assert masses.mean(t) == pytest.approx((masses.mean(t / 2) + middle.mean(t / 2)) / 2, abs=1e-9)
    assert masses.after(t) == pytest.approx(middle.after(t / 2), abs=1e-9)


@given(HELD, st.floats(0.1, 2), HELD, CHANCES, ENDS, SILENT, st.floats(0.5, 60))
def test_where_sessions_lead_each_place_comes_to_rest_by_itself(part, rate, bound, served, ends, silent, t):
    """dm/dt = λ s (b - m) - d m: m = r + (m(0) - r) e^(-k t) with k = λ s + d and r = λ s b / k, and the mean of that;
    looked at again after half of 1/k at the latest, while a thousandth is still to move."""
    served = np.where(served > 1e-9, served, 0.0)
    masses = masses_of(part * bound, rate, np.zeros(3), ends, silent, bound=bound, served=served)
    pace = rate * served + ends + np.where(silent, rate, 0.0)
    rest = np.divide(rate * served * bound, pace, out=part * bound, where=pace > 0)
    away = part * bound - rest
    assert masses.after(t)[0] == pytest.approx(rest + away * np.exp(-pace * t), abs=1e-9)
    gone = np.divide(-np.expm1(-pace * t), pace, out=np.full(3, t), where=pace > 0)
    assert masses.mean(t)[0] == pytest.approx(rest + away * gone / t, abs=1e-9)
    assume((np.abs(np.abs(away) - 1e-3) > 1e-9).all() and (np.abs(np.abs(away) - 1e-2) > 1e-9).all())
    moves, drawn = (float(pace[np.abs(away) > least].max(initial=0.0)) for least in (1e-3, 1e-2))
    assert masses.step_s() <= (0.5 / moves * (1 + 1e-12) if moves else np.inf)
    assert masses.drawn_s() == pytest.approx(0.5 / drawn if drawn else np.inf)


def led(t, *, bound=0.3, silent=False, held=0.1):
    """One place that sessions lead to, while calls, those bound, and who is served there, change as parabolas."""
    served = 0.8 - 0.02 * t + 0.001 * t**2
    return masses_of(
        np.array([held]), 2.0 + 0.1 * t, np.array([0.01]), 1 / 30, np.array([silent]), bound=bound - 0.004 * t,
        served=served,
    )  # fmt: skip


@pytest.mark.parametrize(("t", "most"), [(2.0, 1e-4), (1.0, 1.5e-5), (0.5, 2e-6)])
@pytest.mark.parametrize("silent", [False, True])
def test_where_sessions_lead_masses_are_led_on_along_what_changes(silent, t, most):
    """Over up to thrice as long as a place takes to come to rest, as small steps are (fourth order)."""
    steps, held = 2000, 0.1

    def drift(second, m):
        opened = led(second, silent=silent).openings
        (_, _, bound, served), rate, ends = opened.ways[:, 0, 0], opened.rate[0], opened.ends[0, 0]
        return rate * served * (bound - m) + rate * 0.01 - (ends + rate * silent) * m

    for step in range(steps):
        at, h = step * t / steps, t / steps
        k1 = drift(at, held)
        k2 = drift(at + h / 2, held + h / 2 * k1)
        k3 = drift(at + h / 2, held + h / 2 * k2)
        held += h / 6 * (k1 + 2 * k2 + 2 * k3 + drift(at + h, held + h * k3))
    made, off = led(0, silent=silent).led_on(led(t / 2).openings, led(t).openings, t)
    assert abs(made[0, 0] - held) < min(most, off)
    assert off < 3 * most


def test_who_is_connected_without_being_bound_stays_and_his_place_is_missed_when_he_goes():
    """Nobody waits there until so many have left that somebody bound has none: by how much is told."""
    alone = led(0, bound=0.3, held=0.3)
    made, off = alone.led_on(led(1, bound=0.3).openings, led(2, bound=0.2).openings, 2.0)
    by_drawing = 0.01 * 2.1 * 30 * -np.expm1(-2 / 30)
    assert made[0, 0] == pytest.approx(0.3 * np.exp(-2 / 30) + by_drawing, abs=1e-4)
    assert off < 1e-12
    made, off = alone.led_on(led(1, bound=0.4).openings, led(2, bound=0.4).openings, 2.0)
    assert off == pytest.approx(0.4 - 0.008 - made[0, 0], abs=1e-9)


def test_a_few_kinds_are_each_as_alone():
    """Two that change together, of which one repeats, and one that sessions lead."""
    held, silent = np.array([[0.2, 0.1, 0.3], [0.1, 0.4, 0.0], [0.2, 0.2, 0.1]]), np.array([False, True, False])
    ways = [(0.5, 0.0, np.nan, np.nan), (0.3, 0.2, np.nan, np.nan), (0.0, 0.0, 0.3, 0.7)]
    alone = [
        masses_of(mine, rate, np.full(3, opens), 1 / 30, silent, again, bound, served, idle_s)
        for mine, rate, idle_s, (opens, again, bound, served) in zip(
            held, (0.5, 1.0, 2.0), (np.inf, 3.0, 60.0), ways, strict=True
        )
    ]
    parts = [one.openings for one in alone]
    every = Openings(
        np.concatenate([one.ways for one in parts], axis=1), np.concatenate([one.rate for one in parts]),
        np.concatenate([one.ends for one in parts], axis=1), np.concatenate([one.silent for one in parts]),
    )  # fmt: skip
    masses = Occupancy(held, every)
    for ask in (Occupancy.settled, lambda one: one.after(3.0), lambda one: one.mean(3.0)):
        assert np.array_equal(ask(masses), np.concatenate([ask(one) for one in alone]))
    assert masses.step_s() == min(one.step_s() for one in alone)
    led_on = [one.led_on(of, of, 2.0) for one, of in zip(alone, parts, strict=True)]
    assert np.array_equal(masses.led_on(every, every, 2.0)[0], np.concatenate([made for made, _ in led_on]))


@given(MASSES)
def test_what_is_settled_stays(masses):
    if masses.openings.rate[0] * masses.openings.ways[OPENS].sum() > 0:
        settled = Occupancy(masses.settled(), masses.openings)
        assert settled.after(50) == pytest.approx(settled.held, abs=1e-9)
        assert settled.step_s() == np.inf
        assert settled.held.sum() <= 1 + 1e-12


def test_what_moves_is_looked_at_again():
    silent = np.array([False, False, True])
    dying = masses_of(np.array([0.2, 0.2, 0.2]), 0.5, np.array([0.5, 0.5, 0]), 1 / 30, silent)
    assert 0 < dying.step_s() <= 1 / 0.5
    assert masses_of(np.array([0.2, 0.2, STILL / 2]), 0.0, np.zeros(3), 0.0, silent).step_s() == np.inf


@pytest.mark.parametrize(("rate", "idle_s"), [(0.2, 6.0), (3.0, 0.5), (0.01, 60.0), (1.0, 30.0)])
def test_connections_are_closed_so_often_that_those_with_a_recent_call_have_one(rate, idle_s):
    """In balance λ (1 - M) = δ M, and M is the chance of a call within the time-out: 1 - e^(-λ T)."""
    ends = idle_ends(rate, 0.0, idle_s)
    assert rate / (rate + ends) == pytest.approx(1 - np.exp(-rate * idle_s), rel=1e-12)


def test_without_calls_a_connection_lasts_as_long_as_the_time_out():
    assert idle_ends(0.0, 0.0, 60.0) == pytest.approx(1 / 60)
    assert idle_ends(1e-9, 0.0, 60.0) == pytest.approx(1 / 60, rel=1e-6)
    assert idle_ends(5.0, 0.0, 60.0) == 0, "one gap in e^300 is as long"


@pytest.mark.parametrize(
    ("rate", "life_s", "idle_s"), [(0.03, 30.0, 60.0), (0.2, 5.0, 6.0), (3.0, 10.0, 0.5), (1e-6, 20.0, 30.0)]
)
def test_connections_that_end_by_themselves_are_closed_the_more_seldom_for_being_idle(rate, life_s, idle_s):
    """Gap by gap: with x the mean time that one stands in a gap, and b the chance that it stands at the next call, it
    stands x / (1 - b) in all; of these, e^(-s T) / (1 - b) end by being idle."""

    def stands(second):
        return np.exp(-(rate + 1 / life_s) * second)

    in_gap = quad(stands, 0, idle_s, epsabs=0, epsrel=1e-13)[0]
    called = quad(lambda second: rate * stands(second), 0, idle_s, epsabs=0, epsrel=1e-13)[0]
    ends = idle_ends(rate, 1 / life_s, idle_s)
    assert 1 / (1 / life_s + ends) == pytest.approx(in_gap / (1 - called), rel=1e-10)
    assert ends * in_gap == pytest.approx(stands(idle_s), rel=1e-9)
