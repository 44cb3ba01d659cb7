"""Bandwidth: a balancer's answers beyond it are lost."""

import pytest

from northgate.engine.drill.run import undisturbed
from tests.support.plans import drill_of, network_of, plan_data


def narrow(mbps, **client):
    data = plan_data()
    data["balancers"][0]["bandwidth_mbps"] = mbps
    data["clients"][0]["calls"] = [{"url": "https://www.beckwater.example/tiles/7", "kilobytes": 40}]
    data["clients"][0] |= client
    return data


def test_what_fits_is_served():
    """600 answers of 40 kilobytes are 600 x 40,000 x 8 = 192 megabits a second."""
    assert undisturbed(network_of(narrow(192))).served == pytest.approx(600)


def test_the_excess_share_is_overloaded():
    flow = undisturbed(network_of(narrow(128)))
    assert flow.served == pytest.approx(400)
    assert flow.cause_rps[2] == pytest.approx(200), "overloaded: 1 - 1/u, u = 192/128"
    assert flow.zone_served.sum() == pytest.approx(400)
    assert flow.places.weighted_served.sum() == flow.places.cell_served.sum() == pytest.approx(400)
    assert flow.mechanism_rps[3] == pytest.approx(200)
    assert flow.queue.utilisation[:6] == pytest.approx([0.1] * 6), "the targets have done the work"


def test_repeats_ask_for_more_of_it():
    """One repeat: 400 answers fit, a are tried; a = 600 (1 + p), p = 1 - 400 / a, so a² = 1,200 a - 240,000."""
    flow = undisturbed(network_of(narrow(128, retries=1)))
    tried = 600 + (360_000 - 240_000) ** 0.5
    assert flow.places.front_rps.sum() == pytest.approx(tried)
    assert flow.served == pytest.approx(400)


def test_it_caps_connections_at_layer_4_alike():
    data = narrow(128, sources=3000)
    listener = {"name": "tls", "protocol": "tls", "port": 443, "otherwise": {"pool": "web"}}
    data["balancers"][0] |= {"layer": 4, "listeners": [listener]}
    run = drill_of(data, [], lasts_s=600)
    flow = run.flow_at(599)
    assert flow.served == pytest.approx(400)
    assert flow.zone_served.sum() == pytest.approx(400)
    assert flow.state.held.connections.sum() > 0.5
