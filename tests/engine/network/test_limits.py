"""What would take all memory is refused before it does, with its place and its cause."""

import pytest

from northgate.engine.base import CannotRun
from northgate.engine.network import pairs, targets
from tests.support.plans import network_of, plan_data

TARGETS, FRONTS = 6, 3


def refused(data):
    with pytest.raises(CannotRun) as told:
        network_of(data)
    return told.value.problems[0]


def test_targets_are_counted_over_all_groups(monkeypatch):
    data = plan_data()
    data["target_groups"].append({**data["target_groups"][0], "name": "again"})
    monkeypatch.setattr(targets, "MOST_TARGETS", 2 * TARGETS)
    assert len(network_of(data).members.group) == 2 * TARGETS
    monkeypatch.setattr(targets, "MOST_TARGETS", 2 * TARGETS - 1)
    problem = refused(data)
    assert (problem.where, "12 targets" in problem.message) == ("/target_groups/1", True)


def test_sorts_of_requests_are_counted_at_every_pair(monkeypatch):
    network = network_of(plan_data())
    values = TARGETS * FRONTS * len(network.calls.outcome_timeout_s)
    monkeypatch.setattr(pairs, "MOST_VALUES", values)
    assert len(network_of(plan_data()).pairs.front) == TARGETS * FRONTS
    monkeypatch.setattr(pairs, "MOST_VALUES", values - 1)
    problem = refused(plan_data())
    assert problem.where == "/balancers"
    assert f"{values - 1:,} values can be computed" in problem.message
