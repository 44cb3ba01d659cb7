"""Layer 4 connections that follow keys, against the algebra of who is bound where."""

import numpy as np
import pytest

from northgate.engine.drill.run import undisturbed
from northgate.engine.solver import Solver
from tests.engine.drill.test_traffic import layer_4, targets
from tests.support.plans import drill_of, fail, network_of, restore

RPS, BLIND_S = 600, 35
CLIENTS = [{"sources": 30, "connection_s": 600}, {"sources": 5000, "connection_s": 30}, {"sources": 60, "retries": 2}]


def hashed(**client):
    """One balancer at layer 4 whose six targets are chosen by the hash of the source."""
    data = layer_4(idle_timeout_s=3600)
    data["target_groups"][0] |= {"balance": "source-hash", "protocol": "tcp", "on_out": "reset"}
    data["clients"][0] |= {"calls": [{"url": "tcp://www.beckwater.example:443"}], **client}
    return data


@pytest.mark.parametrize("client", CLIENTS, ids=str)
def test_whose_key_leads_to_a_silent_target_fails_until_it_is_noticed(client):
    """With every call, and each time that it is repeated: no other target is tried for him."""
    data = hashed(**client)
    share = targets(undisturbed(network_of(data)))["tiles-1"] / RPS
    run = drill_of(data, [fail(60, instance="tiles-1")], lasts_s=300)
    assert {row.blind_s for row in run.blind} == {BLIND_S}
    assert run.readings.failed_by_cause["timed_out"] == pytest.approx(RPS * share * BLIND_S, rel=1e-6)
    assert run.readings.sessions_moved == 0, "keys are no sessions"


@pytest.mark.parametrize("client", CLIENTS, ids=str)
def test_keys_lead_to_all_while_a_group_sends_to_somebody_anyway(client):
    """No target is ready, so all may be chosen; whose key leads to the one that falls silent fails until the end."""
    data = hashed(**client)
    data["target_groups"][0] |= {"when_none_healthy": "send-anyway", "on_out": "keep"}
    share = targets(undisturbed(network_of(data)))["tiles-1"] / RPS
    steps = [{"at_s": 60, "fail": {"page": "/ready", "status": 500}}, fail(200, instance="tiles-1")]
    run = drill_of(data, steps, lasts_s=300)
    assert run.readings.failed_by_cause["timed_out"] == pytest.approx(RPS * share * 100, rel=1e-6)
    assert run.readings.sessions_moved == 0
    assert run.readings.connections_reset == 0, "who is left out keeps his connections, and who is silent says nothing"


def test_who_is_connected_elsewhere_stays_until_that_ends():
    """A target comes back: its keys' sources come to it as their connections end, those that have none at once."""
    data = hashed(sources=60, connection_s=40, retries=0)
    before = targets(undisturbed(network_of(data)))
    steps = [fail(60, process="tiles-1"), restore(200, process="tiles-1")]
    run = drill_of(data, steps, lasts_s=900, phases="best")
    back_s = max(event.at_s for event in run.events if event.kind == "verdict")
    calls = RPS / 60
    for later_s in (20.0, 60.0):
        here = targets(run.flow_at(back_s + later_s))["tiles-1"]
        assert here == pytest.approx(before["tiles-1"] * (1 - np.exp(-later_s / 40)), rel=2 / (calls * 40))
    assert targets(run.flow_at(899))["tiles-1"] == pytest.approx(before["tiles-1"], rel=1e-4)


def test_what_is_served_and_fails_is_what_is_asked_while_keys_move():
    data = hashed(sources=400, connection_s=20, retries=1)
    steps = [fail(60, zone="fells-2"), restore(150, zone="fells-2"), fail(180, process="tiles-1")]
    for frame in drill_of(data, steps, lasts_s=300, phases="spread").keyframes:
        assert frame.zone_served.sum() + frame.cause_rps.sum() == pytest.approx(RPS, rel=1e-9)
        assert frame.state.held.connections.sum() <= 1 + 1e-9


def test_how_keys_are_drawn_follows_from_no_load():
    """Twice what they can serve, repeated, and held by what connections there are."""
    flow = undisturbed(network_of(hashed(rps=12_000, retries=2, sources=300)))
    assert flow.queue.utilisation.max() > 1.5
    assert Solver(flow.network).drawn(flow.state) == pytest.approx(flow.pair_share, abs=1e-15)
