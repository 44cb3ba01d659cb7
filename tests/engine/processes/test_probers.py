"""Blind times against their algebra."""

import numpy as np
import pytest

from northgate.engine.formulas.blind_times import down_bounds, up_bounds
from northgate.engine.processes.probers import Probers
from northgate.engine.processes.probing.beats import Beats
from northgate.engine.processes.probing.sends import COURSE, Findings
from northgate.plan.models.groups import Probe
from tests.engine.network.test_names import two_regions
from tests.support.plans import changed, drill_of, fail, network_of, plan_data, restore, surge

CLOSE = 1e-9
COLUMNS = dict(
    zip(("squared", "cubed", "used", "faster", "bends", "capacity", "servers", "blocked"), COURSE, strict=True)
)
FIELDS = ("interval_s", "timeout_s", "unhealthy_after", "healthy_after")
NUMBERS = [(10, 5, 3, 2), (7, 7, 1, 1), (0.5, 0.2, 5, 4), (30, 1, 2, 10)]


def probe_data(numbers, next_after="send"):
    data = plan_data()
    data["probes"][0] |= dict(zip(FIELDS, numbers, strict=True)) | {"next_after": next_after}
    data["fleets"][0]["instance"] |= {"service_ms": 0, "capacity_rps": None}
    return data


def downs(run):
    return [row for row in run.blind if row.change == "down"]


def ups(run):
    return [row for row in run.blind if row.change == "up"]


@pytest.mark.parametrize("numbers", NUMBERS)
def test_bounds_of_a_silent_and_a_refusing_target(numbers):
    interval, timeout, n, m = numbers
    probe = Probe(name="p", **dict(zip(FIELDS, numbers, strict=True)))
    silent, refused = down_bounds(probe, at_once=False), down_bounds(probe, at_once=True)
    assert (silent.earliest_s, silent.latest_s) == pytest.approx(((n - 1) * interval + timeout, n * interval + timeout))
    assert (refused.earliest_s, refused.latest_s) == pytest.approx(((n - 1) * interval, n * interval))
    back = up_bounds(probe, answer_s=0.02, at_once=False)
    assert (back.earliest_s, back.latest_s) == pytest.approx(((m - 1) * interval + 0.02, m * interval + 0.02))


def test_bounds_when_the_interval_starts_at_the_result():
    probe = Probe(name="p", interval_s=10, timeout_s=15, unhealthy_after=3, healthy_after=2, next_after="result")
    silent = down_bounds(probe, at_once=False)
    assert (silent.earliest_s, silent.latest_s) == (2 * 25 + 15, 3 * 25)
    assert down_bounds(probe, at_once=False, answer_s=0.5).latest_s == 75.5


@pytest.mark.parametrize("numbers", NUMBERS)
@pytest.mark.parametrize(("part", "waits"), [("instance", True), ("process", False)])
def test_best_and_worst_phases_meet_the_bounds_exactly(numbers, part, waits):
    interval, timeout, n, _ = numbers
    steps = [fail(61.3, **{part: "tiles-1"})]
    for phases, sends in (("best", n - 1), ("worst", n)):
        rows = downs(drill_of(probe_data(numbers), steps, phases=phases))
        assert len(rows) == 3, "one row for each front"
        for row in rows:
            assert row.blind_s == pytest.approx(sends * interval + (timeout if waits else 0), rel=CLOSE)
            assert row.bounds.earliest_s - CLOSE <= row.blind_s <= row.bounds.latest_s + CLOSE


@pytest.mark.parametrize("numbers", NUMBERS)
def test_spread_phases_follow_the_formula(numbers):
    interval, timeout, n, m = numbers
    steps = [fail(60, instance="tiles-2"), restore(300, instance="tiles-2")]
    run = drill_of(probe_data(numbers), steps, phases="spread")
    for front, (down, up) in enumerate(zip(downs(run), ups(run), strict=True)):
        phase = (1 + front / 3) / 6 * interval
        first = next_beat(60, phase, interval)
        assert down.believed_at_s == pytest.approx(first + (n - 1) * interval + timeout, rel=CLOSE)
        back = next_beat(300, phase, interval)
        assert up.believed_at_s == pytest.approx(back + (m - 1) * interval, rel=CLOSE)


def next_beat(second, phase, interval):
    beats = 0
    while phase + beats * interval < second - 1e-9:
        beats += 1
    return phase + beats * interval


def test_the_answers_time_delays_the_return():
    data = changed(plan_data(), "/fleets/0/instance/service_ms", 250)
    data = changed(data, "/fleets/0/instance/capacity_rps", None)
    run = drill_of(data, [fail(60, instance="tiles-1"), restore(200, instance="tiles-1")], phases="best")
    assert ups(run)[0].blind_s == pytest.approx(1 * 10 + 0.25, rel=CLOSE)


@pytest.mark.parametrize(("phases", "first"), [("best", 0), ("worst", 10)])
def test_a_beat_from_the_result_waits_for_each_time_out(phases, first):
    data = probe_data((10, 15, 3, 2), next_after="result")
    run = drill_of(data, [fail(60, instance="tiles-1")], phases=phases)
    assert downs(run)[0].blind_s == pytest.approx(first + 2 * (10 + 15) + 15, rel=CLOSE)


@pytest.mark.parametrize("phases", ["best", "worst"])
@pytest.mark.parametrize("surges", [[surge(7, 1.7)], [surge(7, 1.7), surge(31, 1.0)]])
def test_a_beat_from_the_result_is_where_the_phases_say_however_long_answers_took(phases, surges):
    """With the load each answer takes longer, so that all later probes come later: but one is sent with the step."""
    data = changed(probe_data((10, 15, 3, 2), next_after="result"), "/fleets/0/instance/capacity_rps", 180)
    row = downs(drill_of(data, [*surges, fail(60, instance="tiles-1")], phases=phases))[0]
    least_s, most_s = 2 * (10 + 15) + 15, 3 * (10 + 15)
    assert row.bounds.earliest_s == least_s
    assert row.bounds.latest_s > most_s + 1e-5, "answers take their time"
    assert row.blind_s == pytest.approx(least_s if phases == "best" else row.bounds.latest_s, abs=1e-8)


def test_a_probe_sent_before_the_return_still_fails():
    """Sent at 70, silent; the target returns at 72; the time-out at 75 is the third failure all the same."""
    data = probe_data((10, 5, 2, 2))
    run = drill_of(data, [fail(60, instance="tiles-1"), restore(72, instance="tiles-1")], phases="best")
    believed = [(row.change, row.true_at_s, row.believed_at_s) for row in run.blind if row.pair == 0]
    assert believed == [("down", 60, None)]
    verdicts = [event.at_s for event in run.events if event.kind == "verdict"]
    assert verdicts[0] == 75, "the second failure is known at 70 + 5"
    assert verdicts[-1] == 90, "passes at 80 and 90 bring it back"


def test_a_loss_shorter_than_the_threshold_is_never_noticed():
    run = drill_of(plan_data(), [fail(60, instance="tiles-1"), restore(78, instance="tiles-1")])
    rows = downs(run)
    assert [row.believed_at_s for row in rows] == [None] * 3
    assert [row.blind_s for row in rows] == [18] * 3
    assert run.readings.worst_blind_s == 18
    assert run.readings.failed == pytest.approx(100 * 18)


def test_failures_must_be_consecutive():
    """Two failures, a pass, two failures: three in a row never come."""
    steps = [
        fail(60, process="tiles-1"), restore(75, process="tiles-1"),
        fail(85, process="tiles-1"), restore(105, process="tiles-1"),
    ]  # fmt: skip
    run = drill_of(plan_data(), steps, phases="best")
    assert not [event for event in run.events if event.kind == "verdict"]


def test_an_unexpected_status_is_known_at_once():
    data = changed(plan_data(), "/probes/0/expect", ["200-299"])
    run = drill_of(data, [fail(60, page="/ready", instance="tiles-1", status=404)], phases="best")
    assert [row.blind_s for row in downs(run)] == [20] * 3
    assert run.readings.failed == 0, "the pages that clients ask are as before"


def test_a_page_that_answers_badly_fails_its_requests():
    run = drill_of(plan_data(), [fail(60, page="/tiles", instance="tiles-1", status=500)], phases="best", lasts_s=100)
    assert run.readings.failed_by_cause["bad_status"] == pytest.approx(100 * 40)
    rows = [(row.change, row.true_at_s, row.believed_at_s, row.blind_s, row.unseen) for row in run.blind]
    assert rows == [("down", 60, None, 40, True)] * 3, "the health page says yes all the while, at each front"


def test_a_dead_fronts_probers_stop_and_believe_what_they_find_on_return():
    steps = [fail(60, zone="fells-2"), restore(300, zone="fells-2")]
    run = drill_of(plan_data(), steps)
    fronts = {run.network.front_name(int(run.network.pairs.front[row.pair])) for row in run.blind}
    assert fronts == {"fells-1", "fells-3"}
    returned = run.flow_at(300).state.in_use[run.network.pairs.front == 1]
    assert returned.all()


def test_a_slow_answer_counts_as_silence():
    data = changed(plan_data(), "/probes/0/timeout_s", 2)
    run = drill_of(data, [fail(60, slow="tiles-1", factor=150)], phases="best")
    row = downs(run)[0]
    assert row.blind_s == pytest.approx(2 * 10 + 2)
    assert (row.bounds.earliest_s, row.bounds.latest_s) == (22, 32)


def _passing(slope=0.5, *, by_result=False, needed=1.0):
    """A prober that has found silence, and from second 0 on a pass: it sends at 4 s, with an answer after 1 s now, and
    so much a second more."""
    beats = Beats(*(np.array([value]) for value in (10.0, 1.0, needed)), np.array([by_result]), np.array([0.4]))
    probers = Probers(beats, Findings(*(np.array([value]) for value in (False, 5.0, 0.0, -1.0))), "spread", 0.0)
    probers.meet(0.0, Findings(*(np.array([value]) for value in (True, 1.0, slope, 1.0))))
    return probers


def _course(**columns):
    made = np.zeros((1, len(COURSE)))
    for name, value in columns.items():
        made[0, COLUMNS[name]] = value
    return made


# A station of 2 servers, each doing 50/s, that goes from 70 % by 4 % a second, and ever less.
STATION = {"used": 0.7, "faster": 0.04, "bends": -0.002, "capacity": 100.0, "servers": 2}


def _wait_s(second):
    """The mean wait of an M/M/2 station: u^2 / (1 - u^2) / 50."""
    used = 0.7 + 0.04 * second - 0.002 * second**2
    return used**2 / (1 - used**2) / 50


def test_a_probes_answer_waits_as_long_as_the_backlog_grows_until_it_is_sent():
    """Sent 4 s from now, with an answer after 1 s now, 0.5 s/s more, 0.05 s/s² and 0.01 s/s³ more."""
    probers = _passing()
    assert probers.next_verdict_s() == pytest.approx(4 + 1 + 0.5 * 4)
    probers.drift(0.0, _course(squared=0.05, cubed=0.01))
    assert probers.next_verdict_s() == pytest.approx(4 + 1 + 0.5 * 4 + 0.05 * 4**2 + 0.01 * 4**3)


def test_a_probes_answer_waits_as_long_as_others_before_it_do_by_then():
    probers = _passing()
    probers.drift(0.0, _course(**STATION))
    assert probers.next_verdict_s() == pytest.approx(4 + 1 + 0.5 * 4 + _wait_s(4) - _wait_s(0), abs=1e-9)


def test_an_interval_that_follows_on_the_result_becomes_longer_as_waits_do():
    probers = _passing(0.0, by_result=True, needed=2.0)
    probers.drift(0.0, _course(**STATION))
    again_s = 4 + 1 + _wait_s(4) - _wait_s(0) + 10
    assert probers.next_verdict_s() == pytest.approx(again_s + 1 + _wait_s(again_s) - _wait_s(0), abs=1e-9)


def test_waits_that_begin_to_grow_later_grow_from_then_on():
    """Until second 3 all is as it was found at 0."""
    probers = _passing(0.0)
    probers.meet(3.0, Findings(*(np.array([value]) for value in (True, 1.0, 0.0, 1.0))))
    probers.drift(3.0, _course(**STATION))
    assert probers.next_verdict_s() == pytest.approx(4 + 1 + _wait_s(1) - _wait_s(0), abs=1e-9)


def test_a_course_stands_as_one_that_begins_where_it_has_come():
    """Two seconds later it is that of 70 % + 8 % - 0.8 % of the station, growing by 4 % - 0.8 % a second."""
    probers, later = _passing(), _passing()
    probers.drift(0.0, _course(squared=0.05, cubed=0.01, **STATION))
    delay_s = 1 + 0.5 * 2 + 0.05 * 2**2 + 0.01 * 2**3 + _wait_s(2) - _wait_s(0)
    slope = 0.5 + 2 * 0.05 * 2 + 3 * 0.01 * 2**2
    later.meet(2.0, Findings(*(np.array([value]) for value in (True, delay_s, slope, 1.0))))
    then = STATION | {"used": 0.7 + 0.04 * 2 - 0.002 * 4, "faster": 0.04 - 2 * 0.002 * 2}
    later.drift(2.0, _course(squared=0.05 + 3 * 0.01 * 2, cubed=0.01, **then))
    for one, other in zip(probers.stands(2.0), later.stands(2.0), strict=True):
        assert one == pytest.approx(other, rel=1e-12)


@pytest.mark.parametrize("phases", ["spread", "worst"])
def test_an_interval_that_follows_on_the_result_becomes_longer_as_answers_do(phases):
    """Answers take 1 s at second 0 and half a second more each second; the next probe is sent 10 s after each."""
    beats = Beats(*(np.array([value]) for value in (10.0, 1.0, 3.0)), np.array([True]), np.array([0.4]))
    silent = Findings(*(np.array([value]) for value in (False, 0.0, 0.0, -1.0)))
    probers = Probers(beats, silent, phases, 4.0)
    probers.meet(0.0, Findings(*(np.array([value]) for value in (True, 1.0, 0.5, 1.0))))
    sent_s, known_s = [4.0], []
    for _ in range(3):
        known_s.append(sent_s[-1] + 1 + 0.5 * sent_s[-1])
        sent_s.append(known_s[-1] + 10)
    assert probers.next_verdict_s() == pytest.approx(known_s[2])
    between = (sent_s[1] + sent_s[2]) / 2
    assert probers.next_sent_s(between) == pytest.approx([sent_s[2] - between])
    # What is found anew meanwhile counts on from the two that were sent.
    probers.meet(between, Findings(*(np.array([value]) for value in (True, 2.0, 0.0, 1.0))))
    assert probers.next_verdict_s() == pytest.approx(sent_s[2] + 2)
    assert probers.take_verdicts(sent_s[2] + 2).tolist() == [0]


@pytest.mark.parametrize("moves", ["answers take as long", "answers take ever longer"])
def test_who_has_stopped_goes_on_by_its_beat_however_often_one_looks_meanwhile(moves):
    """A front dies, and returns: its probes are sent when they would have been, 10 s after each answer."""
    beats = Beats(*(np.array([value]) for value in (10.0, 1.0, 3.0)), np.array([True]), np.array([0.4]))

    def found(second):
        slope = 0.05 if "ever" in moves else 0.0
        return Findings(*(np.array([value]) for value in (True, 1.0 + slope * second, slope, 1.0)))

    def next_sent_s(dies_s, looks_s):
        probers = Probers(beats, found(0.0), "spread", 0.0)
        for second in looks_s:
            probers.set_alive(np.array([not dies_s <= second < 60]))
            probers.meet(second, found(second))
        return probers.next_sent_s(looks_s[-1])

    never = next_sent_s(np.inf, [0.0, 70.0])
    for looks_s in ([0.0, 20.0, 60.0, 70.0], [0.0, 20.0, 33.0, 41.0, 58.0, 60.0, 61.0, 70.0]):
        assert next_sent_s(20.0, looks_s) == pytest.approx(never)


@pytest.mark.parametrize("phases", ["spread", "worst"])
def test_how_long_a_call_takes_is_looked_at_when_it_is_sent(phases):
    """A call that will bring a verdict is sent at second 4: it takes what such calls take then."""
    beats = Beats(*(np.array([value]) for value in (10.0, 1.0, 1.0)), np.array([False]), np.array([0.4]))
    silent = Findings(*(np.array([value]) for value in (False, 0.0, 0.0, -1.0)))
    probers = Probers(beats, silent, phases, 4.0, np.array([True]))
    probers.meet(0.0, Findings(*(np.array([value]) for value in (True, 1.0, 0.0, 1.0))))
    assert probers.next_s(0.0) == 4
    probers.meet(4.0, Findings(*(np.array([value]) for value in (True, 2.5, 0.0, 1.0))))
    assert probers.next_s(4.0) == pytest.approx(6.5)
    probers.meet(5.0, Findings(*(np.array([value]) for value in (True, 3.0, 0.0, 1.0))))
    assert probers.next_s(5.0) == pytest.approx(6.5), "the one that is on its way keeps what it met"


@pytest.mark.parametrize("phases", ["spread", "worst"])
def test_calls_that_follow_on_their_answers_are_looked_at_at_each_send_while_anything_moves(phases):
    """Sent at second 4 and 10 s after each answer, which takes 1 s at first, and 3 s by the second call."""
    beats = Beats(*(np.array([value]) for value in (10.0, 1.0, 1.0)), np.array([True]), np.array([0.4]))
    passes = Findings(*(np.array([value]) for value in (True, 1.0, 0.0, 1.0)))
    probers = Probers(beats, passes, phases, 4.0, np.array([True]))
    assert probers.next_s(0.0) == np.inf, "nothing moves, and no verdict is to come"
    probers.moves = True
    assert probers.next_s(0.0) == 4
    probers.meet(4.0, passes)
    assert probers.next_s(4.0) == pytest.approx(4 + 1 + 10)
    probers.meet(15.0, Findings(*(np.array([value]) for value in (True, 3.0, 0.0, 1.0))))
    assert probers.next_s(15.0) == pytest.approx(15 + 3 + 10), "the call that is sent now takes what it takes now"


@pytest.mark.parametrize("otherwise", ["refuse", "send-anyway"])
def test_a_front_that_sends_to_somebody_anyway_has_nobody_in_use(otherwise):
    """To connect is not enough for a name's probe: whoever has nobody in use is left, whatever he does with calls."""
    data = two_regions(choose="order", probe="up", probed_from=["uplands"], ttl_s=20)
    data["probes"].append({"name": "up", "protocol": "tcp", "port": 443, "interval_s": 10, "unhealthy_after": 2})
    data["target_groups"][0]["when_none_healthy"] = otherwise
    network = network_of(data)
    mine = [name for name, zone in zip(network.machines.names, network.machines.zone, strict=True) if zone < 3]
    run = drill_of(data, [fail(10, process=name) for name in mine], lasts_s=120)
    # All refuse at once, and are found out within three intervals; then nobody is left to whom the name leads.
    assert run.flow_at(11).served == pytest.approx(0)
    assert run.last.served == pytest.approx(800)
    assert run.readings.failed_by_cause["refused"] > 0


def test_a_front_that_returns_with_a_balancer_behind_it_finds_that_as_it_is_then():
    """Both return at once: what comes to the one behind is passed on, so the one before believes in it."""
    data = plan_data()
    inner = {"name": "http", "protocol": "http", "port": 8000, "otherwise": {"pool": "web"}}
    back = {**data["balancers"][0], "name": "back", "addresses": ["203.0.113.20"], "listeners": [inner]}
    data["balancers"].append(back)
    data["balancers"][0]["listeners"][0]["otherwise"] = {"pool": "outer"}
    data["target_groups"].append({"name": "outer", "port": 8000, "probe": "ready", "targets": [{"balancer": "back"}]})
    data["pools"].append({"name": "outer", "tiers": [{"groups": {"outer": 1}}]})
    run = drill_of(data, [fail(10, region="fells"), restore(14, region="fells")], lasts_s=100)
    # All of the region answers as before once it is back, sooner than any front leaves its address.
    assert run.readings.failed == pytest.approx(600 * 4)
    assert run.readings.failed_by_cause["dead_front"] == pytest.approx(600 * 4)
