"""Verdicts that follow each other like stairs are taken in one: the same comes out as step by step."""

import itertools

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from msgspec import Struct
from msgspec.structs import astuple

from northgate.engine.drill import drawing, stairs
from northgate.engine.solver import Solver
from tests.support.exploring import examples
from tests.support.plans import drill_of, fail, plan_data, restore

RPS = 600


def spread_out(targets, **group):
    """So many targets over three zones, at 40 % of what they can."""
    data = plan_data()
    data["fleets"][0]["count"] = targets
    data["fleets"][0]["instance"] |= {"capacity_rps": RPS / targets / 0.4}
    data["target_groups"][0] |= group
    return data


def run_of(data, *steps, lasts_s=120, **more):
    return drill_of(data, list(steps), phases="spread", lasts_s=lasts_s, **more)


def step_by_step(monkeypatch):
    monkeypatch.setattr(stairs.Climb, "climb", lambda *_: None)


def counted(monkeypatch):
    """How many flows are solved."""
    solved, find = [], Solver.solve
    monkeypatch.setattr(Solver, "solve", lambda self, state: solved.append(1) or find(self, state))
    return solved


def apart(thing):
    """What it says but for numbers, and these."""
    if isinstance(thing, float):
        return "a number", [thing]
    if not isinstance(thing, tuple | Struct):
        return thing, []
    says, numbers = zip(*map(apart, thing if isinstance(thing, tuple) else astuple(thing)), strict=True)
    return says, [number for some in numbers for number in some]


def agree(run, other):
    """Both have come to the same, on the way and at the end."""
    for name in ("requests", "failed", "settled_s", "worst_blind_s", "peak_utilisation", "peak_latency_ms"):
        assert getattr(run.readings, name) == pytest.approx(getattr(other.readings, name), rel=1e-9), name
    for name in ("failed_by_cause", "failed_by_mechanism"):
        assert getattr(run.readings, name) == pytest.approx(getattr(other.readings, name), rel=1e-9, abs=1e-6), name
    for one, two in ((run.events, other.events), (run.blind, other.blind)):
        (says, numbers), (says_too, others) = apart(one), apart(two)
        assert says == says_too
        # What is rounded to the nanosecond may be rounded otherwise.
        assert numbers == pytest.approx(others, abs=1.5e-9)
    assert [frame.t_s for frame in run.keyframes] == pytest.approx([one.t_s for one in other.keyframes], abs=1.5e-9)
    for one, two in zip(run.keyframes, other.keyframes, strict=True):
        assert np.array_equal(one.state.in_use, two.state.in_use)
        assert one.zone_served == pytest.approx(two.zone_served, abs=1e-7 * RPS)
        assert one.cause_rps == pytest.approx(two.cause_rps, abs=1e-7 * RPS)
        assert one.mechanism_rps == pytest.approx(two.mechanism_rps, abs=1e-7 * RPS)
        assert one.utilisation == pytest.approx(two.utilisation, abs=1e-8)
        assert one.latency_s == pytest.approx(two.latency_s, abs=1e-8)
        assert one.failed == pytest.approx(two.failed, rel=1e-9, abs=1e-6)


def test_lost_targets_that_are_noticed_one_after_the_other(monkeypatch):
    """With k of the lost L found out, of N: RPS (L - k) / (N - k) fail, until the next is found out."""
    data, count = spread_out(300), 300
    data["balancers"][0]["zones"] = {"fells-1": None}
    solved = counted(monkeypatch)
    run = run_of(data, fail(10, zone="fells-2"))
    assert len(solved) < 50
    noticed = sorted(row.believed_at_s for row in run.blind)
    lost = len(noticed)
    assert lost == count // 3
    seconds = np.diff([10.0, *noticed])
    failed = sum(RPS * (lost - k) / (count - k) * part for k, part in enumerate(seconds))
    assert run.readings.failed == pytest.approx(failed, rel=1e-12)
    rates = {frame.t_s: float(frame.cause_rps.sum()) for frame in run.keyframes}
    for k, second in enumerate(noticed, 1):
        assert rates[second] == pytest.approx(RPS * (lost - k) / (count - k), abs=1e-9 * RPS)


@settings(max_examples=examples(2))
@given(
    st.sampled_from([150, 241]),
    st.sampled_from([{}, {"balance": "least-connections"}, {"balance": "two-choices"}, {"try_others": 1}]),
    st.sampled_from([0, 2]),
    st.booleans(),
)
def test_all_comes_out_as_step_by_step(targets, group, retries, back):
    data = spread_out(targets, **group)
    data["clients"][0] |= {"retries": retries}
    steps = [fail(10, zone="fells-2"), *([restore(65, zone="fells-2")] if back else [])]
    with pytest.MonkeyPatch.context() as patch:
        solved = counted(patch)
        run = run_of(data, *steps)
        quick = len(solved)
        solved.clear()
        step_by_step(patch)
        agree(run, run_of(data, *steps))
        assert quick < len(solved)


@pytest.mark.parametrize("next_after", ["send", "result"])
def test_a_name_that_is_watched_meanwhile_changes_its_answer_when_it_would(monkeypatch, next_after):
    """The first of two balancers dies with the zone, and the name's probes notice it amid the stairs of the second."""
    data = spread_out(240)
    data["probes"].append(
        {"name": "watch", "protocol": "https", "port": 443, "path": "/ready", "interval_s": 9, "next_after": next_after}
    )
    data["balancers"].append({**data["balancers"][0], "name": "first", "zones": {"fells-2": None},
                              "addresses": ["203.0.113.20"]})  # fmt: skip
    data["names"][0] |= {"answers": [{"balancer": "first"}, {"balancer": "front"}], "ttl_s": 0, "probe": "watch",
                         "probed_from": ["uplands"]}  # fmt: skip
    data["clients"].append({"name": "gauges", "rps": 300, "calls": [{"url": "https://203.0.113.10/"}]})
    run = run_of(data, fail(10, zone="fells-2"))
    step_by_step(monkeypatch)
    other = run_of(data, fail(10, zone="fells-2"))
    assert len(run.votes) == 1
    assert run.votes == other.votes
    agree(run, other)


def test_stairs_end_where_a_group_is_left_with_nobody(monkeypatch):
    """Then requests fall to the next tier: a leap, which no polynomial foretells."""
    data = spread_out(240)
    data["fleets"].append({**data["fleets"][0], "name": "spare", "zones": {"fells-1": None}, "count": 1})
    data["fleets"][0]["zones"] = {"fells-2": None}
    data["fleets"][1]["instance"] = data["fleets"][0]["instance"] | {"capacity_rps": RPS * 3}
    spare = {"name": "spare", "port": 8080, "probe": "ready", "targets": [{"fleet": "spare"}]}
    data["target_groups"].append(spare)
    data["pools"][0]["tiers"].append({"groups": {"spare": 1}})
    data["balancers"][0]["zones"] = {"fells-1": None, "fells-3": None}
    solved = counted(monkeypatch)
    run = run_of(data, fail(10, zone="fells-2"))
    assert len(solved) < len(run.keyframes)
    step_by_step(monkeypatch)
    agree(run, run_of(data, fail(10, zone="fells-2")))


def test_what_is_not_drawn_is_there_when_it_is_asked_for(monkeypatch):
    """Where steps are many, not each has a keyframe; the flow at any second is that of its own step."""
    monkeypatch.setattr(drawing, "DRAWN_BYTES", 1)
    data = spread_out(300)
    thin = run_of(data, fail(10, zone="fells-2"))
    step_by_step(monkeypatch)
    whole = run_of(data, fail(10, zone="fells-2"))
    assert len(thin.keyframes) < len(whole.keyframes) / 2
    assert thin.readings.failed == pytest.approx(whole.readings.failed, rel=1e-9)
    for second in (9, 10, 31.7, 33.333, 38.2, 39.99, 41, 60):
        mine, theirs = thin.flow_at(second), whole.flow_at(second)
        assert np.array_equal(mine.state.in_use, theirs.state.in_use)
        assert mine.cause_rps == pytest.approx(theirs.cause_rps)


@pytest.mark.parametrize(
    ("kinds", "period"),
    [("aaaaaa", 1), ("abababa", 2), ("abcabca", 3), ("aabaab", 3), ("abcdefghijklmnopqr" * 2, None)],
)
def test_periods(kinds, period):
    assert stairs.period_of(kinds) == period


@given(st.integers(26, 100), st.integers(1, 4), st.floats(0.1, 0.9))
def test_every_step_is_read_off_the_solved_ones(turns, period, part):
    """Rates like those of shares of what is left, with another law for each turn, come out at every step; and what
    stands for each solved step adds up to all steps."""
    steps = turns * period
    solved = stairs.steps_to_solve(steps, period)
    every = np.arange(steps + 1)
    rates = (1 + every % period) / (1 - part * every / (2 * steps))
    reading = stairs.read_off(steps, period, solved)
    assert reading @ rates[solved] == pytest.approx(rates, rel=1e-8)
    assert reading.sum(axis=1) == pytest.approx(1.0)


def test_what_is_solved_is_the_first_and_the_last_of_each_turn():
    for steps, period in itertools.product((40, 41, 43), (1, 2, 3)):
        solved = stairs.steps_to_solve(steps, period)
        for turn in range(period):
            mine = [step for step in range(steps + 1) if step % period == turn]
            assert {mine[0], mine[-1]} <= set(solved.tolist())


def test_cells_that_lose_their_last_or_get_their_first_end_the_stairs():
    cells = np.array([0, 1, 0, 1, 0, 1])
    gains = np.array([False, False, False, True, False, True])
    counts = np.ones(6, dtype=bool)
    ends = stairs.ends_of(cells, gains, counts, np.array([3.0, 1.0]))
    # Cell 0: 3, 2, 1, 0 in use; cell 1: 1, 0, 1, 2.
    assert ends.tolist() == [False, True, False, True, True, False]
    ends = stairs.ends_of(cells, gains, ~counts, np.array([3.0, 1.0]))
    assert not ends.any()
