"""What rates do at a bound over which they lead back and forth, at a bounded cost."""

import math

import pytest

from northgate.engine.drill.ahead import chatter
from northgate.engine.drill.ahead.chatter import Chatter
from tests.engine.drill.test_traffic import layer_4
from tests.support.plans import drill_of, fail

RPS, CAPACITY, SOURCES, CONNECTION_S = 120, 100, 400, 30


def sliding(lasts_s):
    """One of two targets refuses, unnoticed; the other was slow until answers came later than anybody waits. As soon
    as they come in time, more connect there than it can take."""
    data = layer_4(idle_timeout_s=3600)
    data["fleets"][0] |= {"count": 2, "zones": {"fells-1": None}}
    data["fleets"][0]["instance"] |= {"capacity_rps": CAPACITY, "queue_s": 10}
    data["target_groups"][0] |= {"protocol": "tcp", "probe": None}
    client = {"rps": RPS, "sources": SOURCES, "connection_s": CONNECTION_S, "timeout_s": 2}
    data["clients"][0] |= {"calls": [{"url": "tcp://www.beckwater.example:443"}], **client}
    slow = {"slow": "tiles-1", "factor": 10}
    steps = [fail(50, process="tiles-2"), {"at_s": 60, "fail": slow}, {"at_s": 70, "restore": slow}]
    return drill_of(data, steps, lasts_s=lasts_s)


def test_what_slides_along_a_bound_stays_there_on_the_mean(monkeypatch):
    """As much comes as is worked off: λ (M + (1 - M) / 2) = C, M being connected. M stays so: half of the others' calls
    come, of which those are served that are asked in time, a share φ of time: λ (1 - M) / 2 φ = S M / L."""
    monkeypatch.setattr(chatter, "FULL", 40.0)
    run = sliding(160)
    connected = 2 * CAPACITY / RPS - 1
    comes = RPS * (1 - connected) / 2
    in_time = SOURCES * connected / CONNECTION_S / comes
    failed = comes + CAPACITY * (1 - in_time)
    assert run.failed_by(160) - run.failed_by(110) == pytest.approx(50 * failed, rel=0.002)
    assert len(run.keyframes) < chatter.FULL + 70 * (chatter.PER_S + 1 / chatter.BLIND_S)


def test_each_jump_is_looked_for_until_there_are_too_many():
    given = Chatter()
    jumps = 0
    while not given.blindly_s(100.0, math.inf, jumped=True):
        jumps += 1
    assert jumps == chatter.FULL
    # None are left, and are only given again as time passes.
    assert given.blindly_s(100.0 + 0.9 * chatter.SOME / chatter.PER_S, math.inf, jumped=False) == chatter.BLIND_S
    assert given.blindly_s(100.1 + (1 + chatter.SOME) / chatter.PER_S, math.inf, jumped=False) == 0


def test_ever_so_many_jumps_are_looked_for_if_they_are_not_close():
    given = Chatter()
    assert not any(given.blindly_s(second / chatter.PER_S, 0.001, jumped=True) for second in range(5000))


def chattering():
    """One that has used up its jumps, at the bound."""
    given, now = Chatter(), 100.0
    while not given.blindly_s(now, 0.0, jumped=True):
        pass
    return given, now


@pytest.mark.parametrize(("slow", "fast"), [(0.2, 2.8), (0.1, 0.5)])
def test_steps_lead_a_little_beyond_the_bound_from_either_side(slow, fast):
    """Where answers come too late they come sooner by `slow` a second, and later by `fast` where they come in time: so
    that is how much longer all go on on one side than on the other."""
    given, now = chattering()
    spare_s, lasted, seen = -0.001, {True: 0.0, False: 0.0}, []
    for number in range(60):
        step_s = given.blindly_s(now, spare_s, jumped=True)
        assert chatter.LEAST_S <= step_s <= chatter.BLIND_S
        in_time = spare_s > 0
        now, spare_s = now + step_s, spare_s + (-fast if in_time else slow) * step_s
        if number >= 20:
            lasted[in_time] += step_s
            seen.append(abs(spare_s))
    assert lasted[False] / lasted[True] == pytest.approx(fast / slow, rel=0.1)
    assert max(seen) == pytest.approx(chatter.BEYOND_S)


def test_who_comes_no_nearer_to_a_bound_is_looked_at_ever_more_seldom():
    given, now = chattering()
    steps_s = []
    for number in range(10):
        steps_s.append(given.blindly_s(now, 1.0 + number, jumped=True))
        now += steps_s[-1]
    assert steps_s == pytest.approx([min(chatter.LEAST_S * 2**number, chatter.BLIND_S) for number in range(10)])
