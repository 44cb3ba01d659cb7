"""Weighted rendezvous hashing: known values, the right distribution, and stability."""

import math
from collections import Counter

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy import stats

from northgate.engine.formulas.hashing import (
    _best,
    _best_compiled,
    address_keys,
    flow_key,
    fnv1a64,
    mix64,
    shares,
    target_keys,
    winners,
)

NAMES = [f"tiles-{number}" for number in range(1, 11)]
KEYS = np.arange(20_000, dtype=np.uint64) + np.uint64(0xC6120000)


def plain_mix(value):
    """The finaliser, written once more with Python's own numbers."""
    mask = (1 << 64) - 1
    value = ((value ^ (value >> 30)) * 0xBF58476D1CE4E5B9) & mask
    value = ((value ^ (value >> 27)) * 0x94D049BB133111EB) & mask
    return value ^ (value >> 31)


def plain_winner(key, names, weights):
    def score(name, weight):
        h = ((plain_mix(plain_mix(key) ^ fnv1a64(name)) >> 11) + 0.5) / 2**53
        return -weight / math.log(h)

    return max(range(len(names)), key=lambda at: score(names[at], weights[at]))


def test_the_hash_of_a_name_is_fnv_1a():
    assert fnv1a64("") == 0xCBF29CE484222325
    assert fnv1a64("a") == 0xAF63DC4C8601EC8C
    assert fnv1a64("foobar") == 0x85944171F73967E8


def test_the_finaliser_is_splitmix64s():
    # The first output of the generator from seed 0 is the finaliser of its increment.
    assert int(mix64(np.array([0x9E3779B97F4A7C15], dtype=np.uint64))[0]) == 0xE220A8397B1DCDAF


@given(
    st.lists(st.integers(0, 2**32 - 1), min_size=1, max_size=20), st.lists(st.integers(1, 9), min_size=1, max_size=8)
)
def test_winners_are_those_of_the_formula(addresses, weights):
    names = NAMES[: len(weights)]
    got = winners(address_keys(addresses), target_keys(names), np.array(weights, dtype=float))
    assert list(got) == [plain_winner(address, names, weights) for address in addresses]


@given(
    st.lists(st.integers(0, 2**64 - 1), min_size=1, max_size=20),
    st.lists(st.integers(0, 2**64 - 1), min_size=1, max_size=1200),
    st.randoms(use_true_random=False),
)
def test_the_compiled_loop_finds_the_same_winners(keys, targets, chance):
    mixed, wanted = np.array(keys, dtype=np.uint64), np.array(targets + targets[:2], dtype=np.uint64)
    weights = np.array([chance.choice([1.0, 2.0, 7.0]) for _ in wanted])
    for weight in (np.ones(len(wanted)), weights):
        assert list(_best_compiled(mixed, wanted, weight)) == list(_best(mixed, wanted, weight))


@pytest.mark.parametrize("weights", [[1] * 10, [1, 2, 3, 4, 5, 1, 2, 3, 4, 5], [0, 1, 0, 3, 1, 1, 1, 1, 1, 1]])
def test_keys_spread_by_weight(weights):
    """Chi-square against the weights; the keys are fixed, so the result is too."""
    counts = np.bincount(winners(KEYS, target_keys(NAMES), np.array(weights, dtype=float)), minlength=10)
    used = np.array(weights) > 0
    assert (counts[~used] == 0).all()
    expected = np.array(weights)[used] / sum(weights) * len(KEYS)
    assert stats.chisquare(counts[used], expected).pvalue > 0.001


@given(st.integers(0, 9), st.integers(1, 500), st.lists(st.integers(1, 4), min_size=10, max_size=10))
def test_a_target_that_leaves_moves_only_its_own_keys(leaver, start, weights):
    keys = KEYS[start : start + 200]
    weight = np.array(weights, dtype=float)
    before = winners(keys, target_keys(NAMES), weight)
    after = winners(keys, target_keys(NAMES), np.where(np.arange(10) == leaver, 0, weight))
    stayed = before != leaver
    assert (before[stayed] == after[stayed]).all()
    assert (after != leaver).all()


def test_many_keys_fall_as_few_do():
    """So many that all processors share the work: each key still falls where it falls alone."""
    names, keys = target_keys([f"t-{number}" for number in range(2000)]), KEYS[:2500]
    together = winners(keys, names, np.ones(2000))
    assert all(int(winners(keys[at : at + 1], names, np.ones(2000))[0]) == together[at] for at in range(0, 2500, 250))


def test_few_keys_give_their_true_uneven_shares():
    got = shares(KEYS[:5], target_keys(NAMES[:3]), np.ones(3))
    counts = Counter(plain_winner(int(key), NAMES[:3], [1, 1, 1]) for key in KEYS[:5])
    assert list(got) == [counts[at] / 5 for at in range(3)]


def test_long_addresses_use_both_halves():
    one, other = address_keys([(0x20010DB8 << 96) + 7, (0x20010DB9 << 96) + 7])
    assert one != other
    assert int(address_keys([0xC6120001])[0]) == 0xC6120001


def test_every_part_of_a_flow_counts():
    base = (1, 40000, 2, 443, "tcp")
    changes = [
        (3, 40000, 2, 443, "tcp"),
        (1, 40001, 2, 443, "tcp"),
        (1, 40000, 3, 443, "tcp"),
        (1, 40000, 2, 444, "tcp"),
        (1, 40000, 2, 443, "udp"),
    ]
    assert len({flow_key(*parts) for parts in [base, *changes]}) == 6
