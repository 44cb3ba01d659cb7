"""Trying other targets: sums and integrals against every sequence, and what clients see of it."""

from itertools import combinations, permutations
from math import comb, prod

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from northgate.engine.base import MECHANISMS
from northgate.engine.formulas.failover import last_stops
from tests.engine.drill.test_traffic import targets
from tests.support.plans import drill_of, fail, plan_data


def every_sequence(first, drawn, bad, silent, tries):
    """Where requests end, sequence by sequence; and how many silent ones those at good targets have met."""
    share, waits = np.zeros(len(first)), {}
    for length in range(1, tries + 2):
        for order in permutations(range(len(first)), length):
            *before, last = order
            if not all(bad[one] for one in before):
                continue
            chance, gone = first[order[0]], drawn[order[0]]
            for one in order[1:]:
                chance *= drawn[one] / (drawn.sum() - gone) if drawn.sum() - gone > 1e-12 else 0.0
                gone += drawn[one]
            nobody = drawn.sum() - gone <= 1e-12
            if not bad[last] or length == tries + 1 or nobody:
                share[last] += chance
                if not bad[last]:
                    quiet = sum(silent[one] for one in before)
                    waits[last, quiet] = waits.get((last, quiet), 0.0) + chance
    return share, waits


def check_stops(first, drawn, bad, silent, tries):
    got = last_stops(first, drawn, bad, silent, tries)
    share, waits = every_sequence(first, drawn, bad, silent, tries)
    assert got.share.sum() == pytest.approx(1)
    # Bad ones of equal share and kind are counted together: where exactly such a request ends says nothing.
    assert got.share[~bad] == pytest.approx(share[~bad])
    for kind in (bad & silent, bad & ~silent):
        assert got.share[kind].sum() == pytest.approx(share[kind].sum())
    for place in np.flatnonzero(~bad):
        for quiet, waited in enumerate(got.waited):
            assert waited[place] == pytest.approx(waits.get((place, quiet), 0.0), abs=1e-12)
    return got, share


NOT_GOOD = (("refuses", "silent"), ("silent",))
KINDS = st.sampled_from(["good", "refuses", "silent"])
TARGETS = st.lists(st.tuples(st.integers(1, 3), KINDS), min_size=1, max_size=5)


@given(TARGETS, st.integers(0, 3), st.floats(0, 1))
def test_counts_and_sequences_agree(rows, tries, mixed):
    weight = np.array([row[0] for row in rows], dtype=float)
    drawn = weight / weight.sum()
    first = (1 - mixed) * drawn + mixed * np.eye(len(rows))[0]
    check_stops(first, drawn, *(np.array([row[1] in of for row in rows]) for of in NOT_GOOD), tries)


@settings(max_examples=20)
@given(
    st.lists(st.floats(1e-3, 1e3), min_size=8, max_size=8, unique=True),
    st.lists(st.booleans(), min_size=8, max_size=8),
    st.sampled_from([0.0, 1e-6, 1.0, 1e3]), st.integers(1, 3), st.floats(0, 1), st.booleans(),
)  # fmt: skip
def test_integrals_and_sequences_agree(weights, quiet, good, tries, mixed, at_drawn):
    """Eight that are drawn all differently: more ways to try three of them than moments. Some begin at one of them, or
    at another that is bad too, and is not drawn."""
    drawn = np.array([*weights, good, 0.0]) / (sum(weights) + good)
    first = (1 - mixed) * drawn + mixed * np.eye(10)[0 if at_drawn else 9]
    bad = np.arange(10) != 8
    got, share = check_stops(first, drawn, bad, np.array([*quiet, False, True]), tries)
    assert got.share == pytest.approx(share, rel=1e-9, abs=1e-14), "each is a lump by itself"


@pytest.mark.parametrize("at_drawn", [True, False])
def test_who_tries_all_in_vain_ends_at_the_last(at_drawn):
    """Of twelve, none good; the last to ring of clocks with rates p, by inclusion and exclusion. Begun as all are
    drawn, or at another that is not drawn, which is no try of theirs."""
    drawn = np.append(1.0 + np.arange(12), 0.0) / 78
    first, bad = (drawn if at_drawn else np.eye(13)[12]), np.ones(13, dtype=bool)
    got = last_stops(first, drawn, bad, bad, 12)
    others = [[drawn[two] for two in range(12) if two != one] for one in range(12)]
    wanted = [
        sum((-1) ** k * p / (p + sum(some)) for k in range(12) for some in combinations(of, k))
        for p, of in zip(drawn, others, strict=False)
    ]
    assert got.share == pytest.approx([*wanted, 0.0], abs=1e-12)


@pytest.mark.parametrize("tries", [1, 7, 20, 40])
def test_who_is_drawn_all_but_alike_is_tried_as_from_an_urn(tries):
    """Forty bad of fifty, half of them silent, each drawn by a hair more than the last: without replacement, how many
    silent ones are met is that of an urn."""
    drawn = 1 + 1e-13 * np.arange(50)
    bad, silent = np.arange(50) < 40, np.arange(50) < 20
    got = last_stops(drawn / drawn.sum(), drawn / drawn.sum(), bad, silent, tries)
    assert got.share[bad].sum() == pytest.approx(prod((40 - k) / (50 - k) for k in range(tries + 1)), abs=1e-11)
    for quiet in (0, 1, 5):
        met = [(k, comb(20, quiet) * comb(20, k - quiet) / comb(40, k)) for k in range(quiet, tries + 1)]
        tried = [prod((40 - n) / (50 - n) for n in range(k)) * 10 / (50 - k) for k, _ in met]
        wanted = sum(part * of for part, (_, of) in zip(tried, met, strict=True))
        of_good = got.waited[quiet].sum() if quiet <= tries else 0.0
        assert of_good == pytest.approx(wanted, rel=1e-9)


@pytest.mark.parametrize("alike", [1, 8])
def test_who_may_try_all_ends_at_those_who_take_him(alike):
    """Sixteen that refuse, all drawn differently or in lumps, so many tries that their sequences cannot be counted."""
    drawn = np.append(1.0 + np.arange(16) // alike, [3.0, 1.0])
    bad = np.arange(18) < 16
    got = last_stops(drawn / drawn.sum(), drawn / drawn.sum(), bad, np.zeros(18, dtype=bool), 16)
    assert got.share[:16] == pytest.approx(0, abs=1e-15)
    assert got.share[16:] == pytest.approx([0.75, 0.25], rel=1e-12)


@given(TARGETS, st.floats(0, 1), st.floats(0, 1))
def test_one_further_try_is_that_of_every_sequence(rows, mixed, left):
    """First to the first target; what is drawn need not be all."""
    drawn = np.array([row[0] for row in rows], dtype=float)
    drawn *= left / drawn.sum()
    bad, silent = (np.array([row[1] in kinds for row in rows]) for kinds in NOT_GOOD)
    first = (1 - mixed) * drawn + mixed * (np.arange(len(rows)) == 0)
    got = last_stops(first, drawn, bad, silent, 1)
    share, waits = every_sequence(first, drawn, bad, silent, 1)
    assert got.share.sum() == pytest.approx(first.sum())
    assert got.share == pytest.approx(share, abs=1e-12)
    for place, quiet in np.ndindex(len(rows), 2):
        wanted = 0.0 if bad[place] else waits.get((place, quiet), 0.0)
        assert got.waited[quiet, place] == pytest.approx(wanted, abs=1e-12)


def with_others(count, **group):
    data = plan_data()
    data["target_groups"][0] |= {"try_others": count, **group}
    return data


@pytest.mark.parametrize("count", [0, 1, 2])
def test_refused_connects_go_on_to_others(count):
    """Two of six refuse: all fail only if each of the first tries meets one of them, without replacement."""
    run = drill_of(with_others(count), [fail(60, process="tiles-1"), fail(60, process="tiles-2")], lasts_s=80)
    expected = {0: 2 / 6, 1: 2 / 6 * 1 / 5, 2: 0}[count]
    flow = run.flow_at(61)
    assert flow.cause_rps.sum() == pytest.approx(600 * expected)
    others = (1 - expected) * 600 / 4
    assert targets(flow)["tiles-3"] == pytest.approx(others)
    assert flow.served + flow.cause_rps.sum() == pytest.approx(600)


def test_silence_costs_the_connect_time_out_before_the_next_is_tried():
    run = drill_of(with_others(1, connect_timeout_s=2), [fail(60, instance="tiles-1")], lasts_s=80)
    before, flow = run.flow_at(59), run.flow_at(61)
    assert flow.cause_rps.sum() == 0
    grown = flow.mean_latency_s - before.mean_latency_s
    assert grown == pytest.approx(2 / 6, abs=2e-3), "a sixth waits two seconds; the others' queues grow a little"


def test_a_client_that_does_not_wait_so_long_fails_all_the_same():
    data = with_others(1, connect_timeout_s=2)
    data["clients"][0]["timeout_s"] = 1.5
    run = drill_of(data, [fail(60, instance="tiles-1")], lasts_s=80)
    flow = run.flow_at(61)
    assert flow.cause_rps.sum() == pytest.approx(100)
    assert flow.cause_rps[1] == pytest.approx(100), "timed out"
    assert targets(flow)["tiles-2"] == pytest.approx(120), "the others do the work in vain"


@pytest.mark.parametrize("sessions", [False, True])
def test_who_is_too_late_for_having_waited_for_others_waits_for_their_verdict(sessions):
    """Two of six are silent, and each takes more than half of a client's patience: targets that are not busy are met
    too late. That is for want of verdicts, not for load; calls that sessions hold at targets, and that are repeated,
    are followed each by itself."""
    data = with_others(2, connect_timeout_s=1, **({"affinity": {"by": "cookie", "renews": True}} if sessions else {}))
    data["clients"][0] |= {"timeout_s": 1.5, "retries": 1, "sources": 3000}
    run = drill_of(data, [fail(60, instance="tiles-1"), fail(60, instance="tiles-2")], lasts_s=80)
    flow = run.flow_at(61)
    assert flow.cause_rps[1] == pytest.approx(flow.cause_rps.sum())
    assert flow.cause_rps[1] > 1
    assert flow.mechanism_rps[MECHANISMS.index("waiting")] == pytest.approx(flow.cause_rps[1])


def test_a_hash_goes_on_to_the_next_in_its_order():
    """Keys of the refusing target spread as if it were not there: as they do after its verdict."""
    data = with_others(1, balance="source-hash")
    data["clients"][0] |= {"sources": 4000, "cidr": "198.18.0.0/16"}
    run = drill_of(data, [fail(60, process="tiles-1")], lasts_s=300)
    early, late = run.flow_at(61), run.flow_at(299)
    assert early.cause_rps.sum() == 0
    assert targets(early) == pytest.approx(targets(late))


def test_sessions_of_a_refusing_target_are_served_by_others_until_they_move():
    data = with_others(1, affinity={"by": "cookie", "renews": True})
    data["clients"][0]["sources"] = 3000
    run = drill_of(data, [fail(60, process="tiles-1")], lasts_s=300)
    assert run.readings.failed == 0
    assert run.readings.sessions_moved == pytest.approx(500)
    assert targets(run.flow_at(61))["tiles-2"] == pytest.approx(120)
