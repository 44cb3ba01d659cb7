"""The document of a drill: everything in it can be written down, whatever the drill comes to."""

import json
from statistics import median

import numpy as np
import pytest

from northgate.engine.drill.run import run_drill
from northgate.engine.network import compile_network
from northgate.engine.reports.drill import drill_answer
from northgate.plan import read_plan
from tests.engine.network.test_names import two_regions
from tests.engine.processes.test_resolvers import RPS, watched
from tests.plan.test_reading import EXAMPLE
from tests.support.plans import changed, drill_of, fail, network_of, plan_data, restore


@pytest.mark.parametrize(("lasts_s", "settled"), [(180, False), (900, True)])
def test_a_drill_that_ends_with_old_answers_is_written_down_as_not_settled(lasts_s, settled):
    data = two_regions()
    data["names"][0] |= {"ttl_s": 300, "choose": "order", "probe": None}
    data["balancers"][0] |= {"address_kind": "per-zone", "addresses": []}
    data["drills"] = [{"name": "d", "lasts_s": lasts_s, "steps": [fail(60, zone="fells-1")]}]
    network = network_of(data)
    answer = drill_answer(run_drill(network, network.plan.drills[0]))
    document = json.loads(json.dumps(answer.model_dump(mode="json")))
    assert document["readings"]["settled"] is settled


def _answer(steps, *, capacity_rps=1000, next_after="send"):
    data = changed(plan_data(), "/fleets/0/instance/capacity_rps", capacity_rps)
    data = changed(data, "/probes/0/next_after", next_after)
    return drill_answer(drill_of(data, steps))


@pytest.mark.parametrize("next_after", ["send", "result"])
def test_bounds_of_blind_times_are_the_sums_of_their_parts(next_after):
    answer = _answer([fail(60, instance="tiles-1"), restore(300, instance="tiles-1")], next_after=next_after)
    assert {row.change for row in answer.blind} == {"down", "up"}
    for row in answer.blind:
        bounds = [row.bounds.earliest, row.bounds.latest]
        totals = [one.first_s + one.beats * one.beat_s + one.answer_s for one in bounds]
        assert totals == pytest.approx([row.earliest_s, row.latest_s], abs=1e-6)
        assert row.earliest_s <= row.blind_s <= row.latest_s + 1e-6
        assert {one.beats for one in bounds} == {2 if row.change == "down" else 1}


def test_what_nobody_notices_has_no_bounds():
    """Probes ask for /ready; the page that clients want is broken."""
    rows = _answer([fail(60, page="/tiles", instance="tiles-1", status=500)]).blind
    assert [(row.unseen, row.bounds, row.earliest_s) for row in rows] == [(True, None, None)] * 3


def test_verdicts_say_what_they_judge():
    events = _answer([fail(60, instance="tiles-1"), restore(300, instance="tiles-1")]).events
    assert {one.in_use for one in events if one.kind != "verdict"} == {None}
    verdicts = [(one.at_s > 300, one.in_use) for one in events if one.kind == "verdict"]
    assert set(verdicts) == {(False, False), (True, True)}


def test_the_busiest_machine_has_its_load_beside_it():
    """Six machines of 110/s get 100/s each; when a zone is lost, four get 150/s: u = 150/110."""
    series = _answer([fail(60, zone="fells-1")], capacity_rps=110).series
    assert series.busiest_offered_rps[0] == pytest.approx(100)
    assert (series.busiest_growth[0], series.busiest_excess[0]) == (0, 0)
    assert series.busiest_offered_rps[-1] == pytest.approx(150)
    assert series.busiest_capacity_rps == pytest.approx([110] * len(series.t_s))
    assert series.busiest_growth[-1] == pytest.approx(150 / 110 - 1)
    assert series.busiest_excess[-1] == pytest.approx(1 - 110 / 150)


def test_a_slow_machine_can_do_less_and_one_without_a_limit_anything():
    slow = _answer([fail(60, slow="tiles-1", factor=4)]).series
    assert (slow.busiest[-1], slow.busiest_capacity_rps[-1]) == ("tiles-1", 250)
    free = _answer([], capacity_rps=None).series
    assert free.busiest_offered_rps == free.busiest_capacity_rps == [None] * len(free.t_s)


def test_sums_are_those_of_zones_and_mechanisms():
    series = _answer([fail(60, zone="fells-1")], capacity_rps=110).series
    for index, asked in enumerate(series.asked_rps):
        served = sum(values[index] for values in series.by_zone_rps.values())
        failed = sum(values[index] for values in series.mechanism_rps.values())
        assert (series.served_rps[index], series.all_failed_rps[index]) == pytest.approx((served, failed))
        assert asked == pytest.approx(600)
    assert series.held == [0] * len(series.t_s)


def failing_at(answer, second):
    """The failing rate read off its line."""
    series = answer.series
    index = max(index for index, at in enumerate(series.t_s) if at <= second)
    ends = [*series.t_s[1:], answer.lasts_s][index]
    part = (second - series.t_s[index]) / (ends - series.t_s[index])
    first, last = series.all_failed_rps[index], series.before.all_failed_rps[index]
    return first + (last - first) * part


def test_what_goes_evenly_is_drawn_along_its_line_and_jumps_where_it_jumps():
    """A region lost at 60 s under a TTL of 60 s is noticed at 95 s; then the share of old answers falls evenly."""
    answer = drill_answer(drill_of(watched(), [fail(60, region="fells")], lasts_s=600))
    for second, old in [(59, 0), (60, 1), (94.9, 1), (95, 1), (101, 0.9), (110, 0.75), (140, 0.25), (155, 0), (400, 0)]:
        assert failing_at(answer, second) == pytest.approx(RPS * old, abs=1e-6)


def test_the_area_under_its_lines_is_what_fails():
    """Also where an event cuts a line off: another machine fails while old answers fade."""
    run = drill_of(watched(), [fail(60, region="fells"), fail(117, zone="coast-1")], lasts_s=600)
    series, lasts_s = drill_answer(run).series, 600
    spans = [then - at for at, then in zip(series.t_s, [*series.t_s[1:], lasts_s], strict=True)]
    ends = zip(series.all_failed_rps, series.before.all_failed_rps, spans, strict=True)
    assert sum((one + then) / 2 * span for one, then, span in ends) == pytest.approx(run.readings.failed, rel=1e-9)
    for name, rates in series.mechanism_rps.items():
        ends = zip(rates, series.before.mechanism_rps[name], spans, strict=True)
        area = sum((one + then) / 2 * span for one, then, span in ends)
        assert area == pytest.approx(run.readings.failed_by_mechanism[name], rel=1e-9, abs=1e-6)


def test_where_all_stays_between_events_nothing_is_told_of_what_comes_before_them():
    assert _answer([fail(60, zone="fells-1")]).series.before is None


def test_latency_is_drawn_as_the_backlog_grows():
    """A zone is lost; four machines get 150/s of their 110/s each: a second of it adds u - 1 s, u = 150/110, up to
    their queue of 2 s."""
    data = changed(plan_data(), "/fleets/0/instance/capacity_rps", 110)
    data = changed(data, "/fleets/0/instance/queue_s", 2)
    series = drill_answer(drill_of(data, [fail(60, zone="fells-1")])).series
    fills = [index for index, growth in enumerate(series.busiest_growth) if growth > 0]
    first, full = fills[0], next(i for i in fills if series.latency_ms[i] == pytest.approx(max(series.latency_ms)))
    passed_s = series.t_s[full] - series.t_s[first]
    assert passed_s == pytest.approx(2 / (150 / 110 - 1))
    grown = series.before.latency_ms[full - 1] - series.latency_ms[first]
    assert grown == pytest.approx(passed_s * (150 / 110 - 1) * 1000)
    # Nothing else changes until then.
    assert series.before.by_zone_rps["fells-2"][first] == pytest.approx(series.by_zone_rps["fells-2"][first])


@pytest.mark.parametrize("name", ["alerts-cut-off", "lose-fells"])
def test_lines_lead_to_what_rates_are_just_before_the_next_event(name):
    """Also where backlogs grow while nothing else changes, and where another event cuts off what was looked at."""
    network = compile_network(read_plan(EXAMPLE))
    run = run_drill(network, next(one for one in network.plan.drills if one.name == name))
    series = drill_answer(run).series
    seconds = [*series.t_s[1:], run.drill.lasts_s]
    for index in range(0, len(seconds), 3):
        if seconds[index] - series.t_s[index] > 1e-3:
            flow = run.flow_at(seconds[index] - 1e-5)
            failing, latency_ms = series.before.all_failed_rps[index], series.before.latency_ms[index]
            assert failing == pytest.approx(flow.cause_rps.sum(), abs=1e-6 * flow.requests)
            assert latency_ms == pytest.approx(flow.mean_latency_s * 1000, rel=4e-3)
    drawn = max(*series.latency_ms, *series.before.latency_ms)
    assert drawn > 1.02 * max(series.latency_ms)
    assert drawn == pytest.approx(run.readings.peak_latency_ms, rel=1e-3)


def test_lines_break_only_where_something_happens():
    """Sessions end and are opened again: what goes where bends, and is drawn from where it is to where it comes to."""
    network = compile_network(read_plan(EXAMPLE.with_name("sessions.plan.yaml")))
    run = run_drill(network, network.plan.drills[0])
    series, happens = drill_answer(run).series, {event.at_s for event in run.events}
    still = [place for place, second in enumerate(series.t_s) if place and second not in happens]
    assert len(still) > 3
    drawn, found = (one.busiest_utilisation for one in (series.before, series))
    for place in still:
        assert drawn[place - 1] == pytest.approx(found[place], rel=1e-6)
        for zone, rates in series.by_zone_rps.items():
            assert series.before.by_zone_rps[zone][place - 1] == pytest.approx(rates[place], rel=1e-6)
    bends = [abs(found[place] - found[place - 1]) for place in still]
    assert max(bends) > 0.01


@pytest.mark.parametrize("count", [3, 4])
def test_the_middle_machine_is_that_of_those_that_get_anything(count):
    """With an even and an odd number of machines, of which those of a lost zone get nothing in the end."""
    run = drill_of(changed(plan_data(), "/fleets/0/count", count), [fail(60, zone="fells-1")])
    series = drill_answer(run).series
    for frame, middle in zip(run.keyframes, series.middle_utilisation, strict=True):
        asked = frame.utilisation[frame.utilisation > 0].tolist()
        assert middle == pytest.approx(median(asked) if asked else 0.0)
    assert len(set(np.round(series.middle_utilisation, 9).tolist())) > 1
