"""When polynomials come to a bound: their first root after now."""

import numpy as np
import pytest
from hypothesis import assume, given
from hypothesis import strategies as st

from northgate.engine.base import NEVER
from northgate.engine.formulas.roots import cubic_meets_s

NUMBERS = st.floats(-4, 4).map(lambda value: round(value, 3))


def first_root(off, slope, bend, third):
    """By the eigenvalues of the companion matrix."""
    roots = np.roots([third / 6, bend / 2, slope, off])
    return min((root.real for root in roots if abs(root.imag) < 1e-9 and root.real > 0), default=NEVER)


@given(NUMBERS, NUMBERS, NUMBERS, NUMBERS)
def test_a_cubic_comes_to_nothing_at_its_first_root(off, slope, bend, third):
    roots = np.roots([third / 6, bend / 2, slope, off])
    # Where two fall together, the last digit decides whether there are any.
    assume(abs(off) > 1e-3 and all(abs(one - other) > 1e-4 for i, one in enumerate(roots) for other in roots[:i]))
    assume(not any(1e-12 < abs(root.imag) < 1e-5 for root in roots))
    wanted = first_root(off, slope, bend, third)
    found = cubic_meets_s(off, slope, bend, third)
    if wanted < 1e6:
        assert found == pytest.approx(wanted, rel=1e-9)
    else:
        assert found == NEVER or found > 1e6


@pytest.mark.parametrize(
    ("polynomial", "root"),
    [
        ((-6, 11, -12, 6), 1),  # (t - 1)(t - 2)(t - 3)
        ((6, 11, 12, 6), NEVER),  # (t + 1)(t + 2)(t + 3)
        ((-1e-10, 1, 0, 1), NEVER),  # at it already
        ((-8, 0, 0, 6), 2),  # t^3 = 8
    ],
)
def test_its_first_root_is_that_after_now(polynomial, root):
    assert cubic_meets_s(*map(float, polynomial)) == pytest.approx(root)
