"""Names over time: votes, standing answers and the tails of caches; fronts with addresses of their own; slow starts."""

import numpy as np
import pytest

from northgate.engine.drill.run import run_drill
from northgate.engine.reports.drill import drill_answer
from northgate.engine.reports.words import message
from northgate.plan.models.drills import CAUSES
from tests.engine.drill.test_traffic import targets
from tests.engine.network.test_names import WATCH, fronts_of, two_regions
from tests.support.plans import changed, drill_of, fail, network_of, plan_data, restore

RPS = 800


def watched(**name):
    """Two regions under one name whose answers are probed from the uplands, TTL 60 s."""
    data = two_regions(**{"probe": "watch", "probed_from": ["uplands"], "ttl_s": 60, **name})
    data["probes"].append(WATCH)
    return data


def test_a_region_lost_costs_the_probes_blind_time_and_half_the_ttl():
    """Just missed: 3 x 10 s + 5 s until the verdict; then the share of old answers falls evenly over the TTL."""
    run = drill_of(watched(), [fail(60, region="fells")], lasts_s=600)
    assert run.readings.failed == pytest.approx(RPS * (35 + 60 / 2), rel=1e-9)
    assert run.readings.failed_by_cause["dead_front"] == pytest.approx(run.readings.failed)
    assert run.readings.settled_s == pytest.approx(35 + 60)
    wanted = "front out, says uplands of www.beckwater.example"
    assert [event.at_s for event in run.events if message(event) == wanted] == [95]


@pytest.mark.parametrize(("second", "old"), [(94, 1.0), (95, 1.0), (110, 0.75), (125, 0.5), (154, 1 / 60), (156, 0)])
def test_old_answers_fade_evenly(second, old):
    run = drill_of(watched(), [fail(60, region="fells")], lasts_s=600)
    flow = run.flow_at(second)
    assert fronts_of(flow)["shore-front/coast-1"] == pytest.approx(RPS * (1 - old), abs=1e-6)
    assert flow.cause_rps.sum() == pytest.approx(RPS * old, abs=1e-6)


def test_the_share_on_old_answers_is_a_series():
    run = drill_of(watched(), [fail(60, region="fells")], lasts_s=600)
    series = drill_answer(run).series
    stale = dict(zip(series.t_s, series.stale_share["www.beckwater.example"], strict=True))
    assert stale[95.0] == pytest.approx(1)
    assert stale[125.0] == pytest.approx(0.5)
    assert stale[155.0] == pytest.approx(0)
    assert stale[0.0] == 0


def test_what_fails_by_old_answers_is_what_is_told_beyond_what_would_be_told_now():
    """Every request fails. The coast is told to half until 15 s, then to nobody, to half from 110.05 s, alone from
    115 s and to half again from 130.032 s on. How many hold its address comes to that half before a tail ends, and
    goes on rising: from then on some of them hold an old answer."""
    data = watched(choose="share")
    data["probes"][-1] = {**WATCH, "unhealthy_after": 1, "healthy_after": 1}
    data["fleets"][0]["instance"]["serves"][0]["pages"] = {"/": 500, "/ready": 200}
    steps = [fail(0, region="coast"), restore(100, region="coast"), fail(100, region="fells")]
    run = drill_of(data, [*steps, restore(117, region="fells")], lasts_s=400)
    turns_s, coast = [15, 110.05, 115, 130.032], [0.5, 0.0, 0.5, 1.0, 0.5]
    assert [event.at_s for event in run.events if "says uplands" in message(event)] == turns_s

    second = np.arange(0.0005, 400, 0.001)
    begins, ends = [-np.inf, *turns_s], [*turns_s, np.inf]
    valid = [
        np.clip(np.minimum(end, second) - np.maximum(begin, second - 60), 0, None) / 60
        for begin, end in zip(begins, ends, strict=True)
    ]
    told, now = np.array(coast) @ valid, np.array(coast)[np.searchsorted(turns_s, second, side="right")]
    old = np.abs(told - now).sum() * 0.001
    assert run.readings.failed == pytest.approx(RPS * 400)
    assert run.readings.failed_by_mechanism["old_answers"] == pytest.approx(RPS * old, rel=1e-7)
    meets_s = 130.032 + 2 * (30 - (115 - 110.05) / 2 - (130.032 - 115))
    assert any(frame.t_s == pytest.approx(meets_s) for frame in run.keyframes), "there it begins to fail otherwise"


def test_resolvers_that_overhold_make_the_tail_longer():
    data = watched()
    for client in data["clients"]:
        client["overholds"] = {"share": 0.2, "s": 300}
    run = drill_of(data, [fail(60, region="fells")], lasts_s=900)
    assert run.readings.failed == pytest.approx(RPS * (35 + 0.8 * 60 / 2 + 0.2 * 300 / 2), rel=1e-9)
    assert run.readings.settled_s == pytest.approx(35 + 300)


def test_without_a_time_to_live_the_change_is_at_once():
    run = drill_of(watched(ttl_s=0), [fail(60, region="fells")], lasts_s=600)
    assert run.readings.failed == pytest.approx(RPS * 35)


def test_a_majority_of_areas_decides():
    """Two areas probe, spread by half an interval: more than half of two is both of them."""
    data = watched(probed_from=["uplands", "shore"])
    run = drill_of(data, [fail(60, region="fells"), restore(300, region="fells")], lasts_s=900, phases="spread")
    verdicts = [(event.at_s, message(event)) for event in run.events if event.kind == "answer"]
    assert [at for at, words in verdicts if "out" in words] == pytest.approx([85, 90])
    flow = run.flow_at(87)
    assert fronts_of(flow)["shore-front/coast-1"] > 0, "one of two is no majority for staying: the vote turns at once"
    assert fronts_of(run.flow_at(899))["shore-front/coast-1"] == pytest.approx(0), "back to the first in order"


def test_a_region_that_is_back_is_answered_again_once_proven():
    run = drill_of(watched(), [fail(60, region="fells"), restore(400, region="fells")], lasts_s=900)
    back = [event.at_s for event in run.events if "back in use, says uplands" in message(event)]
    assert len(back) == 1
    assert 400 + 10 <= back[0] <= 400 + 20 + 1, "two passes, ten seconds apart"
    assert run.flow_at(back[0] + 61).cause_rps.sum() == pytest.approx(0)


def test_nobody_healthy_leads_to_the_last_resort():
    data = watched(when_none_healthy={"address": "192.0.2.99"})
    run = drill_of(data, [fail(60, region="fells"), fail(60, region="coast")], lasts_s=600)
    late = run.flow_at(599)
    assert dict(zip(run.network.zones, late.zone_served, strict=True))["outside"] == pytest.approx(RPS)


def per_zone(*, tries_next=True, ttl_s=30, **client):
    data = plan_data()
    data["balancers"][0] |= {"address_kind": "per-zone", "addresses": [], "front_failover_s": 5}
    data["names"][0]["ttl_s"] = ttl_s
    data["clients"][0] |= {"tries_next_address": tries_next, **client}
    return data


LOST = {"balancer": "front", "zone": "fells-1"}


def test_an_address_of_a_fronts_own_leaves_the_answer_and_then_the_caches():
    run = drill_of(per_zone(tries_next=False), [fail(60, front=LOST)], lasts_s=300)
    assert run.readings.failed == pytest.approx(600 / 3 * (5 + 30 / 2), rel=1e-9)
    back = drill_of(per_zone(tries_next=False), [fail(60, front=LOST), restore(200, front=LOST)], lasts_s=400)
    assert back.readings.failed == pytest.approx(run.readings.failed), "a returned front fails nobody"
    assert fronts_of(back.flow_at(220))["front/fells-1"] == pytest.approx(200 * 15 / 30)


def test_after_a_failed_connect_clients_take_the_next_address():
    one = drill_of(per_zone(), [fail(60, front=LOST)], lasts_s=300)
    assert one.readings.failed == pytest.approx(0), "five seconds of waiting, and another address answers"
    assert fronts_of(one.flow_at(61)) == pytest.approx(
        {"front/fells-1": 200, "front/fells-2": 300, "front/fells-3": 300}
    )
    two = [fail(60, front=LOST), fail(60, front={"balancer": "front", "zone": "fells-2"})]
    # Of three addresses two are dead: there is time for two tries, and both are dead with 2/3 x 1/2.
    run = drill_of(per_zone(), two, lasts_s=300)
    assert run.flow_at(61).cause_rps.sum() == pytest.approx(600 / 3)
    assert run.flow_at(61).places.entry_rps.sum() == pytest.approx(600), (
        "each call is counted once, however often it is tried"
    )
    patient = drill_of(per_zone(timeout_s=15), two, lasts_s=300)
    assert patient.flow_at(61).cause_rps.sum() == pytest.approx(0), "time for all three"
    for flow in run.flows:
        assert flow.served + flow.cause_rps.sum() == pytest.approx(600)
    again = drill_of(per_zone(retries=1), two, lasts_s=300)
    assert again.flow_at(61).cause_rps.sum() == pytest.approx(600 / 9), "a third fails, and of those again a third"
    for flow in again.flows:
        assert flow.served + flow.cause_rps.sum() == pytest.approx(600)


def test_where_no_belief_agrees_with_what_it_makes_probes_find_a_drill_begins_with_one_and_what_is_held_under_it():
    """While all come, a machine works 20/21 of its time, and an answer takes 0.15 s: too long for the probe, so that
    nobody comes, and it passes. Who is believed at first has passed so far: it is out after three that do not."""
    data = watched(answers=[{"balancer": "front"}], when_none_healthy={"address": "198.51.100.9"})
    data["probes"][-1] = {**WATCH, "timeout_s": 0.1}
    data["fleets"][0]["instance"] |= {"capacity_rps": 140, "service_ms": 7, "queue_s": 5}
    data["target_groups"][0] |= {"affinity": {"by": "cookie", "renews": False, "lasts_s": 60}}
    run = drill_of(data, [], lasts_s=60)
    first = run.flow_at(0)
    for client, held in zip(first.network.plan.clients, first.state.held.sessions, strict=True):
        calls = client.rps / client.sources
        assert held[:6] == pytest.approx(calls / (calls + 1 / 60) / 6)
    assert run.flow_at(30).queue.utilisation == pytest.approx(first.queue.utilisation)
    wanted = "front out, says uplands of www.beckwater.example"
    assert [event.at_s for event in run.events if message(event) == wanted] == pytest.approx([30.1])


PAGES_LOST = [fail(60, page="/ready", instance=f"tiles-{number}", status=500) for number in (1, 2)]


@pytest.mark.parametrize("lost", ["region", "page"])
@pytest.mark.parametrize("alone", ["refuse", "send-anyway"])
def test_a_connect_that_nobody_takes_fails_at_once_whatever_becomes_of_calls(lost, alone):
    """Nobody is in use from the second on at which the last of three probes in a row has failed; a front that sends
    calls to all of them anyway takes no connect either. Only what meets a dead front waits until its time-out."""
    data = watched(probe="connects", ttl_s=0)
    data["probes"].append({**WATCH, "name": "connects", "protocol": "tcp"})
    data["target_groups"][0]["when_none_healthy"] = alone
    data["fleets"][0]["count"] = 2
    steps = PAGES_LOST if lost == "page" else [fail(60, region="fells")]
    run = drill_of(data, steps, lasts_s=200, phases="best")
    out = [event.at_s for event in run.events if message(event).startswith("front out")]
    last = max(event.at_s for event in run.events if event.kind == "verdict") if lost == "page" else 60
    waits_s = 5 if lost == "region" else 0
    assert [(at_s - waits_s) % 10 for at_s in out] == [0]
    assert out[0] > last


def test_a_front_without_targets_leaves_its_address_if_it_is_told_to():
    data = changed(plan_data(), "/target_groups/0/reach", "zone")
    stays = drill_of(data, [fail(60, instance=f"tiles-{n}") for n in (1, 2)], lasts_s=400)
    assert stays.flow_at(399).cause_rps.sum() == pytest.approx(200), "503 from then on"
    data["balancers"][0]["withdraw_when"] = "no-targets"
    leaves = drill_of(data, [fail(60, instance=f"tiles-{n}") for n in (1, 2)], lasts_s=400)
    assert leaves.readings.failed == pytest.approx(200 * (35 + 5))
    assert leaves.flow_at(399).cause_rps.sum() == pytest.approx(0)


def test_fronts_that_have_all_withdrawn_still_answer_at_their_own_addresses():
    """Nobody is in use anywhere: all addresses leave the answer, and whoever comes to one is told 503."""
    data = per_zone()
    data["balancers"][0]["withdraw_when"] = "no-targets"
    run = drill_of(data, [fail(60, page="/ready", status=500)], lasts_s=300)
    for flow in run.flows:
        assert flow.served + flow.cause_rps.sum() == pytest.approx(600)
    assert dict(zip(CAUSES, run.flow_at(299).cause_rps, strict=True))["none_healthy"] == pytest.approx(600)


def test_a_slow_start_raises_the_weight_in_ten_equal_steps():
    data = changed(plan_data(), "/target_groups/0/slow_start_s", 100)
    run = drill_of(data, [fail(60, instance="tiles-1"), restore(200, instance="tiles-1")], lasts_s=500)
    start = next(row.believed_at_s for row in run.blind if row.change == "up")
    for seconds, factor in ((0, 0.1), (9.9, 0.1), (10, 0.2), (55, 0.6), (89, 0.9), (90, 1.0), (150, 1.0)):
        assert targets(run.flow_at(start + seconds))["tiles-1"] == pytest.approx(600 * factor / (5 + factor)), seconds


def test_an_instance_that_drains_gets_nothing_until_it_is_back():
    steps = [{"at_s": 60, "drain": {"instance": "tiles-1"}}, {"at_s": 120, "undrain": {"instance": "tiles-1"}}]
    run = drill_of(plan_data(), steps, lasts_s=200)
    assert targets(run.flow_at(90))["tiles-1"] == 0
    assert targets(run.flow_at(90))["tiles-2"] == pytest.approx(120)
    assert targets(run.flow_at(150))["tiles-1"] == pytest.approx(100)
    assert run.readings.failed == 0
    assert [event.kind for event in run.events] == ["drain", "undrain"]


def test_what_is_served_and_failed_adds_up_through_a_tail():
    network = network_of({**watched(), "drills": [{"name": "d", "steps": [fail(60, region="fells")]}]})
    run = run_drill(network, network.plan.drills[0])
    for flow in run.flows:
        assert flow.served + flow.cause_rps.sum() == pytest.approx(RPS)
        assert np.all(flow.state.dns_share >= -1e-12)
