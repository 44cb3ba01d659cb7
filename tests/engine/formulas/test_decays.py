"""Decays after each other, against the matrix exponential and against plain numbers."""

import math
from decimal import Decimal, localcontext
from itertools import pairwise

import numpy as np
import pytest
from hypothesis import example, given
from hypothesis import strategies as st
from scipy.linalg import expm

from northgate.engine.formulas.masses.decays import after_each, driven, exp_difference, workplace
from northgate.engine.formulas.masses.occupancy import Occupancy, Openings

RATE = st.floats(1e-4, 3.0)
NEAR = st.sampled_from([0.0, 1e-15, 1e-9, 1e-4, 0.3])


def at_work(numbers):
    """A workplace with these numbers, and how many they are."""
    work = workplace()
    work[0, : len(numbers)] = numbers
    return work, len(numbers)


def exponential(matrix):
    """The exponential of a matrix, its rows shuffled meanwhile: SciPy's short cut for triangular ones loses eleven of
    its digits where two of their eigenvalues are nearly alike."""
    order = np.random.default_rng(3).permutation(len(matrix))
    back = np.argsort(order)
    return expm(matrix[np.ix_(order, order)])[np.ix_(back, back)]


def by_matrix(nodes):
    """The divided difference at the corner of the exponential of the nodes, each one followed by 1 (G. Opitz, 1964)."""
    return float(exponential(np.diag(nodes) + np.diag(np.ones(len(nodes) - 1), 1))[0, -1])


def exactly(nodes):
    """The divided difference to fifty digits; nodes that coincide are taken next to each other, 1e-30 apart."""
    with localcontext(prec=150):
        apart = sorted(Decimal(node) + place * Decimal("1e-30") for place, node in enumerate(sorted(nodes)))
        found = [node.exp() for node in apart]
        for order in range(1, len(apart)):
            found = [
                (after - before) / (apart[place + order] - apart[place])
                for place, (before, after) in enumerate(pairwise(found))
            ]
        return float(found[0])


# SciPy's exponential is wrong where two nodes are next to each other, but not the same: of -9, -1e-266 and 0 it comes
# to half of (1 - (1 - e^-9) / 9) / 9, and of -9, -1.2e-7 and 0 it has eleven digits.
@given(st.lists(st.floats(-40, 0).map(lambda node: round(node, 3)), min_size=1, max_size=4))
@example([-9.0, 0.0, 0.0])
@example([-1.0, -1.0, -1.0, -1.0])
@example([-1.0, -1.0 + 1e-9, -3.0, -3.0])
def test_a_divided_difference_is_that_of_the_matrix(nodes):
    assert exp_difference(*at_work(nodes)) == pytest.approx(by_matrix(nodes), rel=1e-12, abs=1e-15)


@given(st.lists(st.floats(-40, 0), min_size=1, max_size=4), NEAR)
@example([-9.0, 0.0, -1.1920929e-07], 1e-266)
@example([-9.0, -30.0, -10.0], 0.99999)
@example([-9.0, -1.0], 0.0)
def test_however_near_nodes_are_no_digit_is_lost(nodes, near):
    for some in (nodes, [*nodes[:3], nodes[0] - near]):
        assert exp_difference(*at_work(some)) == pytest.approx(exactly(some), rel=1e-12)


def test_two_and_three_decays_are_their_algebra():
    a, b, c, t = 0.3, 1.1, 2.0, 1.7
    two = (math.exp(-a * t) - math.exp(-b * t)) / (b - a)
    assert after_each(*at_work((a, b)), t) == pytest.approx(two, rel=1e-13)
    three = sum(math.exp(-x * t) / ((y - x) * (z - x)) for x, y, z in ((a, b, c), (b, a, c), (c, a, b)))
    assert after_each(*at_work((c, a, b)), t) == pytest.approx(three, rel=1e-12)
    assert after_each(*at_work((a, a)), t) == pytest.approx(t * math.exp(-a * t), rel=1e-15)


@given(RATE, RATE, NEAR, st.floats(0, 1), st.floats(0, 1), st.floats(0, 0.5), st.floats(0, 0.5), st.floats(0.01, 300))
def test_the_integrals_are_those_of_the_matrix_exponential(rate, ends, near, opens, again, fast, rest, t):
    # Where `near` is next to nothing, the two rates at which masses change nearly coincide.
    opens = opens if near == 0.3 else max(1 - near, 0.0)
    opening, asked, faster = rate * opens, rate * again, ends + rate
    ways = np.array([[[0.0, opens]], [[0.0, again]], [[np.nan] * 2], [[np.nan] * 2]])
    openings = Openings(ways, np.array([rate]), np.array([[ends], [np.inf]]), np.array([[True, False]]))
    masses = Occupancy(np.array([[fast, rest]]), openings)
    drift = np.array(
        [
            [0, 0, 0, 0, 0, 0, 0],
            [0, -faster, 0, 0, 0, 0, 0],
            [opening, asked - opening, -opening - ends, 0, 0, 0, 0],
            [1, -1, -1, -ends, 0, 0, 0],
            [0, 0, 0, 1, 0, 0, 0],
            [0, 1, 0, 0, 0, -ends, 0],
            [0, 0, 0, 0, 0, 1, 0],
        ]
    )
    state = exponential(drift * t) @ np.array([1.0, fast, rest, 0.0, 0.0, 0.0, 0.0])
    for speed in (ends, faster):
        assert after_each(*at_work((0.0, speed)), t) == pytest.approx((1 - math.exp(-speed * t)) / speed, rel=1e-9)
    _, _, _, free, sum_of_free, lost, sum_of_lost = state
    whole, summed = rest * math.exp(-ends * t), rest * (1 - math.exp(-ends * t)) / ends
    then = [fast * math.exp(-faster * t), whole + rate * (opens * free + again * lost)]
    until = [fast * (1 - math.exp(-faster * t)) / faster, summed + rate * (opens * sum_of_free + again * sum_of_lost)]
    # In parts of the time that passes: sums of decays may cancel down to a few of their digits.
    most = max(t, t * t)
    assert masses.after(t)[0] == pytest.approx(then, rel=1e-12, abs=1e-12 * most)
    assert masses.mean(t)[0] * t == pytest.approx(until, rel=1e-9, abs=1e-12 * most)


PUSH = st.floats(-2, 2)


@given(st.floats(0, 1), st.floats(0, 40), PUSH, PUSH, PUSH, st.sampled_from([1e-3, 0.2, 3.0, 50.0]))
@example(0.5, 0.999e-3, 1.0, -1.0, 2.0, 1.0)
@example(0.5, 1.001e-3, 1.0, -1.0, 2.0, 1.0)
@example(0.5, 0.0, 1.0, -1.0, 2.0, 1.0)
def test_what_is_driven_along_a_parabola_solves_its_equation(first, speed, push, half_way, then, seconds):
    """As one linear system of m, 1, τ and τ², which its matrix exponential solves (C. F. Van Loan, 1978)."""
    steep, bend = -3 * push + 4 * half_way - then, 2 * (push - 2 * half_way + then)
    system = np.array([
        [-speed * seconds, push * seconds, steep * seconds, bend * seconds], [0] * 4, [0, 1, 0, 0], [0, 0, 2, 0],
    ])  # fmt: skip
    there = (exponential(system) @ [first, 1, 0, 0])[0]
    assert driven(first, speed, push, half_way, then, seconds) == pytest.approx(there, rel=1e-9, abs=1e-9)
