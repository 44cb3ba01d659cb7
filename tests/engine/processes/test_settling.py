"""What is held settles where it would stay under the load that it makes itself."""

import numpy as np
import pytest

from northgate.engine.processes.settling import PATIENCE, STEADY, unmoved
from northgate.engine.solver import Held


def held(*shares):
    """Of one kind of session, on so many members; no connections."""
    return Held(np.array([shares], dtype=float), np.zeros((0, len(shares))), np.zeros((0, len(shares))))


def line(matrix, shift, noise=0.0):
    """What would be held is this linear in what is held; next to it, it is known to so much."""
    rounds, drawn = [], np.random.default_rng(1)

    def under(now):
        rounds.append(now)
        then = matrix @ now.sessions[0] + shift + noise * drawn.uniform(-1, 1, len(shift))
        return held(*then)

    return under, rounds


@pytest.mark.parametrize("slope", [0.5, 0.9, -0.9, -8.0, -1000.0, 3.0])
def test_it_is_found_however_steeply_what_would_be_held_depends_on_what_is(slope):
    """y = 0.3 + slope (x - 0.3); another place, where it depends on nothing, follows at once."""
    matrix, settled = np.diag([slope, 0.0]), np.array([0.3, 0.2])
    under, rounds = line(matrix, settled - matrix @ settled)
    found = unmoved(held(0.4, 0.6), under)
    assert found.sessions[0] == pytest.approx(settled, abs=STEADY)
    assert len(rounds) < PATIENCE


def test_it_is_known_as_closely_as_what_would_be_held_is_and_closer_where_that_is_steep():
    matrix, settled = np.diag([-1000.0, -0.5]), np.array([0.3, 0.2])
    under, _ = line(matrix, settled - matrix @ settled, noise=1e-10)
    found = unmoved(held(0.3, 0.25), under)
    assert found.sessions[0] == pytest.approx(settled, abs=1e-10)
    assert found.sessions[0, 0] == pytest.approx(0.3, abs=1e-12)


def test_where_nothing_stays_it_is_where_least_changes_and_the_looking_ends():
    """What is more than a half leads to less, and what is less to more."""
    rounds = []

    def under(now):
        rounds.append(now.sessions[0, 0])
        return held(0.2 if now.sessions[0, 0] > 0.5 else 0.7)

    found = unmoved(held(1.0), under).sessions[0, 0]
    assert abs((0.2 if found > 0.5 else 0.7) - found) == min(abs((0.2 if x > 0.5 else 0.7) - x) for x in rounds)
    assert len(rounds) < 60


def test_nobody_holds_less_than_nothing_and_no_more_outlive_their_session_than_there_are():
    """On the way to where it settles a line would lead beyond both."""
    seen = []

    def under(now):
        seen.append(now)
        one, other = now.sessions[0]
        connected = np.array([[max(one - 0.5, 0.0), 0.1]])
        return Held(np.array([[0.1 + 0.5 * other**2, max(0.9 - 2 * one, 0.0)]]), connected, connected * 0.99)

    start = Held(np.array([[1.0, 0.0]]), np.array([[0.0, 1.0]]), np.array([[0.0, 1.0]]))
    found = unmoved(start, under)
    assert under(found).apart(found) <= STEADY
    for now in seen:
        assert all((part >= 0).all() for part in now.parts)
        assert (now.strays <= now.connections).all()
