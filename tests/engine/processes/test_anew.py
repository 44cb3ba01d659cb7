"""Who connects anew at layer 4, against the algebra of old answers."""

import numpy as np
import pytest
from scipy.integrate import solve_ivp

from northgate.engine.drill import run_drill
from northgate.engine.formulas import Occupancy, Openings
from northgate.engine.processes.naming.connected import LITTLE, Connected, Halves, Version, told_by
from northgate.engine.solver import Opens
from tests.engine.network.test_names import two_regions
from tests.support.plans import drill_of, fail, network_of, restore

CLOSE = 1e-9


def at_layer_4(**client):
    """Two regions under one name, by connections; what is lost of the first is noticed from the uplands, TTL 60 s."""
    data = two_regions(probe="watch", probed_from=["uplands"], ttl_s=60)
    listener = {"name": "any", "protocol": "tcp", "port": 443, "otherwise": {"pool": "web"}}
    data["balancers"] = [
        one | {"layer": 4, "listeners": [listener], "idle_timeout_s": 3600} for one in data["balancers"]
    ]
    data["probes"].append({"name": "watch", "protocol": "tcp", "port": 443, "interval_s": 10, "timeout_s": 5})
    data["clients"] = [data["clients"][0] | {"calls": [{"url": "tcp://www.beckwater.example:443"}], **client}]
    return data


CLIENTS = [
    {"sources": 10, "connection_s": 600}, {"sources": 300, "connection_s": 30}, {"sources": 300, "connection_s": 1},
    {"sources": 50_000, "connection_s": 60},
]  # fmt: skip


@pytest.mark.parametrize("client", CLIENTS, ids=str)
def test_a_lost_region_costs_the_blind_time_and_half_the_ttl_whoever_calls_how_often(client):
    """Who has a new answer stays connected, who has an old one asks in vain with every call until it has run out: how
    soon the others are connected does not help him."""
    run = drill_of(at_layer_4(**client), [fail(60, region="fells")], lasts_s=300)
    turned_s = next(event.at_s for event in run.events if event.kind == "answer") - 60
    assert run.readings.failed_by_cause["dead_front"] == pytest.approx(600 * (turned_s + 60 / 2), rel=CLOSE)
    assert run.readings.failed == pytest.approx(run.readings.failed_by_cause["dead_front"], rel=CLOSE)


@pytest.mark.parametrize("share", [0.25, 1.0])
def test_overholding_clients_ask_in_vain_for_as_long_as_they_hold(share):
    data = at_layer_4(sources=300, connection_s=30, overholds={"share": share, "s": 200})
    run = drill_of(data, [fail(60, region="fells")], lasts_s=600)
    turned_s = next(event.at_s for event in run.events if event.kind == "answer") - 60
    held_s = (1 - share) * 60 / 2 + share * 200 / 2
    assert run.readings.failed == pytest.approx(600 * (turned_s + held_s), rel=CLOSE)


def test_rates_add_up_and_are_never_below_nothing_while_answers_fade():
    """Seen at any second, not at the events alone; and what has failed by then is what rates come to."""
    steps = [fail(60, region="fells"), restore(130, region="fells")]
    run = drill_of(at_layer_4(sources=300, connection_s=30), steps, lasts_s=400)
    failed, at_s = 0.0, np.linspace(0.5, 399.5, 400)
    for second in at_s:
        flow = run.flow_at(float(second))
        assert flow.cause_rps.min() > -1e-9
        assert flow.zone_served.sum() + flow.cause_rps.sum() == pytest.approx(600, rel=CLOSE)
        failed += float(flow.cause_rps.sum())
    assert failed == pytest.approx(run.readings.failed, rel=1e-2)


def test_traces_hold_an_old_answer_as_often_as_clients_do():
    """Of all clients, not of those who connect anew: what these hold is known to rates alone."""
    network = network_of(
        at_layer_4() | {"drills": [{"name": "d", "lasts_s": 300, "steps": [fail(60, region="fells")]}]}
    )
    run = run_drill(network, network.plan.drills[0])
    turned_s = next(event.at_s for event in run.events if event.kind == "answer")
    flow = run.flow_at(turned_s + 30)
    every = run.past.resolvers.answers_at(run.history, turned_s + 30).dns_share
    old = int(np.flatnonzero(network.entries.balancer == 0)[0])
    assert every[old] == pytest.approx(1 / 2)
    assert flow.state.dns_share[old] > 0.9, "nearly all others are connected"


@pytest.mark.parametrize("silent", [False, True])
@pytest.mark.parametrize("calls_s", [0.02, 3.0])
def test_what_is_held_in_all_follows_the_equation(silent, calls_s):
    """n' = λ (N - n) q - d n + r h, N = 1 - S; h' = λ (1 - h) q - d h; S falls evenly, by r. Nobody is served where
    silence is."""
    rate, ends, seconds, falls = calls_s, 1 / 30, 4.0, 0.05
    never = np.array([np.inf, np.inf])
    older = Openings(
        np.array([[[0.0 if silent else 0.1, 0.0]]]),
        np.array([rate]),
        np.array([[ends], never[:1]]),
        np.array([[silent, False]]),
    )
    newer = Openings(np.array([[[0.0, 0.7]]]), older.rate, older.ends, older.silent)
    h, n, begin_share = np.array([0.3, 0.2]), np.array([0.0, 0.1]), 0.6
    told = np.concatenate([older.ways[0], newer.ways[0]])
    one = Connected(
        0, 0, (("old",),), Occupancy(h[None], older), np.array([begin_share]), begin_share * h + n, newer, 10.0, told
    )
    q = np.stack([older.ways[0, 0], newer.ways[0, 0]])
    dies = ends + rate * np.array([silent, False])

    def moves(at_s, state):
        share = begin_share - falls * at_s
        h, n = state[:2], state[2:]
        gone = rate * (1 - h.sum()) * q[0] - dies * h
        come = rate * (1 - share - n.sum()) * q[1] - dies * n + falls * h
        return np.concatenate([gone, come])

    then = solve_ivp(moves, (0, seconds), np.concatenate([h, n]), rtol=1e-11, atol=1e-13).y[:, -1]
    share = begin_share - falls * seconds
    found = one.total(10.0 + seconds, {("old",): Version(share, {}, False), ("new",): Version(1 - share, {}, True)})
    assert found == pytest.approx(share * then[:2] + then[2:], abs=2e-3 if calls_s > 1 else 1e-7)
    assert one.total(10.0, {}) is one.held


def test_who_is_connected_follows_how_connections_are_opened_meanwhile():
    """q falls along a curve. In two halves what is held is right to the fifth power of the step: a half as long leaves
    a 32nd of what is wrong."""
    network, calls_s, ends_s = network_of(at_layer_4()), 0.5, 30.0
    pairs, nobody = len(network.pairs.cell), np.zeros((1, len(network.pairs.cell)))
    told = told_by(network, 0, [{(0,): 1.0}, {(1,): 1.0}])
    where = int(np.flatnonzero(told[0])[0])

    def openings(*ways):
        kinds = np.array([[1 / ends_s], [np.inf]])
        return Openings(np.array(ways)[:, None], np.array([calls_s]), kinds, np.zeros((1, pairs), dtype=bool))

    def opened(chance):
        """Half of all who connect anew are told the first answer, by which all go that hold the old version."""
        ways, unled = np.zeros(pairs), np.full(pairs, np.nan)
        ways[where] = chance / 2
        connections = openings(ways, np.zeros(pairs), unled, unled)
        none = Openings(np.zeros((1, 0, pairs)), np.zeros(0), np.zeros((2, 0)), np.zeros((0, pairs), dtype=bool))
        return Opens.of(none, connections, none, np.full(len(network.entries.call), 0.5))

    def versions(holder, second):
        return {("old",): Version(1.0, {}, newest=False)}

    def falls(t):
        return 0.9 - 0.2 * t + 0.02 * t * t

    def wrong(seconds):
        still = openings(np.zeros(pairs))
        one = Connected(0, 0, (("old",),), Occupancy(nobody, still), np.ones(1), nobody[0], still, 0.0, told)
        along = opened(falls(0)), opened(falls(seconds / 2)), opened(falls(seconds))
        later = one.along(network, Halves(along), seconds, versions)
        made = later.then(seconds, versions(0, seconds), np.ones(pairs))[0]
        assert (later.at_s > 0) is (seconds > 0.04), "so short a way goes as on its mean"
        then = solve_ivp(
            lambda t, m: calls_s * (1 - m) * falls(t) - m / ends_s, (0, seconds), [0.0], rtol=1e-12, atol=1e-14
        )
        return float(made[where] - then.y[0, -1])

    assert 1e-9 < abs(wrong(0.5)) < 1e-7
    assert wrong(0.25) == pytest.approx(wrong(0.5) / 32, rel=0.1)
    assert abs(wrong(0.035)) < LITTLE
