"""Exponential decays, one after the other: what is left of a mass that must pass through several.

The convolution of e^(-a t), e^(-b t), ... is t^n times the divided difference of the exponential function at -a t,
-b t, ..., n being one less than there are rates (C. F. Van Loan, "Computing integrals involving the matrix
exponential", 1978). Where rates lie close together the difference quotients would lose their digits; there the series
in complete homogeneous sums is used (A. McCurdy, K. C. Ng and B. N. Parlett, "Accurate computation of divided
differences of the exponential function", 1984).
"""

import math

import numpy as np

from northgate.engine.base import Floats, Floats1, Floats2, part

# Nodes that lie within so much of each other are summed by the series, which needs so many terms for all digits.
CLOSE, TERMS = 1.0, 18
# What decays by less than this in all is summed by the series.
SLOW = 1e-3
# How often what is held is found again on the way of how it was found before.
ROUNDS = 3
# For work on so many rates at most: the nodes, their differences, and the sums of the series.
MOST = 8


def workplace() -> Floats:
    """Where the decays of MOST rates at most can be worked out: (3, MOST)."""
    return np.empty((3, MOST))


@part
def after_each(work: Floats2, count: int, t: float) -> float:
    """The convolution of e^(-rate τ) over t seconds, in s^(count - 1), for the first so many rates (1/s) in `work[0]`,
    which are lost; `work` is a workplace."""
    power = 1.0
    for place in range(count):
        power *= t if place else 1.0
        work[0, place] *= -t
    return power * exp_difference(work, count)


@part
def after_two(work: Floats2, first: float, second: float, seconds: float, summed: bool) -> float:
    """What passes through decays of two rates, or its integral."""
    work[0, 0], work[0, 1], work[0, 2] = first, second, 0.0
    return after_each(work, 3 if summed else 2, seconds)


@part
def driven(
    first: float, speed: float, push: float, half_way: float, then: float, seconds: float
) -> float:  # fmt: skip
    """What a mass comes to in so many seconds that decays with a rate (`speed`, 1/s) and grows by a push (1/s) along
    the parabola through what that is at first, half-way and then: m' = D(t) - κ m.

    With D = a + b τ + c τ^2, m(t) = m(0) e^(-κ t) + a I_0 + b I_1 + c I_2; the integrals of τ^n e^(-κ (t - τ)) are I_0
    = (1 - e^(-κ t)) / κ and, by parts, I_n = (t^n - n I_(n-1)) / κ.
    """
    turn = speed * seconds
    steep, bend = -3 * push + 4 * half_way - then, 2 * (push - 2 * half_way + then)
    if turn > SLOW:
        even = -math.expm1(-turn) / turn
        linear = (1 - even) / turn
        squared = (1 - 2 * linear) / turn
    else:
        # The series keep the digits which the differences lose.
        even = 1 - turn / 2 * (1 - turn / 3 * (1 - turn / 4 * (1 - turn / 5)))
        linear = (1 - turn / 3 * (1 - turn / 4 * (1 - turn / 5))) / 2
        squared = (1 - turn / 4 * (1 - turn / 5 * (1 - turn / 6))) / 3
    return first * math.exp(-turn) + seconds * (push * even + steep * linear + bend * squared)


@part
def driven_at(
    first: float, speed: float, push: float, half_way: float, then: float, less: float, less_half: float,
    less_then: float, seconds: float,
) -> float:  # fmt: skip
    """As `driven`, of a mass that decays with a rate that changes, too: at first, half-way and then it is by so much
    `less` than its mean. m' = D(t) - κ(t) m is D(t) + (κ - κ(t)) m - κ m, the second m being that which was found
    before."""
    held_half, held_then = first, first
    for _ in range(ROUNDS):
        first_push, half_push = push + less * first, half_way + less_half * held_half
        then_push = then + less_then * held_then
        quarter = (3 * first_push + 6 * half_push - then_push) / 8
        held_half = driven(first, speed, first_push, quarter, half_push, seconds / 2)
        held_then = driven(first, speed, first_push, half_push, then_push, seconds)
    return held_then


@part
def exp_difference(work: Floats2, count: int) -> float:
    """The divided difference of the exponential function at the first so many nodes in `work[0]`, which are put in
    order."""
    nodes, found = work[0], work[1]
    for place in range(1, count):
        node, before = nodes[place], place
        while before and nodes[before - 1] > node:
            nodes[before] = nodes[before - 1]
            before -= 1
        nodes[before] = node
    for place in range(count):
        found[place] = math.exp(nodes[place])
    # Of ever more nodes from each place on.
    for order in range(1, count):
        for place in range(count - order):
            apart = nodes[place + order] - nodes[place]
            if order == 1:
                # The quotient keeps its digits however close both lie.
                part_of_it = -math.expm1(-apart) / apart if apart > 0 else 1.0
                found[place] = math.exp(nodes[place + 1]) * part_of_it
            elif apart < CLOSE:
                found[place] = _series(nodes, place, order, work[2])
            else:
                found[place] = (found[place + 1] - found[place]) / apart
    return float(found[0])


@part
def _series(nodes: Floats1, first: int, order: int, sums: Floats1) -> float:
    """The divided difference of close nodes x: e^c Σ h_k(x - c) / (k + n)!, h_k the sum of all products of k of
    them."""
    factor = 1.0
    for number in range(2, order + 1):
        factor /= number
    # Row k of the sums over ever more of the nodes: h_k(x_1 .. x_j) = h_k(x_1 .. x_(j-1)) + x_j h_(k-1)(x_1 .. x_j).
    sums[:order] = 1.0
    total = factor
    for term in range(1, TERMS):
        above = 0.0
        for place in range(order):
            above = sums[place] = above + (nodes[first + 1 + place] - nodes[first]) * sums[place]
        factor /= term + order
        total += above * factor
        if above * factor < total * 1e-18:
            break
    return math.exp(nodes[first]) * total
