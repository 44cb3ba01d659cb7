"""When backlogs meet their bounds, and how fronts come and go."""

import numpy as np
import pytest

from northgate.engine.addresses import Addresses
from northgate.engine.backlog import advance, next_crossing, patience_bounds
from northgate.engine.drill import undisturbed
from tests.plans import changed, drill_of, network_of, plan_data


def overloaded(**client):
    """600/s onto six machines of 50/s: each has u = 2, and its backlog grows by a second a second."""
    data = changed(plan_data(), "/fleets/0/instance/capacity_rps", 50)
    data = changed(data, "/target_groups/0/probe", None)
    data["clients"][0] |= client
    return undisturbed(network_of(data))


def test_bounds_are_every_patience_once():
    data = plan_data()
    data["clients"][0]["timeout_s"] = 4
    data["target_groups"][0]["response_timeout_s"] = 3
    assert patience_bounds(network_of(data)).tolist() == [3, 5]


def test_the_nearest_bound_comes_first():
    flow = overloaded(timeout_s=2)
    at_rest = flow.queue.latency_s[0]
    crossing = next_crossing(flow, patience_bounds(flow.network), 100.0)
    assert crossing.at_s == pytest.approx(100 + 2 - at_rest)
    assert len(crossing.machines) == 6
    beyond = next_crossing(overloaded(timeout_s=500), np.array([500.0]), 0.0)
    assert beyond.at_s == pytest.approx(10), "then the queue is full"
    assert beyond.backlog_s == pytest.approx([10] * 6)


def test_nothing_moves_below_saturation():
    flow = undisturbed(network_of(plan_data()))
    assert next_crossing(flow, patience_bounds(flow.network), 0.0).at_s == np.inf


def test_backlogs_stay_between_empty_and_full():
    flow = overloaded()
    assert advance(flow, 4.0) == pytest.approx([4] * 6)
    assert advance(flow, 400.0) == pytest.approx([10] * 6)


def test_a_change_of_speed_keeps_the_work_and_stretches_its_seconds():
    data = changed(plan_data(), "/fleets/0/instance/capacity_rps", 50)
    data = changed(data, "/target_groups/0/probe", None)
    steps = [{"at_s": 3, "fail": {"slow": "tiles-1", "factor": 2}}]
    run = drill_of(data, steps, lasts_s=10)
    assert run.flow_at(3).moment.backlog_s[:2] == pytest.approx([6, 3])


@pytest.fixture
def addresses():
    return Addresses(network_of(plan_data()), np.array([False, False, False]))


def test_a_dead_front_leaves_and_a_returned_one_joins_after_its_time(addresses):
    addresses.meet(10.0, np.array([True, False, False]))
    assert addresses.next_change_s() == 15
    assert addresses.take_changes(15.0).tolist() == [0]
    assert addresses.present.tolist() == [False, True, True]
    addresses.meet(20.0, np.array([False, False, False]))
    assert addresses.take_changes(25.0).tolist() == [0]
    assert addresses.present.all()


def test_a_second_fault_does_not_start_the_time_again(addresses):
    addresses.meet(10.0, np.array([True, False, False]))
    addresses.meet(13.0, np.array([True, True, False]))
    assert addresses.take_changes(15.0).tolist() == [0]
    assert addresses.next_change_s() == 18


def test_a_front_that_is_back_in_time_stays(addresses):
    addresses.meet(10.0, np.array([True, False, False]))
    addresses.meet(12.0, np.array([False, False, False]))
    assert addresses.next_change_s() == np.inf
    assert addresses.take_changes(15.0).tolist() == []
