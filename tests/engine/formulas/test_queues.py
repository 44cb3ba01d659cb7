"""Waits and backlogs against their formulas."""

import math

import numpy as np
import pytest
from scipy.stats import poisson

from northgate.engine.formulas import first_meeting
from northgate.engine.formulas.queues import (
    RECURSION_LIMIT,
    Stations,
    erlang_b,
    erlang_b_of_many,
    erlang_c,
    servers,
)
from tests.support.plans import changed, drill_of, fail, plan_data


def erlang_c_by_sum(count: int, load: float) -> float:
    top = load**count / math.factorial(count) * count / (count - load)
    return top / (sum(load**k / math.factorial(k) for k in range(count)) + top)


@pytest.mark.parametrize(("count", "load"), [(1, 0.5), (2, 1.9), (3, 0.01), (8, 7.2), (40, 30.0)])
def test_erlang_c_is_the_textbook_sum(count, load):
    got = erlang_c(erlang_b(count, load), load / count)
    assert got == pytest.approx(erlang_c_by_sum(count, load), rel=1e-12)


@pytest.mark.parametrize("count", [64, RECURSION_LIMIT, RECURSION_LIMIT + 1])
def test_the_loss_formula_is_the_same_below_and_above_the_recursions_limit(count):
    load = count * 0.9
    wanted = poisson.pmf(count, load) / poisson.cdf(count, load)
    assert erlang_b(count, load) == pytest.approx(wanted, rel=1e-9)
    assert erlang_b_of_many(np.array([count]), np.array([load]))[0] == pytest.approx(wanted, rel=1e-9)


def stations(capacity, service_s, queue_s=(0.0,)):
    return Stations(np.array(capacity), np.array(service_s), np.array(queue_s))


@pytest.mark.parametrize("most", [3, 100, 2 * RECURSION_LIMIT])
def test_stations_wait_as_each_would_alone(most):
    """C(c, a) / (c mu - lambda), one server beside several and beside many."""
    counts, used = np.array([1, 2, most]), np.array([0.3, 0.9, 0.7])
    waits = stations(counts * 50.0, [0.02] * 3).mean_wait_s(used)
    alone = [erlang_c(erlang_b(c, u * c), u) / (50 * c * (1 - u)) for c, u in zip(counts, used, strict=True)]
    assert waits == pytest.approx(alone, rel=1e-12)


def test_one_server_waits_as_in_m_m_1():
    """W = rho / (mu (1 - rho)) for M/M/1."""
    got = stations([50.0], [0.02]).mean_wait_s(np.array([0.6]))[0]
    assert got == pytest.approx(0.6 / (50 * 0.4), rel=1e-12)


def test_the_wait_is_held_above_98_per_cent_and_nought_without_a_limit():
    waits = stations([100.0, 100.0, np.inf], [0.01] * 3).mean_wait_s(np.array([0.98, 5.0, 0.0]))
    assert waits[0] == waits[1] == pytest.approx(0.98 / (100 * 0.02))
    assert waits[2] == 0


@pytest.mark.parametrize(
    ("capacity", "service", "count"), [(150, 0.02, 3), (100, 0.004, 1), (30, 0.05, 2), (np.inf, 1.0, 1)]
)
def test_servers_are_capacity_times_service_rounded_half_up(capacity, service, count):
    assert servers(np.array([capacity]), np.array([service]))[0] == count


@pytest.mark.parametrize(
    ("offered", "backlog", "slope", "excess"),
    [(80, 0, 0, 0), (80, 2, -0.2, 0), (150, 0, 0.5, 0), (150, 4, 0, 1 / 3), (100, 2, 0, 0), (50, 4, -0.5, 0)],
)
def test_the_backlog_grows_by_u_less_one_until_full(offered, backlog, slope, excess):
    queue = stations([100.0], [0.01], [4.0]).queues(np.array([float(offered)]), np.array([float(backlog)]))
    assert (queue.slope[0], queue.excess[0]) == (pytest.approx(slope), pytest.approx(excess))


def test_a_queue_fills_overflows_and_drains_at_the_seconds_of_its_algebra():
    """600/s onto 2 of 6 machines of 200/s: u = 1.5 each, full after queue / 0.5, then a third is refused."""
    data = changed(plan_data(), "/fleets/0/instance/capacity_rps", 200)
    data = changed(data, "/fleets/0/instance/queue_s", 3)
    data = changed(data, "/target_groups/0/probe", None)
    data = changed(data, "/target_groups/0/reach", "zone")
    data = changed(data, "/balancers/0/zones", {"fells-1": None})
    steps = [
        {"at_s": 60, "surge": {"clients": "walkers", "factor": 1}},
        {"at_s": 100, "surge": {"clients": "walkers", "factor": 0.5}},
    ]
    data["clients"][0]["profile"] = [[0, 0.5], [60, 1.0]]
    run = drill_of(data, steps, lasts_s=140)
    times = [frame.t_s for frame in run.keyframes]
    assert 66.0 in times, "3 s of work at 0.5 s a second"
    assert 100 + 3 / 0.25 in times, "at half the load it shrinks by 1 - 0.75"
    assert run.readings.failed_by_cause["overloaded"] == pytest.approx(600 * (1 / 3) * (100 - 66), rel=1e-9)
    assert run.readings.peak_utilisation == pytest.approx(1.5)


def test_a_latency_beyond_the_clients_patience_is_timed_out():
    """Backlog 1 s of work a second: after 2 s minus round trip, wait and service a call takes longer than 2 s."""
    data = changed(plan_data(), "/fleets/0/instance/capacity_rps", 50)
    data["clients"][0] |= {"timeout_s": 2, "profile": [[0, 0.1], [60, 1.0]]}
    data["fleets"][0]["instance"]["service_ms"] = 20
    run = drill_of(changed(data, "/target_groups/0/probe", None), [], lasts_s=120)
    wait = 0.98 / (50 * 0.02)
    crossing = 60 + (2 - 0.012 - 0.02 - wait)
    assert any(frame.t_s == pytest.approx(crossing, abs=1e-9) for frame in run.keyframes)
    served_late = 600 * 0.5 * 0
    full = 60 + 10.0
    late = 600 * (full - crossing) + 600 * 0.5 * (120 - full)
    assert run.readings.failed_by_cause["timed_out"] == pytest.approx(late + served_late, rel=1e-9)


def test_losing_a_machine_empties_its_queue():
    data = changed(plan_data(), "/fleets/0/instance/capacity_rps", 50)
    data = changed(data, "/target_groups/0/probe", None)
    run = drill_of(data, [fail(5, instance="tiles-1")], lasts_s=20)
    assert run.flow_at(4.999).state.backlog_s[0] == pytest.approx(4.999)
    assert run.flow_at(5).state.backlog_s[0] == 0


def test_overload_takes_targets_out_through_their_probes():
    """Surviving machines answer later than the probe waits: they go out too, though nothing broke there."""
    data = changed(plan_data(), "/fleets/0/instance/capacity_rps", 120)
    run = drill_of(data, [fail(60, zone="fells-2"), fail(60, zone="fells-3")], lasts_s=400)
    lost = {run.network.machines.names[int(run.network.pairs.machine[row.pair])] for row in run.blind}
    assert {"tiles-1", "tiles-2"} <= lost
    assert run.readings.failed_by_cause["overloaded"] > 0


@pytest.mark.filterwarnings("error")
@pytest.mark.parametrize(
    ("off", "slope", "bend", "second"),
    [
        (-6.0, 2.0, 0.0, 3.0),
        (-8.0, 0.0, 4.0, 2.0),
        (6.0, -5.0, 2.0, 2.0),
        (6.0, 1.0, 1.0, np.inf),
        (-np.inf, 2.0, 0.0, np.inf),
        (np.inf, 0.0, 0.0, np.inf),
        (-np.inf, 2.0, 1.0, np.inf),
        (np.inf, -2.0, -1.0, np.inf),
    ],
)
def test_a_bound_is_met_at_the_first_root_and_never_where_there_is_none(off, slope, bend, second):
    assert first_meeting(np.array([off]), np.array([slope]), np.array([bend]))[0] == pytest.approx(second)
