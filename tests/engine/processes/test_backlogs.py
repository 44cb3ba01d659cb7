"""When backlogs meet their bounds, and how fronts come and go."""

import numpy as np
import pytest
from msgspec.structs import replace

from northgate.engine.drill.run import undisturbed
from northgate.engine.processes import Backlogs, World
from northgate.engine.processes.backlogs import Growth, growth, next_crossing
from northgate.engine.processes.fronts import Addresses
from northgate.engine.reports.words import message
from northgate.engine.solver.solve import Solver
from tests.support.plans import changed, drill_of, fail, network_of, plan_data


def overloaded(**client):
    """600/s onto six machines of 50/s: each has u = 2, and its backlog grows by a second a second."""
    data = changed(plan_data(), "/fleets/0/instance/capacity_rps", 50)
    data = changed(data, "/target_groups/0/probe", None)
    data["clients"][0] |= client
    return undisturbed(network_of(data))


def linear(by, bends=0.0):
    """How the utilisations of six machines go."""
    return np.stack([np.full(6, by), np.full(6, bends)])


def bounds_of(flow):
    """Beyond which latencies of each machine somebody gives up."""
    return Backlogs(World(flow.network)).bounds_s(flow)


def test_who_is_sent_nowhere_has_no_patience_there():
    """Two targets are out of use: of what clients wait nothing is left there, of what probes wait all."""
    data = plan_data()
    data["clients"][0]["timeout_s"] = 4
    run = drill_of(
        data, [fail(60, page="/ready", status=500, instance=name) for name in ("tiles-1", "tiles-2")], lasts_s=200
    )
    bounds_s = bounds_of(run.flow_at(200))
    assert [sorted(set(mine[np.isfinite(mine)])) for mine in bounds_s] == [[5]] * 2 + [[4 - 0.012, 5]] * 4


def test_those_who_do_not_ask_have_no_patience():
    data = plan_data()
    data["clients"].append({**data["clients"][0], "name": "riders", "timeout_s": 3, "rps": 0})
    assert set(bounds_of(undisturbed(network_of(data)))[0]) == {10 - 0.012, 5}
    data["clients"][1]["rps"] = 1
    assert set(bounds_of(undisturbed(network_of(data)))[0]) == {3 - 0.012, 10 - 0.012, 5}


def test_the_nearest_bound_comes_first():
    flow = overloaded(timeout_s=2)
    at_rest = flow.queue.latency_s[0]
    crossing = next_crossing(flow, growth(flow), bounds_of(flow), 100.0)
    assert crossing.at_s == pytest.approx(100 + 2 - 0.012 - at_rest), "less the round trip"
    assert len(crossing.machines) == 6
    patient = overloaded(timeout_s=500)
    beyond = next_crossing(patient, growth(patient), np.array([[500.0]]), 0.0)
    assert beyond.at_s == pytest.approx(10), "then the queue is full"
    assert beyond.backlog_s == pytest.approx([10] * 6)


def test_rates_jump_where_somebody_gives_up_or_a_queue_is_full():
    """Of six that are overloaded; and of those that were, and now are idle."""
    flow = overloaded(timeout_s=500)

    def met(first, bounds_s, probes=0):
        crossing = next_crossing(first, growth(first), np.array([bounds_s]), 0.0, probes)
        return crossing.at_s, crossing.jumps

    wait_s = flow.queue.latency_s[0]
    assert met(flow, [wait_s + 3, wait_s + 4]) == (pytest.approx(3), True)
    assert met(flow, [wait_s + 4, wait_s + 3], probes=1) == (pytest.approx(3), False), "a probe alone"
    assert met(flow, [wait_s + 20]) == (pytest.approx(10), True), "all queues are full"
    idle = undisturbed(network_of(plan_data()))
    idle = replace(idle, state=replace(idle.state, backlog_s=np.full(6, 2.0)))
    assert met(idle, []) == (pytest.approx(2 / (1 - idle.queue.utilisation[0])), False), "all queues are empty"


def test_nothing_moves_below_saturation():
    flow = undisturbed(network_of(plan_data()))
    assert next_crossing(flow, growth(flow), bounds_of(flow), 0.0).at_s == np.inf


def test_a_backlog_is_the_integral_of_what_is_offered_beyond_what_is_worked_off():
    flow = overloaded()
    assert growth(flow).after(4.0) == pytest.approx([4] * 6)
    faster = growth(flow, linear(0.25, -0.06))
    seconds = np.linspace(0, 3, 30_001)
    integral = np.trapezoid(1 + 0.25 * seconds - 0.06 * seconds**2, seconds)
    assert faster.after(3.0) == pytest.approx([integral] * 6, rel=1e-8)
    assert faster.mean(3.0)[0] == pytest.approx(
        np.trapezoid([faster.after(t)[0] for t in seconds], seconds) / 3, rel=1e-8
    )


@pytest.mark.parametrize(
    ("slope", "bend", "third", "aim"),
    [
        (1, 0, 0, 4),
        (1, 0.5, 0, 4),
        (-1, 0.1, 0, 2),
        (0, 0.5, 0, 4),
        (2, -0.25, 0, 7),
        (1, 0.5, -0.1, 4),
        (-1, 0.1, 0.3, 2.5),
        (0.1, -0.2, 0.2, 4),
    ],
)
def test_bounds_are_met_at_the_roots(slope, bend, third, aim):
    flow = overloaded(timeout_s=500)
    backlog = np.full(6, 3.0)
    grown = Growth(backlog, *(np.full(6, float(value)) for value in (slope, bend, third, np.inf)))
    at_rest = flow.queue.latency_s[0] - 3
    crossing = next_crossing(flow, grown, np.array([[aim + at_rest, 500]]), 0.0)
    roots = np.roots([third / 6, bend / 2, slope, 3 - aim])
    first_s = min(root.real for root in roots if abs(root.imag) < 1e-9 and root.real > 0)
    assert crossing.at_s == pytest.approx(first_s, rel=1e-9)
    assert grown.after(crossing.at_s) == pytest.approx([aim] * 6, rel=1e-9)


def test_what_rests_turns_when_offered_and_worked_off_are_even():
    idle = undisturbed(network_of(plan_data()))
    used = idle.queue.utilisation[0]
    grown = growth(idle, linear(0.1))
    assert not grown.moves
    assert next_crossing(idle, grown, np.zeros((1, 0)), 50.0).at_s == pytest.approx(50 + (1 - used) / 0.1)
    full = replace(overloaded(), state=replace(overloaded().state, backlog_s=np.full(6, 10.0)))
    grown = growth(full, linear(-0.5))
    assert not grown.moves, "it stays full while more is offered than is worked off"
    assert next_crossing(full, grown, np.zeros((1, 0)), 0.0).at_s == pytest.approx(1 / 0.5)


def onto_a_reserve(probe=None):
    """At 20 s the fronts of a balancer fail; its name's answers move to a second one over a TTL of 60 s, whose two
    targets, asked by this probe, then get 600/s where they can work off 200/s: how it goes."""
    zones = ["fells-1", "fells-2", "fells-3"]
    data = changed(plan_data(), "/fleets/0/instance/capacity_rps", 100)
    data["fleets"].append({**data["fleets"][0], "name": "reserve", "zones": {"fells-3": None}, "count": 2})
    group = {"name": "reserve", "port": 8080, "probe": probe and probe["name"], "targets": [{"fleet": "reserve"}]}
    data["target_groups"].append(group)
    data["pools"].append({"name": "reserve", "tiers": [{"groups": {"reserve": 1}}]})
    other = {**data["balancers"][0], "name": "second", "zones": {"fells-3": None}, "addresses": ["203.0.113.20"]}
    listener = {**data["balancers"][0]["listeners"][0], "otherwise": {"pool": "reserve"}}
    data["balancers"].append(other | {"listeners": [listener]})
    data["probes"].append({"name": "watch", "protocol": "https", "port": 443, "interval_s": 10, "unhealthy_after": 1})
    data["probes"] += [probe] if probe else []
    data["names"][0] |= {"answers": [{"balancer": "front"}, {"balancer": "second"}], "probe": "watch", "ttl_s": 60}
    data["names"][0]["probed_from"] = ["uplands"]
    data["clients"][0] |= {"rps": 600, "timeout_s": 500}
    steps = [{"at_s": 20, "fail": {"front": {"balancer": "front", "zone": zone}}} for zone in zones]
    return drill_of(data, steps, phases="best", lasts_s=200)


def test_a_queue_fills_as_old_answers_fade():
    """Answers move to a second balancer over a TTL of 60 s: its load rises evenly, and its backlog with the square."""
    run = onto_a_reserve()
    changed_s = next(event.at_s for event in run.events if event.kind == "answer")
    # 600/s move over 60 s onto 2 x 100/s: u = t / 20 s, even after 20 s, then b = (t - 20)^2 / 40, full at 10 s.
    for after_s in (25, 30, 38):
        backlog = run.flow_at(changed_s + after_s).state.backlog_s
        assert backlog[6:] == pytest.approx([(after_s - 20) ** 2 / 40] * 2, rel=1e-9)
    full_s = 20 + (10 * 40) ** 0.5
    assert (
        run.flow_at(changed_s + full_s + 1e-6).cause_rps.sum() > run.flow_at(changed_s + full_s - 1e-3).cause_rps.sum()
    )


def test_a_probe_waits_for_a_queue_that_has_just_begun_to_fill():
    """The next probe is sent 4 s after the answer to the last: each waits for what has been asked before it, also where
    load has just come to the capacity, and is still growing. The first that waits for 3 s brings the verdict."""
    probe = {"name": "beside", "path": "/ready", "interval_s": 4, "timeout_s": 3, "unhealthy_after": 1}
    run = onto_a_reserve(probe | {"next_after": "result"})

    def answer_s(sent_s):
        return float(run.flow_at(sent_s).queue.latency_s[6])

    sent_s = 20 % (4 + answer_s(0))
    while answer_s(sent_s) <= 3:
        sent_s += 4 + answer_s(sent_s)
    out_s = next(event.at_s for event in run.events if message(event).startswith("reserve-1, reserve-2 out"))
    assert out_s == pytest.approx(sent_s + 3, abs=1e-6)


def test_a_change_of_speed_keeps_the_work_and_stretches_its_seconds():
    data = changed(plan_data(), "/fleets/0/instance/capacity_rps", 50)
    data = changed(data, "/target_groups/0/probe", None)
    steps = [{"at_s": 3, "fail": {"slow": "tiles-1", "factor": 2}}]
    run = drill_of(data, steps, lasts_s=10)
    assert run.flow_at(3).state.backlog_s[:2] == pytest.approx([6, 3])


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


@pytest.mark.parametrize("balance", ["least-connections", "two-choices"])
def test_those_chosen_by_how_busy_they_are_follow_their_backlogs(balance):
    """Shares go by w / hold, hold by the backlog that they make: the drill's steps against fine Runge-Kutta ones."""
    data = changed(plan_data(), "/fleets/0/instance/capacity_rps", 90)
    data["target_groups"][0] |= {"probe": None, "balance": balance}
    data["clients"][0]["timeout_s"] = 500
    run = drill_of(data, [{"at_s": 1, "fail": {"slow": "tiles-1", "factor": 3}}], lasts_s=12)
    flow = run.flow_at(1)

    def slope(backlog_s):
        return Solver(run.network).solve(replace(flow.state, backlog_s=backlog_s)).queue.utilisation - 1

    backlog_s, step_s = flow.state.backlog_s, 0.05
    for _ in range(int(5 / step_s)):
        first = slope(backlog_s)
        second = slope(backlog_s + first * step_s / 2)
        third = slope(backlog_s + second * step_s / 2)
        fourth = slope(backlog_s + third * step_s)
        backlog_s = np.maximum(backlog_s + (first + 2 * second + 2 * third + fourth) * step_s / 6, 0)
    assert backlog_s[0] > 1.2 * backlog_s[1], "the slow one's grows faster"
    assert run.flow_at(6).state.backlog_s == pytest.approx(backlog_s, rel=3e-4)
