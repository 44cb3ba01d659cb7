"""What the last rounds have told leads on: of what is linear it tells all."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from northgate.engine.formulas import Secants
from northgate.engine.formulas.secants import MEMORY


@given(st.integers(0, 1000), st.integers(1, MEMORY))
def test_as_many_secants_as_there_are_numbers_lead_to_the_fixed_point_of_a_linear_map(seed, count):
    drawn = np.random.default_rng(seed)
    matrix, shift = drawn.uniform(-0.5, 0.5, (count, count)) / count, drawn.uniform(-1, 1, count)
    fixed = np.linalg.solve(np.eye(count) - matrix, shift)
    secants = Secants()
    for come in np.eye(count) + drawn.uniform(-0.1, 0.1, (count, count)):
        secants.add(come, (matrix - np.eye(count)) @ come)
    now = drawn.uniform(-1, 1, count)
    off = matrix @ now + shift - now
    assert now + secants.step(off) == pytest.approx(fixed, abs=1e-9)


def test_what_was_told_of_other_numbers_or_is_forgotten_leads_nowhere():
    secants, off = Secants(), np.array([1.0, 2.0])
    assert secants.step(off) is off
    secants.add(np.ones(3), np.ones(3))
    assert secants.step(off) is off
    secants.add(np.array([1.0, 0.0]), np.array([-0.5, 0.0]))
    assert secants.step(off) is not off
    secants.forget()
    assert secants.step(off) is off


def test_the_oldest_secants_give_way():
    secants, off = Secants(), np.array([1.0])
    secants.add(np.array([1.0]), np.array([5.0]))
    for _ in range(MEMORY):
        secants.add(np.array([1.0]), np.array([-1.0]))
    assert secants.step(off) == pytest.approx(1.0)


def test_a_round_that_tells_nothing_new_is_left_out():
    """It differs from the one after it by a thousandth; what would be made of that is a thousand times as far."""
    off, new = np.array([1.0, 2.0]), (np.array([1.0, 0.0]), np.array([-1.0, 0.0]))
    secants, of_new = Secants(), Secants()
    secants.add(np.array([1.0, 1.0]), np.array([-1.0, 1e-3]))
    for one in (secants, of_new):
        one.add(*new)
    assert secants.step(off).tolist() == of_new.step(off).tolist()
    secants.add(np.array([0.0, 1.0]), np.array([0.0, -0.5]))
    assert secants.step(off) == pytest.approx([1.0, 4.0])
