"""Where keys fall, as targets come, go, and change their weights: as if nothing had been known before."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from msgspec.structs import replace

from northgate.engine.balancing import keys as table
from northgate.engine.formulas import best_scores, ranking, winners

KEYS = np.arange(1, 200, dtype=np.uint64) * np.uint64(7919)
TARGETS = np.arange(1, 41, dtype=np.uint64) * np.uint64(104_729)
# Out of use, in use, at half of the weight, or at thrice.
WEIGHTS = st.lists(st.sampled_from([0.0, 1.0, 1.0, 0.5, 3.0]), min_size=len(TARGETS), max_size=len(TARGETS))
# In use or not, most of them not: so that keys fall beyond the first few of theirs.
IN_USE = st.lists(st.sampled_from([0.0, 0.0, 0.0, 0.0, 1.0]), min_size=len(TARGETS), max_size=len(TARGETS))


@given(st.lists(WEIGHTS | IN_USE, min_size=1, max_size=6))
def test_keys_fall_where_they_would_without_anything_known(steps):
    weight = np.ones(len(TARGETS))
    known = table._Fallen(weight, winners(KEYS, TARGETS, weight))
    for step in steps:
        weight = np.array(step)
        if not weight.any():
            continue
        known = known.moved(KEYS, TARGETS, weight)
        assert np.array_equal(known.winner, winners(KEYS, TARGETS, weight))


@given(st.lists(WEIGHTS | IN_USE, min_size=1, max_size=4), st.integers(1, table.FIRST))
def test_keys_go_on_in_the_order_that_they_would_without_anything_known(steps, count):
    known = table._Fallen(np.ones(len(TARGETS)), np.zeros(len(KEYS), dtype=np.int64))
    for step in steps:
        weight = np.array(step)
        ranked = known.ranked_by(KEYS, TARGETS, weight)
        assert np.array_equal(ranked.orders(KEYS, TARGETS, weight, count), ranking(KEYS, TARGETS, weight, count))
        known = replace(known, ranked=ranked)


def test_too_many_keys_are_not_ranked(monkeypatch):
    monkeypatch.setattr(table, "RANKED", 10)
    weight = np.ones(len(TARGETS))
    known = table._Fallen(weight, winners(KEYS, TARGETS, weight))
    gone = np.where(np.arange(len(TARGETS)) % 3 == 0, 0.0, 1.0)
    moved = known.moved(KEYS, TARGETS, gone)
    assert moved.ranked is None
    assert np.array_equal(moved.winner, winners(KEYS, TARGETS, gone))


@pytest.mark.parametrize("count", [1, 7, 12, 40, 50])
def test_the_first_few_are_those_of_all_in_order(count):
    weight = np.where(np.arange(len(TARGETS)) % 5 == 4, 0.0, 1.0 + np.arange(len(TARGETS)) % 3)
    scores = np.array([best_scores(KEYS, target, one) for target, one in zip(TARGETS, weight, strict=True)])
    scores = np.where(weight[:, None] > 0, scores, -np.inf)
    usable = int((weight > 0).sum())
    wanted = np.argsort(-scores, axis=0, kind="stable")[: min(count, usable)].T
    made = ranking(KEYS, TARGETS, weight, count)
    assert np.array_equal(made[:, : min(count, usable)], wanted)
    assert (made[:, usable:] == -1).all()


def test_of_equal_ones_the_first_leads():
    """Every target twice: its first place comes first, however few are picked out."""
    targets = np.concatenate([TARGETS[:20], TARGETS[:20]])
    order = ranking(KEYS, targets, np.ones(40), 4)
    assert (order[:, 0] < 20).all()
    assert np.array_equal(order[:, 1], order[:, 0] + 20)
