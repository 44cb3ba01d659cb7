"""How far a drill looks ahead: as far as rates are linear, in steps that bend little elsewhere, and to the second at
which a probe finds another thing."""

import math
from pathlib import Path
from types import SimpleNamespace

import numpy as np
import pytest
from hypothesis import example, given, settings
from hypothesis import strategies as st
from scipy.optimize import brentq

from northgate.engine.drill.ahead import look_ahead, steps
from northgate.engine.drill.ahead.course import Course
from northgate.engine.drill.ahead.flows import FlowsAhead
from northgate.engine.drill.ahead.found import FOUND_S, Found
from northgate.engine.drill.run import run_drill
from northgate.engine.formulas import Openings, Stations
from northgate.engine.formulas.masses import occupancy
from northgate.engine.network.compile import compile_network
from northgate.engine.processes import Backlogs
from northgate.engine.processes.naming import holders
from northgate.engine.solver import Opens, Solver
from northgate.plan import read_plan
from tests.engine.network.test_names import two_regions
from tests.engine.processes.test_resolvers import RPS, watched
from tests.support.exploring import examples
from tests.support.plans import changed, drill_of, fail, plan_data, restore

# One of four zones, with two of eight machines, is the coast; from 95 to 155 s all requests of the lost region come
# over evenly.
BEGINS_S, TAIL_S, COAST = 95, 60, 2


def overloaded(capacity_rps, **name):
    """All requests come over to the coast as old answers fade; what it cannot finish it refuses, as nothing queues."""
    data = watched(**name)
    machines = data["fleets"][0]["instance"]
    data["fleets"][0]["count"] = 8
    data["fleets"][0]["instance"] = machines | {"capacity_rps": capacity_rps, "queue_s": 0}
    return data


@settings(max_examples=examples(8))
@given(st.floats(0.55, 0.95))
def test_what_comes_over_while_old_answers_fade_is_refused_beyond_the_capacity(part):
    """λ(t) = RPS t / T; beyond C = part RPS: RPS T (1 - part)^2 / 2 requests until the tail ends. (With C over half of
    it, the coast stays healthy.)"""
    run = drill_of(overloaded(part * RPS / COAST), [fail(60, region="fells")], lasts_s=155)
    refused = RPS * TAIL_S * (1 - part) ** 2 / 2
    assert run.readings.failed_by_cause["overloaded"] == pytest.approx(refused, rel=1e-6)


@pytest.mark.parametrize("part", [0.25, 0.5, 0.9])
def test_the_peak_while_old_answers_fade_is_where_they_do_not_any_more(part):
    """The coast's machines come to RPS t / T / C when most requests cease at once; before, six machines had all."""
    capacity_rps, ceases_s = 1.5 * RPS / COAST, BEGINS_S + part * TAIL_S
    less = {"at_s": ceases_s, "surge": {"clients": "walkers", "factor": 0.01}}
    run = drill_of(overloaded(capacity_rps), [fail(60, region="fells"), less], lasts_s=400)
    assert run.readings.peak_utilisation == pytest.approx(max(part * RPS / COAST, RPS / 6) / capacity_rps)
    slowest_s = [run.flow_at(second).mean_latency_s for second in (0, np.nextafter(ceases_s, 0))]
    assert run.readings.peak_latency_ms == pytest.approx(max(slowest_s) * 1000)
    assert slowest_s[1] > slowest_s[0]


@settings(max_examples=examples(8))
@given(st.floats(0.55, 0.95))
@example(0.671875)
@example(0.95)
def test_what_comes_over_while_old_answers_fade_is_lost_beyond_the_bandwidth(part):
    """As above, where the balancer's bandwidth does not let more through: each answer is 1 megabit. (More than half of
    all calls are served, so that the name's probe passes.)"""
    data = watched()
    for client in data["clients"]:
        client["calls"][0]["kilobytes"] = 125
    data["balancers"][1]["bandwidth_mbps"] = part * RPS
    run = drill_of(data, [fail(60, region="fells")], lasts_s=155)
    lost = RPS * TAIL_S * (1 - part) ** 2 / 2
    assert run.readings.failed_by_cause["overloaded"] == pytest.approx(lost, rel=1e-6)


def test_where_rates_are_linear_one_solve_reaches_to_the_end_of_the_tail(monkeypatch):
    """What is drawn on the way is read off the straight line: it is what would be found there."""
    solved = []
    find = Solver.solve
    monkeypatch.setattr(Solver, "solve", lambda self, state: solved.append(state) or find(self, state))
    run = drill_of(watched(), [fail(60, region="fells")], lasts_s=600)
    assert len(solved) < 12
    between = [frame for frame in run.keyframes if BEGINS_S < frame.t_s < BEGINS_S + TAIL_S]
    assert len(between) == 7
    for frame in between:
        flow = find(Solver(run.network), frame.state)
        assert frame.cause_rps == pytest.approx(flow.cause_rps, abs=1e-9)
        assert frame.zone_served == pytest.approx(flow.zone_served, abs=1e-9)
        assert frame.utilisation == pytest.approx(flow.queue.utilisation, abs=1e-12)
        past_s = frame.t_s - BEGINS_S
        failed = RPS * (BEGINS_S - 60 + past_s * (1 - past_s / TAIL_S / 2))
        assert frame.failed == pytest.approx(failed)


def test_a_probe_finds_another_thing_at_the_second_of_its_algebra():
    """More than half fail once λ > 2 C: at 95 + 60 (2 C / RPS) s; three probes 10 s apart later an answer is out."""
    part = 0.33
    run = drill_of(overloaded(part * RPS / COAST), [fail(60, region="fells")], lasts_s=200)
    turned = BEGINS_S + TAIL_S * 2 * part
    vote = next(vote for vote in run.votes if vote.answer == 1 and not vote.believed)
    first = np.ceil((turned - 60) / 10) * 10 + 60
    assert vote.at_s == pytest.approx(first + 20)
    assert min(abs(frame.t_s - turned) for frame in run.keyframes) <= FOUND_S


def finer(monkeypatch, times):
    """Steps so many times as short."""
    for module, name in ((occupancy, "STEP"), (occupancy, "SLOW"), (occupancy, "RELAXED"), (look_ahead, "FOLLOWED")):
        monkeypatch.setattr(module, name, getattr(module, name) / times)
    monkeypatch.setattr(holders, "STEPS_OF_TAIL", holders.STEPS_OF_TAIL * times)
    monkeypatch.setattr(steps, "WRONG", steps.WRONG / times**4)
    for name in ("HELD", "SAME", "BEHIND"):
        monkeypatch.setattr(steps, name, getattr(steps, name) / times**3)
    monkeypatch.setattr(look_ahead, "UNEVEN_STEPS", 1e6)


@pytest.mark.parametrize("balance", ["round-robin", "least-connections"])
def test_steps_four_times_finer_come_to_the_same(monkeypatch, balance):
    data = overloaded(0.6 * RPS / COAST)
    for group in data["target_groups"]:
        group["balance"] = balance
    steps = [fail(60, region="fells")]
    coarse = drill_of(data, steps, lasts_s=180).readings
    finer(monkeypatch, 4)
    fine = drill_of(data, steps, lasts_s=180).readings
    assert coarse.failed == pytest.approx(fine.failed, rel=1e-6)
    assert coarse.failed_by_mechanism == pytest.approx(fine.failed_by_mechanism, rel=1e-6, abs=1e-6 * fine.failed)


QUEUE_S, PART = 2.0, 0.6


def patient(service_ms, timeout_s, part=PART):
    """All requests come to the coast as old answers fade, and leave it again; they wait in full queues of QUEUE_S, and
    give up shortly before or after."""
    data = overloaded(part * RPS / COAST)
    data["fleets"][0]["instance"] |= {"service_ms": service_ms, "queue_s": QUEUE_S}
    for client in data["clients"]:
        client["timeout_s"] = timeout_s
    return data


BACK = [fail(60, region="fells"), restore(300, region="fells")]


@pytest.mark.parametrize("timeout_s", [2.1, 2.2])
def test_who_waits_gets_answers_from_the_second_of_its_algebra(timeout_s):
    """Utilisation falls evenly by 1 / (60 PART) a second. τ s after it has come to 1 a full queue is by its τ² / 2
    shorter, and so is the mean wait of a station with few requests: until both are what is left of the client's
    patience, which is his round trip less, he gives up."""
    run = drill_of(patient(40, timeout_s), BACK, lasts_s=420)
    back_s = next(vote.at_s for vote in run.votes if vote.answer == 0 and vote.believed)
    stations = Stations(*(np.array([value]) for value in (PART * RPS / COAST, 0.04, QUEUE_S)))

    def over_s(past_s, trip_s):
        used = 1 - past_s / TAIL_S / PART
        backlog_s = QUEUE_S - past_s**2 / TAIL_S / PART / 2
        return backlog_s + float(stations.mean_wait_s(np.array([used]))[0]) + 0.04 + trip_s - timeout_s

    for trip_s in (0.005, 0.03):
        turns_s = back_s + (1 - PART) * TAIL_S + brentq(over_s, 0, 10, args=(trip_s,))
        assert min(abs(frame.t_s - turns_s) for frame in run.keyframes) <= 2 * FOUND_S
    # Who is served is so just within his patience at the most.
    assert run.readings.peak_latency_ms == pytest.approx(timeout_s * 1000, rel=1e-6)


@pytest.mark.parametrize(("service_ms", "timeout_s"), [(40, 2.1), (40, 2.2), (200, 2.3)])
def test_who_gives_up_while_the_wait_grows_shorter_is_counted_as_in_finer_steps(monkeypatch, service_ms, timeout_s):
    data = patient(service_ms, timeout_s)
    coarse = drill_of(data, BACK, lasts_s=420).readings.failed_by_cause
    finer(monkeypatch, 4)
    fine = drill_of(data, BACK, lasts_s=420).readings.failed_by_cause
    assert fine["timed_out"] > 10_000
    assert coarse == pytest.approx(fine, rel=1e-6)


def test_who_gives_up_because_others_do_goes_on_until_he_need_not_any_more(monkeypatch):
    """Each repeats once what he gave up: with these repeats all wait too long, and nobody would without. It goes on as
    it was, however long the steps."""
    data = patient(40, 2.15)
    for client in data["clients"]:
        client["retries"] = 1
    coarse = drill_of(data, BACK, lasts_s=420)
    finer(monkeypatch, 4)
    fine = drill_of(data, BACK, lasts_s=420)
    assert coarse.readings.failed_by_cause == pytest.approx(fine.readings.failed_by_cause, rel=1e-5)
    assert len(coarse.keyframes) < 60


def test_what_a_probe_finds_from_the_end_of_a_step_on_is_what_it_finds_on_the_next():
    """Out since 190 s, the coast loses what old answers lead there. What repeats twice offers thrice; once that is no
    more than twice what the coast can do, more than half of a probe's calls are answered: of those at 220 and 230 s."""
    data = patient(40, 2.1, part=0.9)
    for client in data["clients"]:
        client["retries"] = 2
    run = drill_of(data, BACK, lasts_s=300)
    assert [vote.at_s for vote in run.votes[:2]] == [95, 190]
    offered_twice_s = 190 + TAIL_S * (1 - 2 * 0.9 / 3)
    assert 210 < offered_twice_s < 220
    assert min(abs(frame.t_s - offered_twice_s) for frame in run.keyframes) <= FOUND_S
    stations = Stations(*(np.array([value]) for value in (0.9 * RPS / COAST, 0.04, QUEUE_S)))
    answers_s = QUEUE_S + float(stations.mean_wait_s(np.array([1.0]))[0]) + 0.04 + 0.03
    assert [(vote.answer, vote.believed) for vote in run.votes[2:]] == [(1, True)]
    assert run.votes[2].at_s == pytest.approx(230 + answers_s)


def test_sessions_that_come_back_are_followed_as_in_finer_steps(monkeypatch):
    data = two_regions()
    data["target_groups"][0]["affinity"] = {"by": "cookie", "lasts_s": 60, "renews": False}
    steps = [fail(30, instance="tiles-1")]
    coarse = drill_of(data, steps, lasts_s=600)
    finer(monkeypatch, 10)
    fine = drill_of(data, steps, lasts_s=600)
    assert coarse.readings.sessions_moved == pytest.approx(fine.readings.sessions_moved, rel=1e-9)
    assert coarse.readings.failed == pytest.approx(fine.readings.failed, rel=1e-6)
    assert len(coarse.keyframes) < len(fine.keyframes) / 4


@pytest.mark.parametrize(
    ("service_ms", "timeout_s", "retries", "lasts_s"), [(20, 10.05, 1, 120), (10, 8.05, 1, 60), (40, 3.05, 0, 60)]
)
def test_who_gives_up_while_sessions_come_back_is_counted_as_in_finer_steps(
    monkeypatch, service_ms, timeout_s, retries, lasts_s
):
    """A zone is lost, and the others' queues fill until all give up, who repeat once; when it is back they grow shorter
    ever more quickly, so that a straight line does not tell when who waits there need not give up any more: it was off
    by so much that a hundred-thousandth of all was counted otherwise. Besides, a busy station keeps who comes waiting
    the less, the less comes: by what that was at the step's beginning half a thousandth of all was."""
    data = plan_data()
    data["probes"][0] |= {"interval_s": 30, "timeout_s": 25}
    data["fleets"][0]["instance"] |= {"capacity_rps": 108, "service_ms": service_ms, "queue_s": 10}
    data["target_groups"][0]["affinity"] = {"by": "cookie", "lasts_s": lasts_s, "renews": False}
    data["clients"][0] |= {"timeout_s": timeout_s, "retries": retries}
    steps = [fail(30, zone="fells-1"), restore(200, zone="fells-1")]
    coarse = drill_of(data, steps, lasts_s=900).readings
    finer(monkeypatch, 6)
    fine = drill_of(data, steps, lasts_s=900).readings
    assert coarse.failed_by_cause == pytest.approx(fine.failed_by_cause, abs=2e-6 * fine.requests)


@pytest.mark.parametrize("quick", [0.3, 0.7])
def test_what_lies_half_way_by_chance_is_no_straighter_for_it(quick):
    """Something fades, and something else fades less a square of time, so that it lies on its chord half-way: by its
    own bend Simpson's rule would add it up without an error, which is that of what fades."""
    times = np.array([0, 0.5, 1])
    fades = np.exp(-quick * times)
    bent = fades @ [1, -2, 1]
    values = list(np.stack([fades, fades - 2 * bent * times**2], axis=1))
    off = abs(fades @ [1, 4, 1] / 6 - (1 - math.exp(-quick)) / quick)
    assert steps.wrong([one[1:] for one in values]) < off / 1000
    assert steps.wrong([one[1:] for one in values], 0.01) < off / 1000, "it alone does not tell"
    assert 0.3 * off < steps.wrong(values, 0.01) < 3 * off


def test_what_is_held_at_the_end_of_a_step_is_known_before_its_flow(monkeypatch):
    """As sessions come back to machines that are busier for it, how they are opened is led on along the steps before:
    in half of the steps no more than one in 20,000 of what changes is wrong of it; as half-way it were thrice that."""
    steps_taken, take = [], look_ahead.LookAhead._take_step
    monkeypatch.setattr(
        look_ahead.LookAhead,
        "_take_step",
        lambda self, step, sure_s: steps_taken.append(step) or take(self, step, sure_s),
    )
    data = two_regions()
    data["target_groups"][0]["affinity"] = {"by": "cookie", "lasts_s": 60, "renews": False}
    data["target_groups"][0]["balance"] = "least-connections"
    data["fleets"][0]["instance"]["capacity_rps"] = 210
    drill_of(data, [fail(30, instance="tiles-1"), restore(90, instance="tiles-1")], lasts_s=300)
    held = [(step.way.held, *(flow.state.held for flow in (step.flows[0], step.flows[2]))) for step in steps_taken]
    wrong = [found.apart(thought) / found.apart(first) for found, first, thought in held if found.apart(first) > 1e-4]
    assert len(wrong) >= 10
    assert np.median(wrong) < 5e-5


@pytest.mark.parametrize("probes", [0, 1])
def test_what_turns_at_the_very_end_of_a_step_is_found_from_before_it(probes):
    """Of one that has something to spare until 2 s, as that falls by the square, be it a probe or a machine that keeps
    up no longer: it is known to FOUND_S."""

    def found_at(second):
        spare = np.array([4.0 - second**2])
        return Found(spare > 0, spare, probes)

    for now, end_s in ((0, 10), (1.9985, 2.0025)):
        middle_s = (now + end_s) / 2
        turns_s = found_at(now).turns_s(found_at(middle_s), found_at(end_s), found_at, now, end_s)
        assert 2 <= turns_s <= 2 + FOUND_S
    assert found_at(0).turns_s(found_at(0.5), found_at(1), found_at, 0, 1) == 1


def test_what_is_just_turning_where_one_looks_turns_there():
    """It has come to nothing, but to no less, half-way: one more look is enough."""
    looked = []

    def found_at(second):
        looked.append(second)
        spare = np.array([5.0 - second])
        return Found(spare > 0, spare, 0)

    turns_s = found_at(0).turns_s(found_at(5), found_at(10), found_at, 0, 10)
    assert 5 <= turns_s <= 5 + FOUND_S
    assert len(looked) == 4


@pytest.mark.parametrize(("jumps_s", "off_s"), [(5, 0), (10 - 2e-5, 0), (3.7, 0), (5, 1e-3)])
def test_what_jumps_beside_what_is_known_is_found_there_at_once(jumps_s, off_s):
    """Half-way somebody has something to spare, just after that nothing, as flows between are found otherwise; or just
    before the end. Where it jumps elsewhere, halving finds it."""
    looked, jumps_s = [], jumps_s + off_s

    def found_at(second):
        looked.append(second)
        spare = np.array([0.01 * second + 0.01 if second <= jumps_s else -0.045 - 0.13 * abs(second - jumps_s)])
        return Found(spare > 0, spare, 1)

    turns_s = found_at(0).turns_s(found_at(5), found_at(10), found_at, 0, 10)
    assert jumps_s <= turns_s <= jumps_s + FOUND_S
    known, halvings = 3, np.log2(10 / FOUND_S)
    assert len(looked) - known <= (4 if jumps_s in (5, 10 - 2e-5) else halvings + 4)


def opens_of(value):
    """All that is opened at one rate."""
    openings = Openings(np.full((4, 1, 2), value), np.array([value]), np.zeros((2, 1)), np.zeros((1, 2), dtype=bool))
    return Opens.of(openings, openings, openings, np.ones(1))


def ways_on(second, *values):
    """How often all is opened at a second, as flows of 100, 101 and 102 s lead on to it that open so much."""
    flows = [(100.0 + number, SimpleNamespace(opens=opens_of(value))) for number, value in enumerate(values)]
    return Course(flows).opens(second).sessions.ways


@pytest.mark.parametrize("t", [0.25, 1.7, 3.5])
def test_how_sessions_are_opened_is_led_on_along_the_parabola_through_what_is_known(t):
    values = [5.0 - 0.3 * second + 0.07 * second**2 for second in (0, 1, 2)]
    assert ways_on(100 + t, *values) == pytest.approx(np.full((4, 1, 2), 5 - 0.3 * t + 0.07 * t * t), rel=1e-12)
    assert ways_on(100 + t, *values[:1]) == pytest.approx(np.full((4, 1, 2), 5.0))


def test_what_is_led_on_comes_to_nothing_at_the_least():
    """Rates that have fallen from 4 over 3 to 0 would go on below nothing; from 4 over 1 to 0 they turn up again."""
    assert not ways_on(103, 4.0, 3.0, 0.0).any()
    assert (ways_on(103, 4.0, 1.0, 0.0) > 0).all()


@pytest.mark.parametrize(("look_s", "last_s"), [(102.0, 102.0), (102.0, 101.9999), (100.004, 100.003)])
def test_utilisation_goes_through_a_step_as_on_its_parabola(look_s, last_s):
    """Through u0 + a t + b t² half-way and at the end there is one parabola."""
    start, a, b, long_s = np.array([1.2, 0.4]), np.array([0.3, -0.1]), np.array([-0.05, 0.0]), look_s - 100

    def flow_after(seconds):
        return SimpleNamespace(queue=SimpleNamespace(utilisation=start + a * seconds + b * seconds**2))

    flows = flow_after(0.0), flow_after(long_s / 2), flow_after(last_s - 100)
    step = steps.Step(100.0, look_s, last_s, flows, None, jumps=True)
    assert step.faster[0] == pytest.approx(a)
    assert step.faster[1] == pytest.approx(b, rel=1e-6, abs=1e-9)


def flow_of(values):
    """What a step asks of a flow."""
    queue = SimpleNamespace(utilisation=np.array(values))
    return SimpleNamespace(rate=np.array(values), opens=opens_of(values[0]), queue=queue)


def step_of(rates, way=None):
    """A step from 100 to 102 s, of which the rates are known."""
    flows = tuple(flow_of(rates(seconds)) for seconds in (0, 1, 2))
    return steps.Step(100.0, 102.0, 102.0, flows, way, jumps=False)


@given(st.floats(1e-6, 2.0))
def test_a_step_is_added_up_to_any_second_in_it_along_its_parabola(past_s):
    """∫ (5 - 3 t + t²) dt / T from 0 to T is 5 - 3 T / 2 + T² / 3."""
    parts = step_of(lambda t: [5 - 3 * t + t * t]).parts(100 + past_s)
    assert sum(flow.rate[0] * part for flow, part in parts) == pytest.approx(5 - 3 * past_s / 2 + past_s**2 / 3)


@given(st.floats(1e-3, 2.0))
def test_what_is_held_in_a_step_follows_from_its_parabola(past_s):
    """Sessions and connections are opened at 5 - 3 t + t² then, and half-way."""
    holdings = SimpleNamespace(led_on=lambda opens, seconds: ((opens, seconds), 0.0))
    step = step_of(lambda t: [5 - 3 * t + t * t])
    (first, half, then), seconds = FlowsAhead(None, None, holdings).held_then(step, 100 + past_s)
    assert seconds == pytest.approx(past_s)
    for opens, t in ((first, 0.0), (half, past_s / 2), (then, past_s)):
        assert opens.sessions.ways == pytest.approx(np.full((4, 1, 2), 5 - 3 * t + t * t))


@pytest.mark.parametrize("second", [100.001, 100.7, 101.0, 102.0, 102.2])
def test_rates_at_an_end_are_led_on_to_it_from_just_before(monkeypatch, second):
    """Where they go on from 3 by 2 a second, which nobody looks for at the end itself: there they jump."""
    step, flows = step_of(lambda t: [3 + 2 * t]), FlowsAhead(None, None, None)
    flows.flow, flows.now = step.flows[0], 100.0

    def at(later_s, *_):
        return flow_of([3 + 2 * (later_s - 100) if later_s < second else 0.0])

    monkeypatch.setattr(flows, "at", at)
    ahead = steps.Stretch(second, step.parts(102.0), step.flows[1].opens, step=step)
    assert flows.end_of(ahead, lambda flow: flow.rate, second) == pytest.approx([3 + 2 * (second - 100)])


def test_a_step_that_something_ends_sooner_is_its_parabola_until_then():
    step = step_of(lambda t: [5 - 3 * t + t * t])
    flows = SimpleNamespace(held_then=lambda asked, second: (asked, second))
    stretch = steps.Stretch(102.0, step.parts(102.0), step.flows[1].opens, step.flows[2], None, step=step)
    ahead = FlowsAhead.until(flows, stretch, 101.3, None, None)
    assert (ahead.end_s, ahead.parts, ahead.then) == (101.3, step.parts(101.3), None)
    assert ahead.held == (step, 101.3)


@pytest.mark.parametrize(("longer", "second", "most"), [(2.0, 102, 1.36), (2.0, 100.5, 1.35), (0.5, 102, 1.0)])
def test_the_most_in_a_step_is_the_vertex_of_its_parabola(longer, second, most):
    """1 + 1.2 t - t² comes to 1 + 1.2² / 4 after 0.6 s; 2 + t², 4 - t and 1 - t² come to the most at one end. What
    bends too much for a parabola has no vertex."""
    step = step_of(lambda t: [1 + 1.2 * t - t * t, 2 + t * t, 4 - t, 1 - t * t], steps.Way(None, 0.0, longer, 0.0))
    assert step.most(lambda flow: flow.rate, second) == pytest.approx([most, 2 + (second - 100) ** 2, 4, 1])


def test_the_peak_of_latency_is_that_of_the_flows_just_before_something_happens():
    """In the demo's cascade calls are slowest at the end of a step that turned out to last longer than was looked."""
    plan = read_plan(Path("examples/beckwater.plan.yaml"))
    run = run_drill(compile_network(plan), next(one for one in plan.drills if one.name == "lose-fells"))
    ends = [run.flow_at(frame.t_s - 1e-5).mean_latency_s for frame in run.keyframes[1:] if 360 < frame.t_s < 390]
    assert run.readings.peak_latency_ms == pytest.approx(max(ends) * 1000, rel=1e-6)


@pytest.mark.parametrize("next_after", ["send", "result"])
def test_what_happens_does_not_depend_on_where_one_looks_meanwhile(monkeypatch, next_after):
    """The demo's cascade, with events at latencies that nobody minds: what probes of targets and of names find, when,
    and what fails is as without them, while backlogs grow, waits become longer, and old answers fade. (An interval that
    follows on the result adds up what waits have become: these are those of the utilisations on the way.)"""
    plan = read_plan(Path("examples/beckwater.plan.yaml"))
    probes = [probe.model_copy(update={"next_after": next_after}) for probe in plan.probes]
    network = compile_network(plan.model_copy(update={"probes": probes}))
    drill = next(one for one in plan.drills if one.name == "lose-fells").model_copy(update={"lasts_s": 330.0})
    plain = run_drill(network, drill)
    bounds_s = Backlogs.bounds_s

    def with_others(backlogs, flow):
        mine = bounds_s(backlogs, flow)
        return np.concatenate([mine, np.full((len(mine), 2), [0.7, 2.2])], axis=1)

    monkeypatch.setattr(Backlogs, "bounds_s", with_others)
    looked = run_drill(network, drill)
    assert len(looked.keyframes) > len(plain.keyframes) + 20
    assert [(event.kind, event.about) for event in looked.events] == [(one.kind, one.about) for one in plain.events]
    at_s = [event.at_s for event in plain.events]
    assert [event.at_s for event in looked.events] == pytest.approx(at_s, abs=2e-6)
    assert looked.readings.failed == pytest.approx(plain.readings.failed, rel=1e-7)


def test_backlogs_grow_and_peak_as_their_load_wherever_a_step_ends(monkeypatch):
    """A machine is lost, and returns without sessions: its load comes back as these end, so that of the others, a ninth
    too much, falls as an exponential. With events at latencies that nobody minds steps are cut where they fall; what
    backlogs have come to, and the most that anybody waits, is the same."""
    data = changed(plan_data(), "/fleets/0/instance/capacity_rps", 110)
    data["target_groups"][0]["affinity"] = {"by": "cookie", "lasts_s": 60, "renews": False}
    data["fleets"][0]["instance"]["queue_s"] = 20
    data["clients"][0]["timeout_s"], data["probes"][0]["timeout_s"] = 60, 9
    outage = [fail(30, instance="tiles-1"), restore(90, instance="tiles-1")]
    plain = drill_of(data, outage, lasts_s=400)
    bounds_s = Backlogs.bounds_s

    def with_others(backlogs, flow):
        mine = bounds_s(backlogs, flow)
        return np.concatenate([mine, np.full((len(mine), 15), np.arange(15) * 0.37 + 0.5)], axis=1)

    monkeypatch.setattr(Backlogs, "bounds_s", with_others)
    looked = drill_of(data, outage, lasts_s=400)
    assert len(looked.keyframes) > len(plain.keyframes) + 30
    for second in (150, 200, 300):
        backlog_s = looked.flow_at(second).state.backlog_s
        assert plain.flow_at(second).state.backlog_s == pytest.approx(backlog_s, abs=5e-4)
    waits_s = [looked.flow_at(second).mean_latency_s for second in np.arange(135, 155, 0.5)]
    for run in (plain, looked):
        assert run.readings.peak_latency_ms == pytest.approx(max(waits_s) * 1000, rel=5e-5)


def test_what_happens_next_to_the_same_second_has_nothing_in_between():
    """Two steps as near to each other as numbers are, while old answers fade and load rises: there is a peak."""
    data = two_regions(choose="order", probe="watch", probed_from=["uplands"], ttl_s=60)
    data["probes"].append({"name": "watch", "protocol": "https", "port": 443, "path": "/ready", "interval_s": 10})
    seconds = (60.0, math.nextafter(60.0, 61.0))
    still = [{"at_s": second, "surge": {"clients": "sailors", "factor": 1.0}} for second in seconds]
    lost = [fail(10, region="fells")]
    run, without = (drill_of(data, [*lost, *more], lasts_s=200) for more in (still, []))
    assert without.readings.peak_utilisation == pytest.approx(0.4), "800/s on two machines of 1,000/s"
    assert run.readings.peak_utilisation == pytest.approx(without.readings.peak_utilisation)
    assert run.readings.failed == pytest.approx(without.readings.failed)


def used(*values):
    """A flow in which machines are so busy."""
    return SimpleNamespace(queue=SimpleNamespace(utilisation=np.array(values)))


@pytest.mark.parametrize(("known_s", "goes"), [((98.0, 99.0, 100.0), [0.4, 0.03]), ((99.0, 100.0, 101.5), [0.4, 0.03])])
def test_how_busy_machines_are_is_led_on_along_the_parabola_through_what_is_known(known_s, goes):
    course = Course([(second, used(1 + 0.4 * (second - 100) + 0.03 * (second - 100) ** 2)) for second in known_s])
    assert course.faster(100.0, 103.0)[:, 0] == pytest.approx(goes, rel=1e-9)


def test_how_busy_machines_are_goes_along_a_line_where_nothing_is_known_from_before():
    """What jumps now tells nothing of how rates bend from here on."""
    course = Course([(100.0, used(1.0))])
    assert np.array_equal(course.faster(100.0, 103.0), np.zeros((2, 1)))
    course.add(101.0, used(1.5))
    course.add(102.0, used(2.5))
    assert course.faster(100.0, 103.0)[:, 0] == pytest.approx([0.75, 0.0])


def rates_of(value, utilisation=0.5):
    """A flow of 100 requests/s, of which so many are served."""
    opens = opens_of(0.5)
    rates = {"zone_served": np.array([value]), "cause_rps": np.array([100 - value]), "requests": 100.0}
    return SimpleNamespace(**rates, opens=opens, queue=SimpleNamespace(utilisation=np.array([utilisation])))


def test_rates_stay_where_none_of_them_changes():
    assert steps.stays(rates_of(90.0), rates_of(90.0 + 1e-11))
    assert not steps.stays(rates_of(90.0), rates_of(90.0 + 1e-8))
    assert not steps.stays(rates_of(90.0), rates_of(90.0, 0.5 + 1e-8))
    opened_otherwise = rates_of(90.0)
    opened_otherwise.opens = opens_of(0.6)
    assert not steps.stays(rates_of(90.0), opened_otherwise)


@pytest.mark.parametrize("lasts", [0.3, 1.0])
def test_what_rates_are_wrong_by_is_told_of_what_fades_evenly(lasts):
    """Simpson's rule over e^(-xt), against its integral."""
    values = [np.array([math.exp(-lasts * part)]) for part in (0, 0.5, 1)]
    simpson = float(values[0][0] + 4 * values[1][0] + values[2][0]) / 6
    assert steps.wrong(values) == pytest.approx(simpson - (1 - math.exp(-lasts)) / lasts, rel=0.1)


@pytest.mark.parametrize(("fades", "seconds"), [(0.05, 4), (0.02, 20)])
def test_a_step_is_as_long_as_backlogs_at_its_end_are_known_closely(fades, seconds):
    """Load that fades evenly, u = 1 + e^(-xt) / 4, adds up to e^(-xt) / 4 - 1/4 over -x; of machines that have no
    backlog nothing has to be known so closely. What rates make of it does not matter: nothing fails."""

    def flow(second, waits):
        used = np.array([1 + math.exp(-fades * second) / 4, 0.9 - second / 100])
        state = SimpleNamespace(backlog_s=np.array([1.0, 0.0]) if waits else np.zeros(2))
        return SimpleNamespace(queue=SimpleNamespace(utilisation=used), state=state)

    flows = [flow(seconds * part, waits=True) for part in (0, 0.5, 1)]
    simpson = seconds * sum(w * one.queue.utilisation[0] for w, one in zip((1, 4, 1), flows, strict=True)) / 6
    exact = seconds + (1 - math.exp(-fades * seconds)) / fades / 4
    assert steps.backlog_off_s(flows, seconds) == pytest.approx(simpson - exact, rel=0.1)
    assert steps.backlog_off_s([flow(seconds * part, waits=False) for part in (0, 0.5, 1)], seconds) == 0
