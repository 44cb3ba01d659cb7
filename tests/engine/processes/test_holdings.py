"""Sessions: what a lost and a returned target sees of them."""

from unittest import mock

import numpy as np
import pytest

from northgate.engine.drill import run as drill
from northgate.engine.drill.run import undisturbed
from northgate.engine.formulas import Openings
from northgate.engine.processes import Holdings
from northgate.engine.solver import Held, Opens
from northgate.engine.solver.solve import Solver
from tests.engine.drill.test_traffic import targets
from tests.engine.solver.test_connections import layer_4
from tests.support.plans import changed, drill_of, fail, network_of, plan_data, restore


def sticky(**affinity):
    data = changed(plan_data(), "/target_groups/0/affinity", {"by": "cookie", **affinity})
    data["clients"][0]["sources"] = 3000
    return data


def test_settled_sessions_change_no_shares():
    for affinity in ({"renews": True}, {"renews": False, "lasts_s": 30}):
        flow = undisturbed(network_of(sticky(**affinity)))
        assert list(targets(flow).values()) == pytest.approx([100] * 6)
        assert flow.served == pytest.approx(600)


def test_a_lost_targets_sessions_move_at_the_first_verdict():
    lost = [fail(60, instance="tiles-1")]
    renewed = drill_of(sticky(renews=True), lost, lasts_s=300)
    assert renewed.readings.sessions_moved == pytest.approx(3000 / 6)
    rate, lasts_s = 600 / 3000, 30.0
    ended = drill_of(sticky(renews=False, lasts_s=lasts_s), lost, lasts_s=300)
    # While it is silent it opens none, and its sessions end: m(35) = m e^(-35/L).
    held = rate / (rate + 1 / lasts_s) * 3000 / 6
    assert ended.readings.sessions_moved == pytest.approx(held * np.exp(-35 / lasts_s))


def test_a_silent_target_fails_the_sessions_it_has_and_the_calls_that_draw_it():
    """With renewed sessions all of a sixth of the sources stay with it until the verdict: 600/6 calls a second."""
    run = drill_of(sticky(renews=True), [fail(60, instance="tiles-1")], lasts_s=300)
    assert run.readings.failed == pytest.approx(600 / 6 * 35)
    assert targets(run.flow_at(299))["tiles-1"] == 0


def test_a_returned_target_is_avoided_by_renewed_sessions_and_filled_as_others_end():
    script = [fail(60, instance="tiles-1"), restore(200, instance="tiles-1")]
    renewed = drill_of(sticky(renews=True), script, lasts_s=900)
    assert targets(renewed.flow_at(899))["tiles-1"] == pytest.approx(0, abs=0.5), "nobody is free to come back"
    ended = drill_of(sticky(renews=False, lasts_s=60), script, lasts_s=900)
    back = next(row.believed_at_s for row in ended.blind if row.change == "up")
    early, late = targets(ended.flow_at(back + 5))["tiles-1"], targets(ended.flow_at(899))["tiles-1"]
    assert 0 < early < 40
    assert late == pytest.approx(100, rel=1e-3)


def test_what_is_served_and_failed_adds_up_while_sessions_move():
    run = drill_of(
        sticky(renews=False, lasts_s=60), [fail(60, zone="fells-1"), restore(200, zone="fells-1")], lasts_s=600
    )
    for flow in run.flows:
        assert flow.served + flow.cause_rps.sum() == pytest.approx(600)
        assert flow.state.held.sessions.sum() <= 1 + 1e-9
    assert run.readings.requests == pytest.approx(600 * 600)


@pytest.mark.parametrize("reach", ["zone", "region"])
def test_connections_that_sessions_lead_are_no_more_than_all_while_they_settle(reach):
    """Each zone leads the connections of all who come to it; together they are those of the sources there are."""
    data = sticky(renews=False, lasts_s=30)
    data["target_groups"][0] |= {"affinity": {"by": "source", "renews": False, "lasts_s": 30}, "reach": reach}
    data = changed(changed(data, "/balancers/0/layer", 4), "/balancers/0/listeners/0/protocol", "tls")
    data["clients"][0] |= {"sources": 3, "retries": 2}
    flows = []

    class Noting(Solver):
        def solve(self, state):
            flows.append(super().solve(state))
            return flows[-1]

    with mock.patch.object(drill, "Solver", Noting):
        undisturbed(network_of(data))
    assert len(flows) > 2
    for flow in flows:
        assert (flow.state.held.connections.sum(axis=1) <= 1 + 1e-12).all()
        assert flow.served + flow.cause_rps.sum() == pytest.approx(flow.requests)


@pytest.mark.parametrize("balance", ["two-choices", "least-connections"])
@pytest.mark.parametrize(("rps", "queue_s", "retries"), [(600, 0, 2), (600, 2, 0), (400, 0, 2)])
def test_nothing_moves_where_nothing_happens(balance, rps, queue_s, retries):
    """Who connects anew goes to whoever is less busy than those make them that are connected: a little more load would
    lead all of them elsewhere. So a plan that is looked at before it has settled is soon another."""
    sessions = {"by": "source", "lasts_s": 60, "renews": False}
    group = {"balance": balance, "targets": [{"fleet": "tiles"}, {"fleet": "slow"}], "affinity": sessions}
    data = layer_4(group, rps=rps, retries=retries)
    fast = data["fleets"][0]["instance"] | {"capacity_rps": 120 if queue_s else 60, "queue_s": queue_s}
    slow = {**data["fleets"][0], "name": "slow", "count": 3, "instance": fast | {"service_ms": 400}}
    data["fleets"] = [data["fleets"][0] | {"instance": fast}, slow]
    run = drill_of(data, [], lasts_s=600)
    first, last = run.flows[0], run.flow_at(599)
    assert last.state.held.apart(first.state.held) < 1e-9
    assert last.queue.utilisation == pytest.approx(first.queue.utilisation, rel=1e-9)
    assert run.readings.failed == pytest.approx(first.cause_rps.sum() * 600, rel=1e-9)


def test_sessions_on_a_target_that_drains_move_on():
    run = drill_of(sticky(renews=True), [{"at_s": 60, "drain": {"instance": "tiles-1"}}], lasts_s=300)
    assert run.readings.sessions_moved == pytest.approx(3000 / 6)
    assert run.readings.failed == 0
    assert run.flow_at(200).state.held.sessions.sum() == pytest.approx(1)


def opening(places):
    """Sessions that a source without one opens at these rates (1/s)."""
    none = openings(np.zeros((0, 0)), 0.0)
    return Opens.of(openings([places], 1 / 60), none, none, np.ones(1))


def openings(opens, ends):
    """Where nothing is silent, or leads anywhere, and each source asks once a second."""
    ways, kinds = np.array(opens, dtype=float)[None], len(opens)
    silent = np.zeros(ways.shape[1:], dtype=bool)
    return Openings(ways, np.ones(kinds), np.array([[ends] * kinds, [np.inf] * kinds]), silent)


@pytest.mark.parametrize(("seconds", "most"), [(4.0, 1e-5), (2.0, 4e-7)])
def test_what_is_held_is_led_on_by_how_sessions_are_opened_meanwhile(seconds, most):
    """Ever more are opened on one target, as the square of time: halving the step leaves 1/32 of the error, against
    steps a thousand times as short."""
    network = network_of(sticky(by="cookie", lasts_s=60, renews=False))
    members = len(network.members.group)
    none = np.zeros((0, 0))
    start = Held(np.full((1, members), 0.5 / members), none, none)

    def at(second):
        risen = np.full(members, 0.02)
        risen[0] += 0.01 * (second / 4) ** 2
        return opening(risen)

    led_on, off = Holdings(network, start).led_on((at(0), at(seconds / 2), at(seconds)), seconds)
    fine, steps = start, 1000
    for step in range(steps):
        middle_s = (step + 0.5) * seconds / steps
        fine = Holdings(network, fine).after(at(middle_s), seconds / steps)
    assert led_on.apart(fine) < most
    # So near that what it was otherwise in one go tells the step's length.
    assert led_on.apart(fine) < off / 10
