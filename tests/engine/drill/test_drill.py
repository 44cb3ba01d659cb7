"""Drills against their algebra: a target lost, a zone lost behind a shared address, and its return."""

from itertools import pairwise

import pytest

from northgate.engine.drill import Losing
from northgate.engine.drill.run import run_drill
from northgate.engine.network.compile import compile_network
from northgate.engine.reports.drill import drill_answer
from northgate.engine.reports.strips import folded_strips, strips
from northgate.engine.reports.whatif import what_if
from northgate.engine.reports.words import message
from northgate.plan import read_plan
from northgate.plan.models.faults import Part
from tests.plan.test_reading import EXAMPLE
from tests.support.plans import changed, drill_of, fail, network_of, plan_data, restore

CLOSE = 1e-9
ZONE = [fail(60, zone="fells-2")]


@pytest.mark.parametrize(("phases", "blind"), [("best", 25), ("worst", 35)])
def test_a_silent_target_fails_its_share_for_the_blind_time(phases, blind):
    readings = drill_of(plan_data(), [fail(60, instance="tiles-1")], phases=phases).readings
    assert readings.failed == pytest.approx(600 / 6 * blind, rel=CLOSE)
    assert readings.failed_by_cause["timed_out"] == pytest.approx(readings.failed, rel=CLOSE)
    assert (readings.worst_blind_s, readings.settled_s) == (blind, blind)


@pytest.mark.parametrize(("phases", "blind"), [("best", 20), ("worst", 30)])
def test_a_refusing_target_fails_its_share_for_the_blind_time(phases, blind):
    readings = drill_of(plan_data(), [fail(60, process="tiles-1", port=8080)], phases=phases).readings
    assert readings.failed_by_cause["refused"] == pytest.approx(600 / 6 * blind, rel=CLOSE)


@pytest.mark.parametrize(("phases", "blind"), [("best", 25), ("worst", 35)])
def test_a_zone_lost_behind_a_shared_address(phases, blind):
    """For 5 s a third meets the dead front; of what living fronts take, a third meets silence until it is noticed."""
    causes = drill_of(plan_data(), ZONE, phases=phases).readings.failed_by_cause
    assert causes["dead_front"] == pytest.approx(600 / 3 * 5, rel=CLOSE)
    at_first, afterwards = 600 * 2 / 3 / 3, 600 / 3
    assert causes["timed_out"] == pytest.approx(at_first * 5 + afterwards * (blind - 5), rel=CLOSE)


def test_a_zone_lost_with_spread_phases_sums_over_every_prober():
    """While k of a front's six targets are still believed in use beyond the four living, k/(4+k) of it fails."""
    run = drill_of(plan_data(), ZONE, phases="spread")
    expected = 0.0
    for front in (0, 2):
        beliefs = sorted(row.blind_s for row in run.blind if run.network.pairs.front[row.pair] == front)
        marks = sorted({0.0, 5.0, *beliefs})
        for start, end in pairwise(marks):
            wrong = sum(blind > start for blind in beliefs)
            rate = 200 if start < 5 else 300
            expected += rate * wrong / (4 + wrong) * (end - start)
    assert run.readings.failed_by_cause["timed_out"] == pytest.approx(expected, rel=CLOSE)


def test_a_front_leaves_and_joins_after_its_failover_time():
    run = drill_of(plan_data(), [*ZONE, restore(300, zone="fells-2")])
    changes = [(event.at_s, message(event)) for event in run.events if event.kind == "front"]
    assert changes == [
        (65, "the fells-2 front leaves the address of front"),
        (305, "the fells-2 front joins the address of front"),
    ]
    assert [run.flow_at(second).places.front_rps[1] for second in (59, 64, 66, 304, 306)] == pytest.approx(
        [200, 200, 0, 0, 200]
    )


def test_a_front_that_returns_before_it_has_left_never_leaves():
    run = drill_of(
        plan_data(),
        [
            fail(60, front={"balancer": "front", "zone": "fells-2"}),
            restore(63, front={"balancer": "front", "zone": "fells-2"}),
        ],
    )
    assert run.readings.failed_by_cause["dead_front"] == pytest.approx(200 * 3)
    assert not [event for event in run.events if event.kind == "front"]


def test_when_every_front_is_dead_all_meets_dead_fronts():
    run = drill_of(plan_data(), [fail(60, region="fells")], lasts_s=100)
    assert run.readings.failed_by_cause["dead_front"] == pytest.approx(600 * 40, rel=CLOSE)


def test_what_is_lost_shifts_to_the_rest():
    run = drill_of(plan_data(), ZONE)
    assert run.flow_at(59).queue.utilisation == pytest.approx([0.1] * 6)
    assert run.flow_at(500).queue.utilisation == pytest.approx([0.15, 0.15, 0, 0, 0.15, 0.15])
    assert run.readings.peak_utilisation == pytest.approx(0.15)


def test_cross_zone_share_counts_served_calls_only():
    readings = drill_of(plan_data(), []).readings
    assert readings.cross_zone_share == pytest.approx(2 / 3)
    assert readings.failed == 0


def test_latency_is_round_trip_wait_and_service():
    data = changed(plan_data(), "/fleets/0/instance/capacity_rps", None)
    assert drill_of(data, []).readings.peak_latency_ms == pytest.approx(12 + 20)


def test_profile_and_surge_multiply_the_rate():
    data = changed(plan_data(), "/clients/0/profile", [[100, 2]])
    run = drill_of(data, [{"at_s": 200, "surge": {"clients": "walkers", "factor": 3}}], lasts_s=300)
    assert run.readings.requests == pytest.approx(600 * (100 + 2 * 100 + 6 * 100))


def test_a_drill_that_lasts_longer_has_no_more_events():
    short, long = (drill_of(plan_data(), ZONE, lasts_s=lasts) for lasts in (600, 86_400))
    assert len(short.keyframes) == len(long.keyframes)
    assert long.readings.failed == short.readings.failed


def test_a_series_value_is_the_one_right_after_its_event():
    series = drill_answer(drill_of(plan_data(), ZONE)).series
    assert series.t_s == [0, 60, 65, 95]
    assert series.by_zone_rps["fells-2"] == pytest.approx([200, 0, 0, 0])
    assert series.failed_rps["dead_front"] == pytest.approx([0, 200, 0, 0])
    assert series.failed_rps["timed_out"] == pytest.approx([0, 400 / 3, 200, 0])
    assert series.utilisation["tiles-3"] == pytest.approx([0.1, 0, 0, 0])


def test_expectations_are_held_or_not():
    expect = [{"reading": "worst_blind_s", "at_most": 35}, {"reading": "failed_by_cause.dead_front", "at_least": 1001}]
    answer = drill_answer(drill_of(plan_data(), ZONE, expect=expect))
    assert [(one.reading, one.wanted, one.held) for one in answer.expect] == [
        ("worst_blind_s", "at most 35", True),
        ("failed_by_cause.dead_front", "at least 1001", False),
    ]
    assert not answer.held


def test_strips_show_truth_and_belief_side_by_side():
    run = drill_of(plan_data(), [fail(60, instance="tiles-1"), restore(200, instance="tiles-1")])
    pieces = [(p.from_s, p.to_s, p.truth, p.believed_in, p.wrong) for p in strips(run)[0].pieces]
    back = run.blind[-1].believed_at_s
    assert pieces == [
        (0, 60, "answers", 3, False),
        (60, 95, "silent", 3, True),
        (95, 200, "silent", 0, False),
        (200, back, "answers", 0, True),
        (back, 600, "answers", 3, False),
    ]


def test_the_same_plan_gives_the_same_bytes():
    texts = set()
    for _ in range(2):
        network = compile_network(read_plan(EXAMPLE))
        texts.add(drill_answer(run_drill(network, network.plan.drills[0])).model_dump_json())
    assert len(texts) == 1


def test_what_is_added_now_is_proven_before_it_is_used():
    """It gets nothing until healthy_after probes have passed: at worst healthy_after intervals later."""
    answer = what_if(Losing(network_of(plan_data())), [Part(instance="tiles-1")], change="added")
    berths = [
        next(one for one in board.berths if one.target == "tiles-1")
        for board in (answer.at_once, answer.noticed, answer.settled)
    ]
    assert [(one.truth, one.unproven) for one in berths] == [("answers", True), ("answers", False), ("answers", False)]
    assert [one.rps for one in berths] == [0, pytest.approx(100), pytest.approx(100)]
    probe = network_of(plan_data()).plan.probes[0]
    assert answer.noticed_after_s == pytest.approx(probe.healthy_after * probe.interval_s, abs=0.05)
    assert berths[0].proven_at_s == pytest.approx(answer.noticed_after_s)
    assert answer.failed_until_noticed == 0


def test_what_if_has_three_moments():
    answer = what_if(Losing(network_of(plan_data())), [Part(zone="fells-2")])
    assert (answer.noticed_after_s, answer.settled_after_s) == (35, 35)
    assert answer.at_once.failed_rps == pytest.approx(200 + 400 / 3)
    assert answer.settled.failed_rps == 0
    assert answer.failed_until_noticed == pytest.approx(1000 + 400 / 3 * 5 + 200 * 30)
    assert [zone.lost for zone in answer.settled.zones] == [False, True, False]


def test_the_demo_reveals_its_weakness():
    """Two zones carry three zones' load, barely; the leisurely probe is what fails the expectation."""
    network = compile_network(read_plan(EXAMPLE))
    answer = drill_answer(run_drill(network, network.plan.drills[0]))
    held = {one.reading: one.held for one in answer.expect}
    assert held == {"failed_share": False, "peak_utilisation": True, "settled_s": True}
    assert 25 <= answer.readings.worst_blind_s < 35


def test_strips_fold_into_counts_by_group_and_zone():
    run = drill_of(plan_data(), [fail(60, zone="fells-2"), restore(200, zone="fells-2")], lasts_s=400)
    cells = {cell.zone: cell for cell in folded_strips(run)}
    lost = cells["fells-2"]
    at = dict(zip(lost.t_s, zip(lost.targets, lost.up, lost.believed, strict=True), strict=True))
    assert at[0.0] == (2, 2, 2.0)
    assert at[60.0] == (2, 0, 2.0), "down, and nobody has noticed"
    assert at[95.0] == (2, 0, 0.0)
    assert at[200.0][:2] == (2, 2)
    assert set(cells["fells-1"].up) == {2}


def test_a_drill_tells_how_far_it_has_come():
    network = network_of(plan_data(drills=[{"name": "loss", "lasts_s": 200, "steps": [fail(60, zone="fells-2")]}]))
    reached = []
    run = run_drill(network, network.plan.drills[0], reached=reached.append)
    assert reached == [frame.t_s for frame in run.keyframes]


def test_an_answer_that_came_to_take_the_whole_time_out_counts_for_the_longest_blind_time():
    """Two instances are left with 300 of 200 requests/s each: answers take half a second longer each second, until a
    probe waits in vain. The pass before it may have been known as late as that, as the next follows on the result."""
    data = plan_data()
    data["fleets"][0]["instance"] |= {"capacity_rps": 200, "queue_s": 20}
    data["probes"][0] |= {"next_after": "result"}
    run = drill_of(data, [fail(60, instance=f"tiles-{number}") for number in (1, 2, 3, 4)], lasts_s=240)
    interval_s, time_out_s = 10, 5
    overloaded = [row for row in run.blind if row.change == "down" and row.true_at_s > 60]
    assert len(overloaded) == 12, "two instances behind three fronts, twice"
    for row in overloaded:
        assert row.bounds.latest.first_s == pytest.approx(interval_s + time_out_s)
        assert row.blind_s <= row.bounds.latest_s
