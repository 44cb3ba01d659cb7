"""Shares among candidates: each method against its algebra."""

import math

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from northgate.engine.formulas.selection import (
    drawn_by_refusing,
    least_connections,
    rank_share,
    refused_share,
    two_choices,
)

NONE = np.zeros(3, dtype=bool)


def test_least_connections_is_weight_over_hold():
    got = least_connections(np.array([1.0, 2, 1]), np.array([0.1, 0.1, 0.3]), NONE, 50)
    assert got == pytest.approx(np.array([10, 20, 10 / 3]) / (100 / 3))


@pytest.mark.parametrize("busy", [0.0, 0.2, 0.7, 0.999])
@pytest.mark.parametrize("n", [1, 4, 30])
def test_one_refusing_target_draws_by_the_closed_form(n, busy):
    assert drawn_by_refusing(n, 1, busy) == pytest.approx((1 - busy ** (n + 1)) / ((n + 1) * (1 - busy)), rel=1e-9)


@pytest.mark.parametrize(("n", "r", "busy"), [(4, 2, 0.3), (7, 5, 0.9), (1, 3, 0.5)])
def test_several_refusing_targets_draw_the_binomial_mean(n, r, busy):
    mean = sum(math.comb(n, k) * (1 - busy) ** k * busy ** (n - k) * r / (r + k) for k in range(n + 1))
    assert drawn_by_refusing(n, r, busy) == pytest.approx(mean, rel=1e-9)
    assert drawn_by_refusing(n, r, 1.0) == 1


@given(st.integers(1, 50), st.integers(1, 9), st.floats(0, 200))
def test_the_refusing_share_is_a_fixed_point(n, r, load):
    s = refused_share(n, r, load)
    busy = min(1.0, (1 - s) * load / n)
    assert drawn_by_refusing(n, r, busy) == pytest.approx(s, abs=1e-9)


def test_refusing_and_answering_targets_share_all():
    refuses = np.array([True, False, False])
    got = least_connections(np.ones(3), np.array([0.0, 0.2, 0.2]), refuses, 5)
    assert got.sum() == pytest.approx(1)
    assert got[0] == pytest.approx(refused_share(2, 1, 1.0))
    assert least_connections(np.ones(3), np.zeros(3), ~NONE, 5) == pytest.approx([1 / 3] * 3)


def ranks_of(count):
    return np.array([rank_share(rank, count) for rank in range(1, count + 1)])


@pytest.mark.parametrize("count", [1, 2, 5, 100])
def test_ranks_share_all_and_the_last_gets_nothing(count):
    ranks = ranks_of(count)
    assert ranks.sum() == pytest.approx(1)
    if count > 1:
        assert ranks[0] == pytest.approx(2 / count)
        assert ranks[-1] == 0


def test_equal_targets_tie_and_share_evenly():
    assert two_choices(np.ones(4), np.full(4, 0.1), np.zeros(4, bool), np.zeros(4, bool)) == pytest.approx([0.25] * 4)


def test_a_refusing_one_ranks_first_and_a_silent_one_last():
    refuses, silent = np.array([0, 1, 0, 0], bool), np.array([0, 0, 0, 1], bool)
    got = two_choices(np.ones(4), np.array([0.1, 0, 0.1, 3]), refuses, silent)
    assert got == pytest.approx([3 / 12, 6 / 12, 3 / 12, 0])


def test_unequal_targets_stay_tied_as_far_as_ranks_allow():
    even = two_choices(np.array([2.0, 1.0]), np.full(2, 0.1), NONE[:2], NONE[:2])
    assert even == pytest.approx([2 / 3, 1 / 3])
    # Of three, the best rank gets 2/3 at most: a target that is a hundred times faster gets no more than that.
    assert two_choices(np.array([100.0, 1, 1]), np.full(3, 0.1), NONE, NONE) == pytest.approx([2 / 3, 1 / 6, 1 / 6])


@given(st.lists(st.tuples(st.integers(0, 5), st.floats(0.001, 10), st.sampled_from("ars")), min_size=1, max_size=12))
def test_two_choices_sum_to_one_within_the_ranks(rows):
    weight = np.array([row[0] for row in rows], dtype=float)
    hold = np.array([row[1] for row in rows])
    state = np.array([row[2] for row in rows])
    got = two_choices(weight, hold, state == "r", state == "s")
    count = int((weight > 0).sum())
    assert got.sum() == pytest.approx(1 if count else 0)
    most = np.cumsum(ranks_of(count)) if count else np.zeros(0)
    assert (np.cumsum(np.sort(got[weight > 0])[::-1]) <= most + 1e-9).all()


def test_targets_that_answer_at_once_leave_the_slower_ones_their_ranks():
    speed_hold = np.array([0.0, 0.01, 0.02, 0.0])
    nobody = np.zeros(4, dtype=bool)
    share = two_choices(np.ones(4), speed_hold, nobody, nobody)
    assert share.sum() == pytest.approx(1, abs=1e-15)
    assert share == pytest.approx([5 / 12, 1 / 9, 1 / 18, 5 / 12])
