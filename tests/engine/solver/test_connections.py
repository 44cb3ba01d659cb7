"""Layer 4 connections: what they keep where it was, and how they end."""

import numpy as np
import pytest
from scipy.integrate import solve_ivp

from northgate.engine.drill.run import undisturbed
from northgate.engine.solver import Solver
from northgate.engine.solver.passes.one_pass import OnePass
from northgate.engine.solver.retries.lumps import Lumps, add_left
from northgate.plan.models.drills import CAUSES
from tests.engine.drill.test_traffic import targets
from tests.support.plans import drill_of, fail, network_of, plan_data, restore

SOURCES, RPS, LIVES_S = 3000, 600, 30.0
RATE = RPS / SOURCES
OPEN = RATE / (RATE + 1 / LIVES_S)


def layer_4(group=None, **client):
    data = plan_data()
    listener = {"name": "tls", "protocol": "tls", "port": 443, "otherwise": {"pool": "web"}}
    # So patient that no connection is closed for being idle.
    data["balancers"][0] |= {"layer": 4, "listeners": [listener], "idle_timeout_s": 3600}
    data["target_groups"][0] |= {"protocol": "tls", "targets": [{"fleet": "tiles"}], **(group or {})}
    data["clients"][0] |= {"sources": SOURCES, "connection_s": LIVES_S, **client}
    return data


def connections(flow):
    return flow.state.held.connections[0] * SOURCES


def test_settled_connections_change_no_shares():
    run = drill_of(layer_4(), [], lasts_s=100)
    flow = run.flow_at(99)
    assert list(targets(flow).values()) == pytest.approx([100] * 6)
    assert flow.served == pytest.approx(RPS)
    assert connections(flow).sum() == pytest.approx(SOURCES * OPEN)
    assert flow.places.front_rps == pytest.approx([200] * 3)
    assert flow.places.weighted_rps.sum() == pytest.approx(RPS)
    assert flow.places.entry_rps.sum() == pytest.approx(RPS)


def test_a_silent_targets_connections_end_with_their_first_failed_call():
    run = drill_of(layer_4(), [fail(60, instance="tiles-1")], lasts_s=300)
    at_once, later = run.flow_at(60), run.flow_at(80)
    assert at_once.cause_rps.sum() == pytest.approx(100), "a sixth of the calls, over connections or not"
    kept = SOURCES * OPEN / 6 * np.exp(-(RATE + 1 / LIVES_S) * 20)
    mine = run.network.pairs.machine == 0
    assert connections(later)[mine].sum() == pytest.approx(kept, rel=1e-6)
    free = 1 - connections(later).sum() / SOURCES
    assert later.cause_rps.sum() == pytest.approx(RATE * kept + RPS * free / 6, rel=1e-6)
    assert run.readings.failed_by_cause["timed_out"] == pytest.approx(run.readings.failed)
    assert run.readings.connections_reset == 0


@pytest.mark.parametrize(
    "affinity", [{"by": "none"}, {"by": "source"}, {"by": "source", "renews": False, "lasts_s": 60}]
)
def test_who_comes_to_no_living_front_comes_again(affinity):
    """Half of all connects come to a balancer whose only front is lost: each source without a connection connects at
    half the rate, whether a session leads it or not: m = r / (r + 1/L), r = λ/2."""
    data = layer_4({"affinity": affinity})
    data["balancers"].append({**data["balancers"][0], "name": "back", "zones": {"fells-2": None}, "addresses": []})
    data["names"][0] |= {"choose": "share", "answers": [{"balancer": "front"}, {"balancer": "back"}]}
    run = drill_of(data, [fail(60, front={"balancer": "back", "zone": "fells-2"})], lasts_s=460)
    # What moves by less than some millionths is at rest.
    flow, half = run.flow_at(459), RATE / 2
    assert connections(flow).sum() == pytest.approx(SOURCES * half / (half + 1 / LIVES_S), rel=3e-5)
    assert flow.cause_rps.sum() == pytest.approx(RPS * (1 / LIVES_S) / (half + 1 / LIVES_S) / 2, rel=3e-5)


def test_a_target_that_refuses_resets_its_connections_at_once():
    run = drill_of(layer_4(), [fail(60, process="tiles-1")], lasts_s=300)
    assert run.readings.connections_reset == pytest.approx(SOURCES * OPEN / 6)
    flow = run.flow_at(60)
    free = 1 - connections(flow).sum() / SOURCES
    assert free == pytest.approx(1 - OPEN * 5 / 6)
    assert flow.cause_rps.sum() == pytest.approx(RPS * free / 6), "only those who open a connection are refused"


def test_a_verdict_keeps_or_resets_the_connections_of_a_target_that_works():
    """The probe's page fails, the service goes on: its connections stand, or are reset front by front."""
    page = [fail(60, page="/ready", instance="tiles-1", status=503)]
    kept = drill_of(layer_4(), page, lasts_s=300)
    reset = drill_of(layer_4({"on_out": "reset"}), page, lasts_s=300)
    assert kept.readings.failed == reset.readings.failed == 0
    assert kept.readings.connections_reset == 0
    assert reset.readings.connections_reset == pytest.approx(SOURCES * OPEN / 6)
    out = next(row.believed_at_s for row in kept.blind)
    assert targets(kept.flow_at(out))["tiles-1"] == pytest.approx(RPS * OPEN / 6)
    assert targets(kept.flow_at(out + 30))["tiles-1"] == pytest.approx(RPS * OPEN / 6 * np.exp(-1), rel=1e-3)
    assert targets(reset.flow_at(out))["tiles-1"] == 0


def test_connections_through_a_dead_front_time_out_until_it_has_left():
    run = drill_of(layer_4(), [fail(60, front={"balancer": "front", "zone": "fells-1"})], lasts_s=300)
    assert run.flow_at(60).cause_rps.sum() == pytest.approx(200)
    third = SOURCES * OPEN / 3 * np.exp(-5 / LIVES_S)
    assert run.readings.connections_reset == pytest.approx(third, rel=1e-6)
    assert run.readings.failed_by_cause["dead_front"] == pytest.approx(run.readings.failed)
    assert run.flow_at(66).cause_rps.sum() == 0


def test_a_returned_target_fills_as_connections_end():
    run = drill_of(layer_4(), [fail(60, instance="tiles-1"), restore(200, instance="tiles-1")], lasts_s=900)
    back = next(row.believed_at_s for row in run.blind if row.change == "up")
    assert 0 < targets(run.flow_at(back + 3))["tiles-1"] < 60
    assert targets(run.flow_at(899))["tiles-1"] == pytest.approx(100, rel=1e-4)


def test_a_cut_way_is_as_silent_to_connections():
    data = layer_4()
    data["regions"].append({"name": "coast", "zones": ["coast-1"]})
    run = drill_of(data, [fail(60, link=["fells-1", "fells-2"])], lasts_s=90)
    assert run.flow_at(60).cause_rps.sum() == pytest.approx(RPS * 2 / 9), (
        "from each of two fronts to a third of targets"
    )


def test_a_repeated_call_opens_a_new_connection_when_its_own_has_died():
    """Of the calls over connections to the silent target all go on as new ones, one attempt spent."""
    run = drill_of(layer_4(retries=1), [fail(60, instance="tiles-1")], lasts_s=300)
    flow = run.flow_at(60)
    lost = OPEN / 6
    assert flow.cause_rps.sum() == pytest.approx(RPS * ((1 - OPEN) / 36 + lost / 6))
    assert flow.places.front_rps.sum() == pytest.approx(RPS * (1 + lost + (1 - OPEN) / 6))
    assert flow.served + flow.cause_rps.sum() == pytest.approx(RPS)
    assert flow.zone_served.sum() == pytest.approx(flow.served)


def test_over_a_dead_front_every_attempt_of_a_connection_is_lost():
    run = drill_of(layer_4(retries=2), [fail(60, front={"balancer": "front", "zone": "fells-1"})], lasts_s=300)
    flow = run.flow_at(60)
    assert flow.cause_rps.sum() == pytest.approx(RPS * (OPEN / 3 + (1 - OPEN) / 27))
    assert flow.served + flow.cause_rps.sum() == pytest.approx(RPS)


def test_connections_to_a_target_that_drains_may_last_a_while():
    script = [{"at_s": 60, "drain": {"instance": "tiles-1"}}]
    run = drill_of(layer_4({"drain_s": 20}), script, lasts_s=300)
    assert targets(run.flow_at(79.9))["tiles-1"] == pytest.approx(RPS * OPEN / 6 * np.exp(-19.9 / LIVES_S), rel=1e-6)
    assert run.readings.connections_reset == pytest.approx(SOURCES * OPEN / 6 * np.exp(-20 / LIVES_S), rel=1e-6)
    assert targets(run.flow_at(81))["tiles-1"] == 0
    assert run.readings.failed == 0


def test_datagrams_make_no_connections():
    data = layer_4()
    listener = {"name": "gauges", "protocol": "udp", "port": 5000, "otherwise": {"pool": "web"}}
    data["balancers"][0]["listeners"] = [listener]
    data["target_groups"][0] |= {"protocol": "udp", "port": 5000, "probe": None}
    data["fleets"][0]["instance"]["serves"].append({"port": 5000, "protocol": "udp"})
    data["clients"][0]["calls"] = [{"url": "udp://www.beckwater.example:5000"}]
    flow = undisturbed(network_of(data))
    assert flow.served == pytest.approx(RPS)
    assert flow.connecting.size == 0


IDLE_S, TRIP_S = 6.0, 0.9
# A call that has a connection behind it comes too late, and before its source has heard of that.
TOO_LATE = np.exp(-RATE * IDLE_S) * (1 - np.exp(-RATE * TRIP_S))


def idle(**client):
    """Connections that nothing ends but being idle, over a long way."""
    data = layer_4(connection_s=1e7, timeout_s=60, **client)
    data["balancers"][0]["idle_timeout_s"] = IDLE_S
    data["areas"][0]["latency_ms"] = {"fells": TRIP_S * 1000}
    return data


def test_a_connection_that_is_idle_too_long_is_closed():
    """In balance those have one open whose last call is no longer ago than the time-out, and has opened or met one:
    (1 - e^(-λ T)) / (1 + q), as of the calls that have one behind them the share q is reset, and the next opens one."""
    flow = drill_of(idle(), [], lasts_s=100).flow_at(99)
    wanted = SOURCES * (1 - np.exp(-RATE * IDLE_S)) / (1 + TOO_LATE)
    assert connections(flow).sum() == pytest.approx(wanted, rel=1e-5)


def test_a_call_into_a_connection_just_closed_is_reset():
    """Of all calls q / (1 + q): those that have none behind them, as it was reset, are not."""
    run = drill_of(idle(), [], lasts_s=100)
    lost = RPS * TOO_LATE / (1 + TOO_LATE)
    assert run.readings.failed_by_cause["reset"] == pytest.approx(lost * 100, rel=1e-5)
    assert run.readings.failed == pytest.approx(lost * 100, rel=1e-5)
    assert run.readings.failed_by_mechanism["idle"] == pytest.approx(run.readings.failed)
    assert run.flow_at(50).places.front_rps.sum() == pytest.approx(RPS)


def test_who_repeats_is_served_by_another_connection():
    run = drill_of(idle(retries=1), [], lasts_s=100)
    again = RPS * TOO_LATE
    flow = run.flow_at(50)
    assert run.readings.failed == pytest.approx(0, abs=1e-6)
    assert flow.places.front_rps.sum() == pytest.approx(RPS + again, rel=1e-6), "each reset is an attempt more"
    assert flow.latency_sum - RPS * (0.02 + TRIP_S) == pytest.approx(again * TRIP_S, rel=1e-3), "and a round trip"
    assert connections(flow).sum() == pytest.approx(SOURCES * (1 - np.exp(-RATE * IDLE_S)), rel=1e-5)


def test_nothing_is_reset_through_a_dead_front():
    """It closes nothing: who comes there waits in vain."""
    data = idle()
    data["balancers"][0]["front_failover_s"] = 500
    zones = [fail(10, front={"balancer": "front", "zone": f"fells-{number}"}) for number in (1, 2, 3)]
    flow = drill_of(data, zones, lasts_s=100).flow_at(10)
    assert flow.cause_rps.sum() == pytest.approx(RPS)
    assert dict(zip(CAUSES, flow.cause_rps, strict=True))["reset"] == 0


def test_of_next_to_no_lost_connections_nobody_is_held_otherwise():
    """A third of the smallest of all numbers is nothing, which cannot be shared out."""
    flow = undisturbed(network_of(layer_4({"balance": "source-hash"}, retries=1)))
    repeats = OnePass(Solver(flow.network)._unloaded(flow.state), flow.state).repeats
    (one,), lost, before = repeats.pinned, np.zeros(len(flow.network.pairs.cell)), repeats.weights_after_one
    held = np.arange(len(one.weights)) < 3
    one.weights, one.table = np.full(len(held), 0.1), np.where(held, 0, -1) + np.zeros_like(one.table)
    lost[0] = np.nextafter(0, 1)
    repeats.lose_connections(one.call, lost)
    assert repeats.weights_after_one is before
    lost[0] = 1e-3
    repeats.lose_connections(one.call, lost)
    assert repeats.weights_after_one[one.kinds] == pytest.approx(held / 3)


def test_whom_lost_connections_leave():
    """Whose connection led to where he is held is held there; a stray is one of those who are free."""
    weights, free, strays = np.array([0.1, 0.3, 0.2, 0.4]), np.array([0, 0, 0, 1.0]), np.array([0.25, 0, 0])
    lumps = Lumps(3)
    lump = lumps.add(np.array([1, 2]), np.array([0.2, 0.6]))
    pins, lost = np.array([[0, 0, lump, -1]]), np.array([1e-3, 2e-3, 0])
    made, cell, row = np.zeros(4), np.array([1, 1, 0]), np.array([-1, 0])
    add_left(lost, strays, np.arange(3), cell, row, pins, weights, free, *lumps.table(), np.empty(4), made)
    at_first, at_second = np.array([0.25, 0.75, 0, 0]), np.array([0, 0, 1.0, 0])
    assert made == pytest.approx(1e-3 * (0.75 * at_first + 0.25 * free) + 2e-3 * at_second)
    made[:] = 0
    add_left(lost[::-1].copy(), strays, np.arange(3), cell, row, pins, weights, free, *lumps.table(), np.empty(4), made)
    assert made == pytest.approx(2e-3 * at_second + 1e-3 * weights), "where nobody is held all are"


def test_connections_outlive_their_sessions_as_the_equations_say():
    """One of six targets is avoided for a while: at each place b are bound, m connected and u of these bound no longer;
    z are neither bound nor connected. All are followed by the differential equations from the verdict on."""
    asks, session_ends, ends = 0.5, 1 / 15, 1 / 60
    group = {"affinity": {"by": "source", "renews": False, "lasts_s": 15}, "on_out": "keep"}
    data = layer_4(group, rps=20, sources=40, connection_s=60)
    page = {"instance": "tiles-1", "page": "/ready", "status": 500}
    run = drill_of(data, [{"at_s": 60, "fail": page}, {"at_s": 100, "restore": page}], lasts_s=250, phases="worst")
    out_s, *_, back_s = sorted({event.at_s for event in run.events if event.kind == "verdict"})

    def moves(open_to):
        drawn = open_to / open_to.sum()

        def slopes(_, now):
            bound, stray, connected = now.reshape(3, 6)
            opens = asks * drawn * (1 - bound.sum() - stray.sum())
            alone, led = bound - (connected - stray), connected - stray
            return np.concatenate([
                opens - session_ends * bound,
                session_ends * led - ends * stray,
                asks * alone + opens - ends * connected,
            ])  # fmt: skip

        return slopes

    def found(frame):
        held, member = frame.state.held, run.network.pairs.member
        return [held.sessions[0], *(np.bincount(member, one[0], 6) for one in (held.strays, held.connections))]

    connected = asks / (asks + ends)
    stray = connected * session_ends / (session_ends + ends)
    bound = (1 - stray) * asks / (asks + session_ends)
    now = np.repeat([bound / 6, stray / 6, connected / 6], 6)
    assert np.concatenate(found(run.keyframes[0])) == pytest.approx(now, abs=1e-6)
    # Whose session is freed is connected there all the same.
    now[[0, 6]] = 0.0, now[12]
    for begins_s, ends_s, open_to in ((out_s, back_s, np.arange(6) > 0), (back_s, 250, np.arange(6) >= 0)):
        frames = [frame for frame in run.keyframes if begins_s < frame.t_s < ends_s]
        times = [frame.t_s for frame in frames]
        way = solve_ivp(moves(open_to), (begins_s, ends_s), now, t_eval=[*times, ends_s], rtol=1e-9, atol=1e-12)
        assert len(frames) > 3
        for frame, then in zip(frames, way.y.T, strict=False):
            assert np.concatenate(found(frame)) == pytest.approx(then, abs=2e-5)
        now = way.y[:, -1]


def test_nobody_is_connected_twice_when_a_front_comes_back():
    """All are bound, and connected through the other fronts; with each connection that ends some come back to it."""
    group = {"affinity": {"by": "source", "renews": True}}
    data = layer_4(group, rps=360, sources=30)
    front = {"front": {"balancer": "front", "zone": "fells-1"}}
    run = drill_of(data, [{"at_s": 20, "fail": front}, {"at_s": 60, "restore": front}], lasts_s=200)
    later = [frame for frame in run.keyframes if frame.t_s > 70]
    assert max(len(frame.state.held.connections[0].nonzero()[0]) for frame in later) == 18
    for frame in run.keyframes:
        assert frame.state.held.connections.sum() <= 1 + 1e-12
        assert frame.zone_served.sum() + frame.cause_rps.sum() == pytest.approx(360, rel=1e-9)


@pytest.mark.parametrize("group", [{"affinity": {"by": "source"}}, {"balance": "source-hash"}, {}], ids=str)
def test_who_loses_his_connection_draws_a_front_with_each_call(group):
    """Whoever is bound to a target comes to it through any front: of three one is dead, a third of the calls of those
    without a connection fails, and the others connect through the living two."""
    asks, ends = 0.4, 1 / 30
    data = layer_4(group, rps=120, sources=300, connection_s=30, tries_next_address=False)
    data["fleets"][0]["zones"] = {"fells-2": None, "fells-3": None}
    data["balancers"][0] |= {"address_kind": "per-zone", "addresses": [f"203.0.113.{number}" for number in (1, 2, 3)]}
    run = drill_of(data, [fail(60, zone="fells-1")], lasts_s=120, phases="worst")
    dead, seconds = run.network.fronts.zone[run.network.pairs.front] == 0, [60.0, 61.5, 63.0, 64.9]
    settled = asks / (asks + ends)

    def moves(_, now):
        through_dead, others = now
        return -ends * through_dead, asks * 2 / 3 * (1 - through_dead - others) - ends * others

    way = solve_ivp(moves, (60, 65), [settled / 3, settled * 2 / 3], t_eval=seconds, rtol=1e-9)
    for second, (through_dead, others) in zip(seconds, way.y.T, strict=True):
        flow = run.flow_at(second)
        held = flow.state.held.connections[0]
        assert [held[dead].sum(), held[~dead].sum()] == pytest.approx([through_dead, others], abs=1e-5)
        assert flow.cause_rps.sum() == pytest.approx(120 * (through_dead + (1 - through_dead - others) / 3), abs=1e-2)


def test_whose_session_has_ended_draws_anew_when_his_connection_breaks():
    """Of those connected to a target that falls silent some are bound there no longer: they repeat where they are
    drawn, the others at the same target in vain."""
    asks, session_ends, ends = 0.5, 1 / 15, 1 / 60
    group = {"affinity": {"by": "source", "renews": False, "lasts_s": 15}}
    data = layer_4(group, rps=20, sources=40, connection_s=60, retries=1)
    flow = drill_of(data, [fail(60, instance="tiles-1")], lasts_s=100, phases="worst").flow_at(60)
    connected = asks / (asks + ends)
    strays = connected * session_ends / (session_ends + ends)
    bound = (1 - strays) * asks / (asks + session_ends)
    waits, nowhere = bound - (connected - strays), 1 - bound - strays
    failed = (connected - strays) / 6 + strays / 36 + waits / 6 + nowhere / 36
    assert flow.cause_rps.sum() == pytest.approx(20 * failed, rel=1e-6)
