"""What is done by hand in a drill: scaling, terminating, expiring, changed records, and restarts batch by batch."""

import itertools
import math
from pathlib import Path

import pytest

from northgate.engine.base import CannotRun
from northgate.engine.drill import run_drill
from northgate.engine.network import compile_network
from northgate.engine.reports.board.ribbons import ribbons
from northgate.engine.reports.drill import drill_answer
from northgate.engine.reports.words import message
from northgate.engine.trace.history import History
from northgate.plan import read_plan
from tests.engine.drill.test_traffic import layer_4
from tests.engine.network.test_names import fronts_of, two_regions
from tests.engine.processes.test_resolvers import watched
from tests.engine.trace.test_law import agrees
from tests.support.plans import changed, drill_of, fail, plan_data, restore

RPS = 600
EXAMPLES = Path(__file__).parents[3] / "examples"
NAME = "www.beckwater.example"


def used(run, second):
    """The names of the machines that get anything, and their utilisation."""
    flow = run.flow_at(second)
    return {
        name: pytest.approx(float(value))
        for name, value in zip(run.network.machines.names, flow.queue.utilisation, strict=True)
        if value > 1e-9
    }


def told(run, *kinds):
    return [(event.at_s, message(event)) for event in run.events if event.kind in kinds]


def scaled(count, at_s=60, **scale):
    data = changed(
        plan_data(), "/fleets/0/scale", {"min": 1, "max": 9, "target_utilisation": 1, "every_s": 9999, **scale}
    )
    return data, [{"at_s": at_s, "scale": {"fleet": "tiles", "count": count}}]


def test_more_are_launched_warmed_up_and_proven_before_they_serve():
    """Launched at 60, there at 60 + 90, in use after two passes, the first of which is sent within 10 s."""
    data, steps = scaled(9)
    run = drill_of(data, steps, lasts_s=400)
    assert used(run, 149) == dict.fromkeys([f"tiles-{n}" for n in range(1, 7)], 0.1)
    assert used(run, 180) == dict.fromkeys([f"tiles-{n}" for n in range(1, 10)], pytest.approx(600 / 9 / 1000))
    zones = [float(run.flow_at(300).zone_served[zone]) for zone in range(3)]
    assert zones == pytest.approx([200] * 3)
    assert told(run, "scaled") == [(60, "tiles is to have 9, has 6: launches tiles-7, tiles-8, tiles-9")]
    assert run.readings.failed == 0


def test_a_fleet_without_an_autoscaler_is_scaled_too():
    run = drill_of(plan_data(), [{"at_s": 60, "scale": {"fleet": "tiles", "count": 8}}], lasts_s=400)
    assert len(used(run, 149)) == 6
    assert len(used(run, 181)) == 8


def test_of_fewer_the_newest_drain_first_and_are_gone():
    data, steps = scaled(8)
    steps.append({"at_s": 300, "scale": {"fleet": "tiles", "count": 5}})
    run = drill_of(data, steps, lasts_s=600)
    assert sorted(used(run, 301)) == [f"tiles-{n}" for n in range(1, 6)]
    assert told(run, "scaled")[1][1].startswith("tiles is to have 5, has 8: drains ")
    assert run.readings.failed == 0


@pytest.mark.parametrize("count", [1, 3])
def test_of_fewer_the_others_are_gone_though_nobody_is_ever_launched(count):
    """A fleet without an autoscaler is to have fewer than it has in a single zone, and more are never wanted."""
    data = changed(plan_data(), "/target_groups/0/drain_s", 10)
    run = drill_of(data, [{"at_s": 60, "scale": {"fleet": "tiles", "count": count}}], lasts_s=200)
    left = [f"tiles-{n}" for n in range(1, count + 1)]
    assert used(run, 61) == used(run, 199) == dict.fromkeys(left, 600 / count / 1000)
    gone = ", ".join(f"tiles-{n}" for n in range(6, count, -1))
    assert told(run, "scaled") == [(60, f"tiles is to have {count}, has 6: drains {gone}")]
    assert run.flow_at(199).state.exists.sum() == count


def test_who_is_terminated_is_silent_until_noticed_and_cannot_come_back():
    remove = {"at_s": 60, "remove": {"instance": "tiles-1"}}
    run, lost = (drill_of(plan_data(), [step], lasts_s=400) for step in (remove, fail(60, instance="tiles-1")))
    assert (
        run.readings.failed
        == pytest.approx(lost.readings.failed)
        == pytest.approx(100 * run.readings.worst_blind_s, rel=0.5)
    )
    assert told(run, "remove") == [(60, "tiles-1 is terminated, and never returns")]
    with pytest.raises(CannotRun, match="has not failed"):
        drill_of(plan_data(), [remove, restore(90, instance="tiles-1")])


def secured():
    data = plan_data(certificates=[{"name": "public", "hosts": [NAME]}])
    return changed(data, "/balancers/0/listeners/0/certificate", "public")


def test_an_expired_certificate_turns_clients_away():
    run = drill_of(secured(), [{"at_s": 60, "expire": {"certificate": "public"}}], lasts_s=100)
    assert run.readings.failed_by_cause["refused"] == pytest.approx(RPS * 40) == run.readings.failed
    assert used(run, 99) == {}
    assert told(run, "expire") == [(60, "certificate public expires")]


def test_an_expired_certificate_leaves_plain_calls_alone():
    data = secured()
    listener = {"name": "http", "protocol": "http", "port": 80, "otherwise": {"pool": "web"}}
    data["balancers"][0]["listeners"].append(listener)
    data["clients"][0]["calls"].append({"url": f"http://{NAME}/tiles/7"})
    run = drill_of(data, [{"at_s": 60, "expire": {"certificate": "public"}}], lasts_s=100)
    assert run.readings.failed == pytest.approx(RPS / 2 * 40)


def test_connections_that_stand_outlive_their_certificate():
    """At layer 4 only who connects anew is shown a certificate: at first nobody, later those whose time is over."""
    data = secured()
    data["balancers"][0] |= {"layer": 4, "idle_timeout_s": 9999}
    data["balancers"][0]["listeners"][0]["protocol"] = "tls"
    data["clients"][0] |= {"sources": 100, "connection_s": 1000}
    run = drill_of(data, [{"at_s": 60, "expire": {"certificate": "public"}}], lasts_s=1060)
    at_once, later = (run.flow_at(second).cause_rps.sum() for second in (61, 1060))
    assert at_once < 0.02 * RPS
    assert later == pytest.approx(RPS * (1 - 2.718281828**-1), rel=0.02)


def changing(at_s, *answers):
    return {"at_s": at_s, "change_answers": {"name": NAME, "answers": [{"balancer": one} for one in answers]}}


def test_a_changed_record_fades_in_with_the_ttl():
    """After x of 60 s the share x / 60 of clients has the new answer; nobody fails, both places serve."""
    data = two_regions(ttl_s=60, choose="order")
    run = drill_of(data, [changing(60, "shore-front")], lasts_s=300)
    for second, new in [(59, 0), (60, 0), (75, 0.25), (90, 0.5), (105, 0.75), (121, 1)]:
        rates = fronts_of(run.flow_at(second))
        whole = sum(rates.values())
        assert sum(rate for front, rate in rates.items() if front.startswith("shore")) == pytest.approx(new * whole)
    assert run.readings.failed == 0
    assert run.readings.settled_s == pytest.approx(60)
    assert told(run, "change_answers") == [(60, f"{NAME} answers shore-front from now on")]


def test_the_order_of_a_changed_record_counts():
    data = two_regions(ttl_s=0, choose="order")
    run = drill_of(data, [changing(60, "shore-front", "front"), changing(120, "front", "shore-front")], lasts_s=300)

    def shore(second):
        return sum(rate for front, rate in fronts_of(run.flow_at(second)).items() if front.startswith("shore"))

    assert [shore(second) > 0 for second in (59, 61, 121)] == [False, True, False]


def test_an_answer_is_withdrawn_and_what_is_not_there_is_refused():
    data = two_regions(ttl_s=0, choose="order")
    out = {"at_s": 60, "withdraw": {"name": NAME, "answer": 0}}
    run = drill_of(data, [out], lasts_s=100)
    assert all(front.startswith("shore") for front, rate in fronts_of(run.flow_at(99)).items() if rate > 0)
    with pytest.raises(CannotRun, match="there is no answer 1"):
        drill_of(data, [out, {"at_s": 70, "withdraw": {"name": NAME, "answer": 1}}])


EMPTIED = {
    "changed to nothing": [changing(60)],
    "written in another order": [changing(60), changing(1, "front", "shore-front")],
    "withdrawn one by one": [{"at_s": 60 - after_s, "withdraw": {"name": NAME, "answer": 0}} for after_s in (40, 0)],
}


@pytest.mark.parametrize("steps", EMPTIED.values(), ids=EMPTIED)
@pytest.mark.parametrize("choose", ["order", "all"])
def test_a_record_without_any_answer_leads_nowhere(steps, choose):
    """From 60 to 120 s old answers fade evenly, from then on all fail: (60 / 2 + 80) times the rate. A trace expects
    what the solver says, and no ribbon leads to a place."""
    data = two_regions(ttl_s=60, choose=choose)
    run = drill_of(data, steps, lasts_s=200)
    rate = sum(client.rps for client in run.network.plan.clients)
    assert run.readings.failed == pytest.approx((60 / 2 + 80) * rate) == run.readings.failed_by_cause["blocked"]
    assert run.readings.requests == pytest.approx(200 * rate)
    for second in (50, 75, 150):
        flow = run.flow_at(second)
        agrees(flow, History(flow, run, second), data["clients"][0], rate)
        assert all(one.to.startswith("balancer:") for one in ribbons(flow) if one.source == f"name:{NAME}")


@pytest.mark.parametrize("at_s", [22.0, 22.13])
def test_who_is_connected_stays_so_for_as_long_as_connections_last(at_s):
    """Once nobody holds the old answer, 60 s later, nobody connects, and connections of 20 s on the mean end one by
    one, to whatever second that comes by rounding."""
    data = layer_4()
    data["clients"][0]["connection_s"] = 20
    run = drill_of(data, [changing(at_s)], lasts_s=200)
    served = [run.flow_at(at_s + 60 + second).served for second in (5, 25, 45)]
    assert served[1:] == pytest.approx([served[0] / math.e, served[0] / math.e**2], rel=1e-5)
    assert served[0] > 60


def test_what_leads_outside_leads_there_though_the_record_may_be_emptied():
    data = two_regions(ttl_s=0, choose="order")
    data["names"][0]["answers"] = [{"address": "198.51.100.9"}]
    run = drill_of(data, [changing(60)], lasts_s=100)
    for second, rate in ((50, 800), (90, 0)):
        led = [(one.to, one.rps) for one in ribbons(run.flow_at(second)) if one.source == f"name:{NAME}"]
        assert led == ([("zone:outside", pytest.approx(rate))] if rate else [])


def test_a_record_without_any_answer_has_its_last_resort():
    data = two_regions(ttl_s=0, choose="order")
    data["names"][0] |= {"answers": [{"balancer": "front"}], "when_none_healthy": {"balancer": "shore-front"}}
    run = drill_of(data, [changing(60)], lasts_s=100)
    assert all(front.startswith("shore") for front, rate in fronts_of(run.flow_at(99)).items() if rate > 0)
    assert run.readings.failed == 0


def test_who_is_watched_is_given_out_again_only_when_healthy():
    """The record is changed to lead back to the lost region: its probes have found it out by then, so the last resort
    of all being taken for healthy applies to what the record has, and to nothing else."""
    data = watched(ttl_s=0)
    steps = [fail(60, region="fells"), changing(200, "front", "shore-front"), changing(300, "front")]
    run = drill_of(data, steps, lasts_s=400)
    assert run.flow_at(250).cause_rps.sum() == pytest.approx(0, abs=1e-6)
    assert run.flow_at(350).cause_rps.sum() == pytest.approx(800)


def roll(**more):
    return {"at_s": 60, "roll": {"group": "tiles", "batch": 2, "restart_s": 40, **more}}


def test_a_roll_restarts_all_batch_by_batch_and_nobody_fails():
    """Away for 40 s, out meanwhile, then proven by two passes; no request is lost, two thirds carry the load."""
    run = drill_of(changed(plan_data(), "/target_groups/0/drain_s", 10), [roll()], lasts_s=900)
    batches = [event for event in run.events if event.kind == "roll"]
    assert [event.about for event in batches] == [
        ("tiles-1", "tiles-2"),
        ("tiles-3", "tiles-4"),
        ("tiles-5", "tiles-6"),
    ]
    assert run.readings.failed == 0
    assert run.readings.peak_utilisation == pytest.approx(0.15)
    first, second, _ = (event.at_s for event in batches)
    assert first == 60
    # 10 s of draining, 40 s away, then at most 2 x 10 s and the latency until the second pass is known everywhere.
    assert 60 + 50 + 10 <= second <= 60 + 50 + 20.1
    (done,) = [event.at_s for event in run.events if event.kind == "rolled"]
    assert sorted(used(run, done + 1)) == [f"tiles-{n}" for n in range(1, 7)]


def test_a_roll_that_waits_for_nothing_overlaps_and_may_leave_nobody():
    data = changed(plan_data(), "/target_groups/0/drain_s", 0)
    run = drill_of(data, [roll(wait_for="restarted", batch=3)], lasts_s=600)
    second = [event.at_s for event in run.events if event.kind == "roll"][1]
    assert second == pytest.approx(100)
    assert run.readings.failed_by_cause["none_healthy"] > 0


@pytest.mark.parametrize("scale", [None, {"min": 6, "max": 6, "target_utilisation": 1, "warmup_s": 400}])
def test_who_is_back_from_being_restarted_does_not_warm_up_again(scale):
    """Restarted soon after the drill has begun, each serves as soon as two passes are known, not after 400 s."""
    data = changed(changed(plan_data(), "/target_groups/0/drain_s", 0), "/fleets/0/scale", scale)
    run = drill_of(data, [roll() | {"at_s": 10}], lasts_s=900)
    batches = [event.at_s for event in run.events if event.kind in ("roll", "rolled")]
    assert [later - sooner <= 40 + 20.1 for sooner, later in itertools.pairwise(batches)] == [True] * 3
    assert run.readings.failed == 0


def test_a_roll_goes_on_past_who_is_terminated():
    """Neither waited for where it is terminated while it is restarted, nor restarted afterwards."""
    remove = [{"at_s": at_s, "remove": {"instance": name}} for at_s, name in ((70, "tiles-1"), (80, "tiles-4"))]
    data = changed(plan_data(), "/target_groups/0/drain_s", 0)
    run = drill_of(data, [roll(), *remove], lasts_s=900)
    batches = [event.about for event in run.events if event.kind == "roll"]
    assert batches == [("tiles-1", "tiles-2"), ("tiles-3", "tiles-5"), ("tiles-6",)]
    assert sorted(used(run, 899)) == ["tiles-2", "tiles-3", "tiles-5", "tiles-6"]


def test_a_roll_stops_where_a_batch_does_not_come_back():
    run = drill_of(plan_data(), [roll(), fail(70, instance="tiles-1")], lasts_s=900)
    assert len([event for event in run.events if event.kind == "roll"]) == 1
    assert drill_answer(run).readings.peak_utilisation == pytest.approx(0.15)


def test_lost_ones_are_replaced_where_the_fleet_says_so():
    """A decision every 30 s: what was lost at 60 is known to be out at 95, given up at 120, and replaced after 90 s."""
    scale = {"min": 6, "max": 6, "target_utilisation": 1, "every_s": 30, "warmup_s": 90, "replaces_lost": True}
    data = changed(plan_data(), "/fleets/0/scale", scale)
    run = drill_of(data, [fail(60, instance="tiles-1")], phases="worst", lasts_s=600)
    assert told(run, "scale")[0][0] == 120
    assert "tiles-1" not in used(run, 590)
    assert len(used(run, 590)) == 6
    kept = drill_of(changed(data, "/fleets/0/scale/replaces_lost", False), [fail(60, instance="tiles-1")], lasts_s=600)
    assert len(used(kept, 590)) == 5


def test_launches_fail_while_there_is_no_room():
    scale = {"min": 6, "max": 9, "target_utilisation": 1, "every_s": 30, "warmup_s": 0, "replaces_lost": True}
    data = changed(plan_data(), "/fleets/0/scale", scale | {"launch_fails_s": 200})
    run = drill_of(data, [fail(60, zone="fells-1")], lasts_s=600)
    assert told(run, "scale")[0][0] == 270
    assert len(used(run, 590)) == 6


def test_the_collectors_that_ship_hold_what_is_expected_of_them():
    """480 requests/s meet nobody for the 4 s of the failover; a roll takes all that carry the tag, and an autoscaler
    does not take who is restarted for lost, though it launches and drains meanwhile."""
    plan = read_plan(EXAMPLES / "gauges.plan.yaml")
    network = compile_network(plan)
    runs = {drill.name: run_drill(network, drill) for drill in plan.drills[:2]}
    assert runs["lose-the-front"].readings.failed_by_cause["dead_front"] == pytest.approx(480 * 4)
    assert all(run.held(one) for run in runs.values() for one in run.drill.expect)
    rolled = [event for event in runs["roll-the-collectors"].events if event.kind == "roll"]
    names = {name for event in rolled for name in event.about}
    assert names >= {"collector-old", "collector-1", "collector-2", "collector-3"}
    assert any(event.kind == "rolled" for event in runs["roll-the-collectors"].events)
