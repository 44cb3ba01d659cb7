"""Shares and attempts are settled under the load that they make."""

import numpy as np
import pytest
from msgspec.structs import replace

from northgate.engine.drill.run import undisturbed
from northgate.engine.solver import Attempts, Solver
from northgate.engine.solver.fixed_point import SETTLED, SETTLED_TRIES, Memory, fixed_point
from northgate.engine.solver.passes.one_pass import OnePass
from tests.engine.solver.test_connections import layer_4
from tests.support.plans import network_of, plan_data


def busy_plan(retries):
    """A third of the instances is slow, and there is not capacity for all."""
    data = plan_data()
    slow = {"capacity_rps": 60, "service_ms": 400, "queue_s": 0}
    data["fleets"].append(
        {**data["fleets"][0], "name": "slow", "count": 3, "instance": data["fleets"][0]["instance"] | slow}
    )
    data["fleets"][0]["instance"] |= {"capacity_rps": 60, "queue_s": 0}
    data["target_groups"][0] |= {"balance": "two-choices", "targets": [{"fleet": "tiles"}, {"fleet": "slow"}]}
    data["clients"][0] |= {"retries": retries}
    return data


@pytest.mark.parametrize("retries", [0, 2])
def test_shares_and_attempts_are_those_that_follow_from_the_load_that_they_make(retries):
    """Also where shares were not looked for so closely while attempts were far off."""
    solver = Solver(network_of(busy_plan(retries)))
    calm = undisturbed(solver.network).state
    one_pass = OnePass(solver._unloaded(calm), replace(calm, attempts=None, shares=None))
    forth, back = fixed_point(one_pass, Memory())
    assert np.abs(one_pass.busy_shares(forth) - forth.share).max() <= SETTLED
    assert np.ptp(forth.share) > 0.01, "they are not all alike"
    wanted = one_pass.attempts_wanted(back)
    assert np.abs(one_pass.attempts.off(wanted)).max() <= SETTLED_TRIES
    assert (wanted.book.max() > 1.1) == (retries > 0)


def test_how_often_nobody_tries_is_as_wanted_wherever_one_begins():
    """A weightless target gets no connection: how often one would be tried there is 1, or 3 where it is silent."""
    data = layer_4({"targets": [{"fleet": "tiles"}, {"fleet": "idle", "weight": 0}]}, retries=2)
    data["fleets"].append({**data["fleets"][0], "name": "idle"})
    flow = undisturbed(network_of(data))
    held = flow.state.held.connections > 0
    book, after_one, over_open, lost = flow.attempts.parts
    away = Attempts.of(book, after_one, np.where(held, over_open, 7.0), lost)
    found = Solver(flow.network).solve(replace(flow.state, attempts=away))
    assert not held.all()
    assert found.attempts.over_open == pytest.approx(np.ones_like(away.over_open))


def test_who_is_tried_once_forgets_a_storm():
    """Where nobody goes on any more (as once did, to the next address of a dead front), nothing of it is left."""
    flow = undisturbed(network_of(plan_data()))
    storm = Attempts.of(np.full_like(flow.attempts.book, 3.0), *flow.attempts.parts[1:])
    found = Solver(flow.network).solve(replace(flow.state, attempts=storm))
    assert found.queue.utilisation == pytest.approx(flow.queue.utilisation)
    assert found.attempts.book == pytest.approx(flow.attempts.book)
