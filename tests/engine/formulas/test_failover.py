"""Trying other targets: the sum over counts against every sequence, and what clients see of it."""

from itertools import permutations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from northgate.engine.formulas.failover import last_stops, last_stops_of_two
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


TARGETS = st.lists(st.tuples(st.integers(1, 3), st.sampled_from(["good", "refuses", "silent"])), min_size=1, max_size=5)


@pytest.mark.no_cover
@given(TARGETS, st.integers(0, 3), st.floats(0, 1))
def test_counts_and_sequences_agree(rows, tries, mixed):
    weight = np.array([row[0] for row in rows], dtype=float)
    drawn = weight / weight.sum()
    first = (1 - mixed) * drawn + mixed * np.eye(len(rows))[0]
    bad = np.array([row[1] != "good" for row in rows])
    silent = np.array([row[1] == "silent" for row in rows])
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


@pytest.mark.parametrize("alike", [1, 8])
def test_who_may_try_all_ends_at_those_who_take_him(alike):
    """Sixteen that refuse, all drawn differently or in lumps, so many tries that their sequences cannot be counted."""
    drawn = np.append(1.0 + np.arange(16) // alike, [3.0, 1.0])
    bad = np.arange(18) < 16
    got = last_stops(drawn / drawn.sum(), drawn / drawn.sum(), bad, np.zeros(18, dtype=bool), 16)
    assert got.share[:16] == pytest.approx(0, abs=1e-15)
    assert got.share[16:] == pytest.approx([0.75, 0.25], rel=1e-12)


@given(st.lists(TARGETS, min_size=1, max_size=3), st.floats(0, 1), st.floats(0, 1))
def test_one_further_try_of_many_groups_at_once_is_that_of_each(groups, mixed, left):
    """To the target; of two kinds of requests, of which the second is not sent anywhere first in the last group."""
    rows = [row for group in groups for row in group]
    group = np.repeat(np.arange(len(groups)), [len(one) for one in groups])
    drawn = np.array([row[0] for row in rows], dtype=float)
    drawn *= left / np.bincount(group, drawn)[group]
    bad, silent = (np.array([row[1] in kinds for row in rows]) for kinds in (("refuses", "silent"), ("silent",)))
    begin = np.append(True, group[1:] != group[:-1])
    first = (1 - mixed) * drawn + mixed * begin
    both = np.stack([first, np.where(group == len(groups) - 1, 0.0, first)])
    twice = (np.stack([one] * 2) for one in (drawn, bad, silent))
    got = last_stops_of_two(both, *twice, group, len(groups))
    for kind, sent in enumerate(both):
        assert got.share[kind].sum() == pytest.approx(sent.sum())
        for one in range(len(groups)):
            mine = group == one
            share, waits = every_sequence(sent[mine], drawn[mine], bad[mine], silent[mine], 1)
            assert got.share[kind, mine] == pytest.approx(share, abs=1e-12)
            for place, quiet in np.ndindex(int(mine.sum()), 2):
                wanted = 0.0 if bad[mine][place] else waits.get((place, quiet), 0.0)
                assert got.waited[quiet, kind, mine][place] == pytest.approx(wanted, abs=1e-12)


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
