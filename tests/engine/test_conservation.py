"""Laws that hold on every plan: nothing is lost or made, no rate is negative, blind times keep their bounds."""

import contextlib
from unittest import mock

import numpy as np
import pytest
from hypothesis import HealthCheck, given, settings

from northgate.engine.drill import run as drill
from northgate.engine.solver.solve import Solver
from tests.support.exploring import EXPLORING, examples
from tests.support.plans import network_of
from tests.support.strategies import plans_with_a_drill

# Of a drill that is solved more often, the first flows are looked at; all of them where one explores.
ENOUGH = 1_000_000 if EXPLORING else 300


class Enough(Exception):
    """So many flows have been looked at."""


LAWS = settings(max_examples=examples(6), deadline=None, suppress_health_check=[HealthCheck.too_slow])


@LAWS
@given(plans_with_a_drill())
def test_nothing_is_lost_or_made(data):
    network, flows = network_of(data), []

    class Noting(Solver):
        def solve(self, state):
            if len(flows) == ENOUGH:
                raise Enough
            flows.append(super().solve(state))
            return flows[-1]

    run = None
    # Every flow that the drill solves, those in the middle of its stretches too.
    with mock.patch.object(drill, "Solver", Noting), contextlib.suppress(Enough):
        run = drill.run_drill(network, network.plan.drills[0])
    for flow in flows:
        offered_is_served_plus_failed(flow, data["clients"][0])
        shares_sum_to_one(flow)
    if run is not None:
        noted = {id(flow.state) for flow in flows}
        assert id(run.keyframes[0].state) in noted
        what_was_not_solved_goes_for_its_state(run, noted, data["clients"][0])
        totals_agree(run, data)
        blind_times_keep_their_bounds(run, data)


def offered_is_served_plus_failed(flow, client):
    assert flow.served + flow.cause_rps.sum() == pytest.approx(flow.requests, rel=1e-9, abs=1e-9)
    assert flow.zone_served.sum() == pytest.approx(flow.served, rel=1e-9, abs=1e-9)
    tries = 1 + client.get("retries", 0)
    # Each attempt may go to every address of the answer: one a front at most.
    addresses = len(flow.places.front_rps) if client["tries_next_address"] else 1
    assert flow.places.front_rps.sum() <= flow.requests * tries * addresses * (1 + 1e-9)
    for rates in (flow.places.pair_rps, flow.pair_served, flow.call_cause, flow.zone_served, flow.state.backlog_s):
        assert (rates >= 0).all()
    assert (flow.pair_served <= flow.places.pair_rps + 1e-9).all()


def what_was_not_solved_goes_for_its_state(run, noted, client):
    """Where a step leads on to what was thought, its last flow stands for the state that it comes to."""
    for number, frame in enumerate(run.keyframes):
        if not frame.moving and id(frame.state) not in noted:
            flow = run.flows[number]
            offered_is_served_plus_failed(flow, client)
            for found, solved in ((frame.zone_served, flow.zone_served), (frame.cause_rps, flow.cause_rps)):
                assert found == pytest.approx(solved, abs=1e-4 * flow.requests)


def shares_sum_to_one(flow):
    choice, network = flow.choice, flow.network
    by_cell = np.bincount(network.pairs.cell, weights=flow.pair_share[0], minlength=len(network.cells.front))
    assert np.all((np.abs(by_cell - 1) < 1e-9) | (by_cell == 0))
    weighted_groups = np.bincount(
        network.weighted.route, weights=choice.weighted_share, minlength=len(choice.route_tier)
    )
    assert weighted_groups + choice.route_refused == pytest.approx(np.ones(len(weighted_groups)))


def totals_agree(run, data):
    readings = run.readings
    assert readings.requests == pytest.approx(data["clients"][0]["rps"] * 240)
    assert sum(readings.failed_by_cause.values()) == pytest.approx(readings.failed)
    assert sum(readings.failed_by_mechanism.values()) == pytest.approx(readings.failed, abs=1e-6)
    assert min(readings.failed_by_mechanism.values()) >= -1e-9
    assert 0 <= readings.failed_share <= 1 + 1e-9
    times = [frame.t_s for frame in run.keyframes]
    assert times == sorted(times)


def blind_times_keep_their_bounds(run, data):
    single_fault = len([step for step in data["drills"][0]["steps"] if "fail" in step]) == 1
    steady = single_fault and not any(frame.moving for frame in run.keyframes)
    for row in run.blind:
        assert row.ended_at_s >= row.true_at_s
        if row.believed_at_s is not None and steady and row.change == "down":
            assert row.bounds.earliest_s - 1e-6 <= row.blind_s <= row.bounds.latest_s + 1e-6
