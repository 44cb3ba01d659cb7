"""Exponential decays, one after the other: what is left of a mass that must pass through several.

The convolution of e^(-a t), e^(-b t), ... is t^n times the divided difference of the exponential function at -a t,
-b t, ..., n being one less than there are rates (C. F. Van Loan, "Computing integrals involving the matrix
exponential", 1978). Where rates lie close together the difference quotients would lose their digits; there the series
in complete homogeneous sums is used (A. McCurdy, K. C. Ng and B. N. Parlett, "Accurate computation of divided
differences of the exponential function", 1984).
"""

import math
from collections.abc import Sequence

# Nodes that lie within so much of each other are summed by the series, which needs so many terms for all digits.
CLOSE, TERMS = 1.0, 18


def after_each(rates: Sequence[float], t: float) -> float:
    """The convolution of e^(-rate τ) for all rates (1/s) over t seconds: in s^(rates - 1)."""
    return t ** (len(rates) - 1) * exp_difference([-rate * t for rate in rates])


def exp_difference(nodes: Sequence[float]) -> float:
    """The divided difference of the exponential function at one or more nodes, in any order."""
    made = sorted(nodes)
    return _difference(made, 0, len(made) - 1, {})


def _difference(nodes: list[float], first: int, last: int, known: dict[tuple[int, int], float]) -> float:
    if first == last:
        return math.exp(nodes[first])
    if first + 1 == last:
        apart = nodes[last] - nodes[first]
        # The quotient keeps its digits however close both lie.
        return math.exp(nodes[last]) * (-math.expm1(-apart) / apart if apart else 1.0)
    if (first, last) not in known:
        apart = nodes[last] - nodes[first]
        if apart < CLOSE:
            found = _series(nodes[first : last + 1])
        else:
            upper = _difference(nodes, first + 1, last, known)
            found = (upper - _difference(nodes, first, last - 1, known)) / apart
        known[first, last] = found
    return known[first, last]


def _series(nodes: list[float]) -> float:
    """The divided difference of close nodes x: e^c Σ h_k(x - c) / (k + n)!, h_k the sum of all products of k of
    them."""
    centre, order = nodes[0], len(nodes) - 1
    offsets = [node - centre for node in nodes[1:]]
    # Row k of the sums over ever more of the nodes: h_k(x_1 .. x_j) = h_k(x_1 .. x_(j-1)) + x_j h_(k-1)(x_1 .. x_j).
    sums = [1.0] * order
    total, factor = 1.0 / math.factorial(order), 1.0 / math.factorial(order)
    for term in range(1, TERMS):
        above = 0.0
        for place, offset in enumerate(offsets):
            above = sums[place] = above + offset * sums[place]
        factor /= term + order
        total += above * factor
        if above * factor < total * 1e-18:
            break
    return math.exp(centre) * total
