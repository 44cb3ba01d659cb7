"""Sessions as mass: the closed forms against the equation they solve, and what a lost and returned target sees."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from northgate.engine.drill import undisturbed
from northgate.engine.sessions import _later, _mean
from tests.engine.test_traffic import targets
from tests.plans import changed, drill_of, fail, network_of, plan_data, restore

LIVES = st.sampled_from([np.inf, 30.0, 3600.0])
MASSES = st.lists(st.floats(0, 0.3), min_size=3, max_size=3).map(np.array)
CHANCES = st.lists(st.floats(0, 0.33), min_size=3, max_size=3).map(np.array)


def stepwise(held, rate, opens, lasts_s, t, steps=4000):
    """The equation followed in small steps (fourth order), and the mean on the way."""

    def drift(m):
        return rate * (1 - m.sum()) * opens - m / lasts_s

    h, total = t / steps, np.zeros_like(held)
    for _ in range(steps):
        k1 = drift(held)
        k2 = drift(held + h / 2 * k1)
        k3 = drift(held + h / 2 * k2)
        k4 = drift(held + h * k3)
        after = held + h / 6 * (k1 + 2 * k2 + 2 * k3 + k4)
        total += h / 6 * (held + 4 * (held + h / 2 * (k1 + k2 + k3) / 3) + after)
        held = after
    return held, total / t


@given(MASSES, st.floats(0, 2), CHANCES, LIVES, st.floats(0.5, 60))
def test_the_closed_forms_solve_the_equation(held, rate, opens, lasts_s, t):
    later, mean = stepwise(held, rate, opens, lasts_s, t, 400)
    assert _later(held, rate, opens, lasts_s, t) == pytest.approx(later, abs=1e-7)
    assert _mean(held, rate, opens, lasts_s, t) == pytest.approx(mean, abs=1e-4)


@given(MASSES, st.floats(0, 2), CHANCES, LIVES, st.floats(0.5, 60))
def test_a_mean_of_two_halves_is_the_mean_of_the_whole(held, rate, opens, lasts_s, t):
    middle = _later(held, rate, opens, lasts_s, t / 2)
    halves = (_mean(held, rate, opens, lasts_s, t / 2) + _mean(middle, rate, opens, lasts_s, t / 2)) / 2
    assert _mean(held, rate, opens, lasts_s, t) == pytest.approx(halves, abs=1e-9)
    assert _later(held, rate, opens, lasts_s, t) == pytest.approx(_later(middle, rate, opens, lasts_s, t / 2), abs=1e-9)


def sticky(**affinity):
    data = changed(plan_data(), "/target_groups/0/affinity", {"by": "cookie", **affinity})
    data["clients"][0]["sources"] = 3000
    return data


def test_settled_sessions_change_no_shares():
    for affinity in ({"renews": True}, {"renews": False, "lasts_s": 30}):
        flow = undisturbed(network_of(sticky(**affinity)))
        assert list(targets(flow).values()) == pytest.approx([100] * 6)
        assert flow.served == pytest.approx(600)


def test_a_lost_targets_sessions_move_at_the_first_verdict():
    lost = [fail(60, instance="tiles-1")]
    renewed = drill_of(sticky(renews=True), lost, lasts_s=300)
    assert renewed.readings.sessions_moved == pytest.approx(3000 / 6)
    rate, lasts_s = 600 / 3000, 30.0
    ended = drill_of(sticky(renews=False, lasts_s=lasts_s), lost, lasts_s=300)
    # While it is silent it opens none, and its sessions end: m(35) = m e^(-35/L).
    held = rate / (rate + 1 / lasts_s) * 3000 / 6
    assert ended.readings.sessions_moved == pytest.approx(held * np.exp(-35 / lasts_s))


def test_a_silent_target_fails_the_sessions_it_has_and_the_calls_that_draw_it():
    """With renewed sessions all of a sixth of the sources stay with it until the verdict: 600/6 calls a second."""
    run = drill_of(sticky(renews=True), [fail(60, instance="tiles-1")], lasts_s=300)
    assert run.readings.failed == pytest.approx(600 / 6 * 35)
    assert targets(run.flow_at(299))["tiles-1"] == 0


def test_a_returned_target_is_avoided_by_renewed_sessions_and_filled_as_others_end():
    script = [fail(60, instance="tiles-1"), restore(200, instance="tiles-1")]
    renewed = drill_of(sticky(renews=True), script, lasts_s=900)
    assert targets(renewed.flow_at(899))["tiles-1"] == pytest.approx(0, abs=0.5), "nobody is free to come back"
    ended = drill_of(sticky(renews=False, lasts_s=60), script, lasts_s=900)
    back = next(row.believed_at_s for row in ended.blind if row.change == "up")
    early, late = targets(ended.flow_at(back + 5))["tiles-1"], targets(ended.flow_at(899))["tiles-1"]
    assert 0 < early < 40
    assert late == pytest.approx(100, rel=1e-3)


def test_what_is_served_and_failed_adds_up_while_sessions_move():
    run = drill_of(
        sticky(renews=False, lasts_s=60), [fail(60, zone="fells-1"), restore(200, zone="fells-1")], lasts_s=600
    )
    for flow in run.flows:
        assert flow.served + flow.cause_rps.sum() == pytest.approx(600)
        assert flow.moment.held.sum() <= 1 + 1e-9
    assert run.readings.requests == pytest.approx(600 * 600)
