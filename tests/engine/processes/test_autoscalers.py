"""Autoscaling: what is wanted, where it is launched, when it serves, and what leaves."""

import pytest

from northgate.engine.drill.run import run_drill, undisturbed
from northgate.engine.reports.board.state import board_state
from northgate.engine.reports.words import message
from tests.support.plans import changed, drill_of, fail, network_of, plan_data, surge

SCALE = {"min": 6, "max": 12, "target_utilisation": 0.6, "every_s": 30, "warmup_s": 45}


def scaled(rps=600, capacity=200, **scale):
    data = plan_data()
    data["fleets"][0]["scale"] = SCALE | scale
    data["fleets"][0]["instance"] |= {"capacity_rps": capacity, "service_ms": 5}
    data["clients"][0]["rps"] = rps
    return data


def scalings(run):
    return [(event.at_s, message(event)) for event in run.events if event.kind == "scale"]


def in_use(flow):
    pairs = flow.network.pairs
    return {flow.network.machines.names[m] for m in pairs.machine[flow.state.in_use]}


def test_at_its_target_nothing_is_launched():
    """600/s on six of 200/s: 50 % each, so ceil(6 x 0.5 / 0.6) = 5, within min: 6."""
    run = drill_of(scaled(), [], lasts_s=300)
    assert scalings(run) == []
    assert run.readings.peak_targets == 6


def test_more_load_launches_what_the_formula_wants():
    """960/s from second 60 on six: 80 %; at 90 ceil(6 x 0.8 / 0.6) = 8 are wanted, so two start."""
    run = drill_of(scaled(), [surge(60, 1.6)], lasts_s=120)
    assert scalings(run) == [(90.0, "tiles: 6 in use at 80%, 8 wanted: launches tiles-7, tiles-8")]
    names, zones = run.network.machines.names, run.network.machines.zone
    placed = [run.network.zones[zones[names.index(name)]] for name in ("tiles-7", "tiles-8")]
    assert placed == ["fells-1", "fells-2"], "the emptiest zones first, in plan order"
    assert run.readings.peak_targets == 8


def test_a_new_instance_serves_after_its_warm_up_and_its_probe():
    """Launched at 90, it answers from 135 on; two passes ten seconds apart prove it."""
    run = drill_of(scaled(), [surge(60, 1.6)], lasts_s=200, phases="best")
    proven = [e.at_s for e in run.events if e.kind == "verdict" and "tiles-7" in e.about]
    assert min(proven) >= 135 + 10
    assert max(proven) < 135 + 20 + 1
    assert "tiles-7" not in in_use(run.flow_at(min(proven) - 1))
    assert {"tiles-7", "tiles-8"} <= in_use(run.flow_at(199))
    assert run.flow_at(199).queue.utilisation.max() == pytest.approx(960 / 8 / 200)
    assert run.readings.failed == 0, "what does not serve yet gets nothing"


def test_a_fleet_begins_with_nobody():
    """As a plan stands nothing is launched; in a drill it is, up to the least there may be, and warms up."""
    data = changed(scaled(rps=200, min=2, warmup_s=20), "/fleets/0/count", 0)
    assert undisturbed(network_of(data)).cause_rps.sum() == pytest.approx(200)
    run = drill_of(data, [], lasts_s=120)
    assert scalings(run)[0] == (30, "tiles: 0 in use at 0%, 2 wanted: launches tiles-1, tiles-2")
    assert in_use(run.flow_at(119)) >= {"tiles-1", "tiles-2"}


def test_those_that_start_count_towards_what_is_wanted():
    """At 120 the same eight are wanted: two are on their way."""
    run = drill_of(scaled(warmup_s=100), [surge(60, 1.6)], lasts_s=180)
    assert len(scalings(run)) == 1


def test_max_counts_lost_ones_too():
    """Two of six are lost, seven are allowed: at 120 the load on four wants six, and one may still be launched."""
    run = drill_of(scaled(max=7, rps=700), [fail(60, zone="fells-2")], lasts_s=400)
    assert run.readings.peak_targets == 7
    seen = (5 * 700 / 6 + 25 * 700 / 4) / 30 / 200
    assert scalings(run) == [(120.0, f"tiles: 4 in use at {seen:.0%}, 6 wanted: launches tiles-7")]


def test_a_dead_zone_gets_no_launches():
    run = drill_of(scaled(rps=700, max=18), [fail(60, zone="fells-1")], lasts_s=400)
    names, zones = run.network.machines.names, run.network.machines.zone
    launched = {name for event in run.events if event.kind == "scale" for name in event.about}
    assert launched
    assert {run.network.zones[zones[names.index(name)]] for name in launched} <= {"fells-2", "fells-3"}


def test_scaling_in_drains_the_newest_one_a_decision():
    data = scaled(min=4)
    data["target_groups"][0]["drain_s"] = 20
    run = drill_of(data, [surge(60, 0.5)], lasts_s=200)
    assert [at for at, _ in scalings(run)] == [30.0, 90.0]
    assert "drains tiles-6" in scalings(run)[0][1]
    assert "drains tiles-5" in scalings(run)[1][1]
    assert "tiles-6" not in in_use(run.flow_at(31))
    board = board_state(run.flow_at(60))
    assert [group.targets for group in board.groups] == [5], "after its drain it is gone"
    assert {berth.target for berth in board_state(run.flow_at(40)).berths} == {f"tiles-{n}" for n in range(1, 7)}
    assert run.readings.failed == 0


def test_one_that_is_drained_for_no_time_leaves_that_very_second_and_its_sessions_move_on():
    """What leaves at the second at which sessions begin to move: nothing lies between."""
    data = scaled(rps=200, min=5)
    data["target_groups"][0] |= {"drain_s": 0, "affinity": {"by": "cookie", "renews": False, "lasts_s": 600}}
    data["clients"][0]["sources"] = 3000
    run = drill_of(data, [], lasts_s=60)
    held = 200 / 3000 / (200 / 3000 + 1 / 600)
    assert scalings(run) == [(30, "tiles: 6 in use at 17%, 5 wanted: drains tiles-6")]
    assert run.flow_at(30).state.exists[5] == 0
    assert run.readings.sessions_moved == pytest.approx(3000 * held / 6)


def test_a_plan_that_does_not_scale_is_compiled_once():
    network = network_of(plan_data(drills=[{"name": "any", "lasts_s": 60}]))
    assert run_drill(network, network.plan.drills[0]).network is network


def test_instances_that_bear_a_fleets_name_are_passed_over():
    data = scaled()
    own = {"name": "tiles-7", "zone": "fells-3", "serves": data["fleets"][0]["instance"]["serves"]}
    data["instances"] = [own]
    run = drill_of(data, [surge(60, 1.6)], lasts_s=120)
    assert "launches tiles-10, tiles-8" in scalings(run)[0][1]


@pytest.mark.parametrize("phases", ["spread", "worst"])
def test_nothing_is_lost_while_instances_come_and_go(phases):
    data = scaled(min=3, warmup_s=20)
    script = [surge(50, 2.2), fail(130, zone="fells-2"), surge(260, 0.3)]
    run = drill_of(data, script, lasts_s=600, phases=phases)
    for flow in run.flows:
        assert flow.served + flow.cause_rps.sum() == pytest.approx(flow.requests)
        assert flow.zone_served.sum() == pytest.approx(flow.served)
    assert len(scalings(run)) > 3
