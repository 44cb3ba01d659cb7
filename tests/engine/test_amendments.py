"""Where mechanisms meet: several addresses, what is held of names, what stands behind and outside, what nobody asks
about."""

import numpy as np
import pytest
from scipy.integrate import quad, solve_ivp

from northgate.engine.drill import Losing
from northgate.engine.drill.run import run_drill, undisturbed
from northgate.engine.formulas.address_tries import connects
from northgate.engine.formulas.retries import repeated
from northgate.engine.reports.drill import drill_answer
from northgate.engine.reports.whatif import what_if
from northgate.engine.reports.words import message
from northgate.plan.models.drills import Expectation
from northgate.plan.models.faults import Part
from tests.support.plans import drill_of, fail, network_of, plan_data, restore
from tests.support.worlds import RPS, World


def run_of(world, *, phases="best", lasts_s=300.0):
    return drill_of(world.data(), world.steps, phases=phases, lasts_s=lasts_s)


# Formulas


def by_hand(away, quiet, most, goes_on):
    """How often each address is tried, after how many time-outs, and how often as the last: every order, one by one."""
    from itertools import permutations

    count = len(quiet)
    orders = list(permutations(range(count)))
    tried, last = np.zeros((count, count)), np.zeros((count, count))
    for order in orders:
        ways = {0: 1 / len(orders)}
        for place, address in enumerate(order):
            for waits, share in ways.items():
                tried[address, waits] += share
                last[address, waits] += share if place == count - 1 or not goes_on else 0.0
            then: dict[int, float] = {}
            for waits, share in ways.items():
                for more, part in ((0, away[address]), (1, quiet[address])):
                    if goes_on and waits + more < most:
                        then[waits + more] = then.get(waits + more, 0.0) + share * part
            ways = then
    return tried, last


@pytest.mark.parametrize("goes_on", [True, False])
@pytest.mark.parametrize("most", [1, 2, 9])
def test_addresses_are_tried_as_often_as_over_all_orders(most, goes_on):
    chance = np.random.default_rng(7)
    away, quiet = chance.uniform(0, 0.5, (2, 4))
    made = connects(away[None], quiet[None], np.array([float(most)]), np.array([float(goes_on)]))
    tried, last = by_hand(away, quiet, most, goes_on)
    waits = made.tried.shape[2]
    assert made.tried[0] == pytest.approx(tried[:, :waits])
    assert tried[:, waits:].sum() == 0
    assert made.last[0] == pytest.approx(last[:, :waits])


def test_attempts_and_what_lies_behind_them_are_their_series():
    fails, repeats = np.array([0.3, 0.5, 1.0]), np.array([2.0, 0.0, 3.0])
    each = [repeated(p, r) for p, r in zip(fails, repeats, strict=True)]
    assert [tries for tries, _, _ in each] == pytest.approx([1 + 0.3 + 0.09, 1, 4])
    assert [before for _, before, _ in each] == pytest.approx([1 + 2 * 0.3, 0, 1 + 2 + 3])
    assert [left for _, _, left in each] == pytest.approx([0.3**2, 1, 1])


# Time that calls take


def per_zone(zones, dead, **client):
    world = World(6, zones).dead(dead)
    world.balancer["address_kind"] = "per-zone"
    world.client |= {"tries_next_address": True, **client}
    return world


def test_a_wait_for_a_dead_address_counts_in_the_latency():
    """A third begins at the dead one and waits 2 s; everybody makes one round trip and is served in no time."""
    run = run_of(per_zone(3, 1))
    assert run.readings.failed == 0
    assert run.readings.peak_latency_ms == pytest.approx(2000 / 3 + 10)


def test_a_wait_counts_in_the_budget():
    """2 s of wait and 1 s of service in a budget of 2.5 s: who began at the dead one is timed out."""
    world = per_zone(3, 1, timeout_s=2.5)
    world.machine["service_ms"] = 1000
    flow = run_of(world).flow_at(11)
    assert flow.cause_rps[1] == pytest.approx(RPS / 3)
    assert flow.zone_served.sum() == pytest.approx(RPS * 2 / 3)


def test_a_repeat_adds_the_time_of_the_attempt_before():
    """One of three fronts is dead, 2 s each time; a call that failed so is repeated once, with a fresh budget."""
    world = per_zone(3, 1, tries_next_address=False, retries=1)
    served = [2 / 3, 1 / 3 * 2 / 3]
    mean = (served[0] * 10 + served[1] * (2000 + 10)) / sum(served)
    assert run_of(world).readings.peak_latency_ms == pytest.approx(mean)


def test_the_round_trip_counts_in_the_budget():
    """1 s of service and 10 ms of way there and back fit into 1.01 s, not into less."""
    for timeout_s, fails in ((1.011, 0.0), (1.009, RPS)):
        world = World()
        world.machine["service_ms"], world.client["timeout_s"] = 1000, timeout_s
        assert undisturbed(network_of(world.data())).cause_rps.sum() == pytest.approx(fails)


# Connects that fail


def test_a_firewall_before_a_front_sends_clients_to_the_next_address():
    world = World(4, 2).with_second("all")
    world.client["tries_next_address"] = True
    world.balancer["firewall"] = "edge"
    world.more["firewalls"] = [{"name": "edge", "allow_in": [{"protocol": "tcp", "ports": ["80"], "from": "any"}]}]
    world.steps = [fail(10, firewall="edge", rule=0)]
    flow = run_of(world).flow_at(11)
    assert flow.cause_rps.sum() == 0
    assert flow.mean_latency_s == pytest.approx(0.030 + 2 / 2), "half waits for the packets that are dropped"


def test_a_port_on_which_nothing_listens_turns_clients_to_the_next_address_at_once():
    data = World(4, 2).with_second("all").data()
    data["clients"][0]["tries_next_address"] = True
    data["balancers"][0]["listeners"][0]["port"] = 81
    flow = undisturbed(network_of(data))
    assert flow.cause_rps.sum() == 0
    assert flow.mean_latency_s == pytest.approx(0.030)


def test_a_layer_4_balancer_without_targets_in_use_turns_clients_to_the_next_address():
    world = World(2, 1).at_layer_4(10**6).with_second("all")
    world.client["tries_next_address"], world.group["probe"] = True, "ready"
    data = world.bad(2).data()
    data["probes"].append({"name": "ready", "protocol": "tcp", "interval_s": 5, "timeout_s": 1, "unhealthy_after": 1})
    flow = drill_of(data, world.steps, phases="best", lasts_s=100).flow_at(50)
    assert flow.choice.route_refused.max() == 1
    assert flow.cause_rps.sum() == pytest.approx(0, abs=1e-3)


# What is held of names


def test_a_name_settles_with_its_own_clients_answers():
    """Another name's clients keep answers for 1,000 s; this one's TTL is 100 s."""
    world = World().fading(0.5)
    data = world.data()
    data["names"].append({"name": "other.beckwater.example", "answers": [{"balancer": "shore"}]})
    other = {**data["clients"][0], "name": "others", "overholds": {"share": 0.1, "s": 1000}}
    data["clients"].append({**other, "calls": [{"url": "http://other.beckwater.example/"}]})
    run = drill_of(data, world.steps, phases="best", lasts_s=300)
    assert run.readings.settled_s == pytest.approx(3 + 100)
    assert run.readings.settled


def test_what_ends_with_old_answers_or_a_backlog_has_not_settled():
    fading = run_of(World().fading(0.5), lasts_s=60)
    assert (fading.readings.settled_s, fading.readings.settled) == (50, False)
    world = World(4, 2)
    world.machine |= {"capacity_rps": 25, "queue_s": 5}
    world.steps = [fail(10, process="t-1")]
    full = run_of(world, lasts_s=60)
    assert (full.readings.settled_s, full.readings.settled) == (50, False)
    assert not full.held(Expectation(reading="settled_s", at_most=1000)), "nobody knows that it ever does"
    assert full.held(Expectation(reading="settled_s", at_least=10))


def test_what_is_answered_for_a_nanosecond_is_no_answer():
    """A front leaves its address a nanosecond before another returns: nobody ever held what was answered in between, so
    that one tail of old answers runs out, not two."""

    def seconds_after(gap_s):
        world = per_zone(3, 1)
        world.balancer["front_failover_s"] = 5
        other = {"front": {"balancer": "front", "zone": "fells-2"}}
        world.steps += [{"at_s": 0, "fail": other}, {"at_s": 10 + gap_s, "restore": other}]
        return [frame.t_s for frame in run_of(world, lasts_s=400).keyframes if frame.t_s > 16]

    assert seconds_after(1e-9) == pytest.approx(seconds_after(0), abs=1e-6)
    assert len(seconds_after(1e-6)) > len(seconds_after(0)), "and a microsecond is an answer"


def stale(data, steps, second):
    run = drill_of(data, steps, phases="best", lasts_s=300)
    series = drill_answer(run).series
    return {name: dict(zip(series.t_s, values, strict=True))[second] for name, values in series.stale_share.items()}


def test_another_names_change_leaves_old_answers_as_they_are():
    """www has changed at 13 and two at 40: of a TTL of 100 s 73 are left for the old www."""
    world = World().fading(0.5)
    data = world.data()
    data["balancers"].append({**data["balancers"][1], "name": "far"})
    data["names"].append(
        {**data["names"][0], "name": "two.beckwater.example", "answers": [{"balancer": "far"}, {"balancer": "shore"}]}
    )
    two = {**data["clients"][0], "name": "two", "calls": [{"url": "http://two.beckwater.example/"}]}
    data["clients"].append(two)
    steps = [*world.steps, fail(35, front={"balancer": "far", "zone": "coast-1"})]
    found = stale(data, steps, 40)
    assert found["www.beckwater.example"] == pytest.approx(0.73)
    assert found["two.beckwater.example"] == pytest.approx(1.0)


def test_only_areas_that_are_led_elsewhere_hold_old_answers():
    """By `nearest` the coast's own clients keep their answer; the uplands', two thirds of all, get another."""
    world = World().fading(0.5)
    world.name["choose"] = "nearest"
    data = world.data()
    data["areas"].append({"name": "shore", "latency_ms": {"fells": 40, "coast": 5}})
    data["clients"].append({**data["clients"][0], "name": "bathers", "area": "shore", "rps": RPS / 2})
    assert stale(data, world.steps, 13)["www.beckwater.example"] == pytest.approx(2 / 3)


def test_each_record_of_an_alias_is_kept_by_its_own_time():
    """The alias (TTL 40 s) turns at 16 from a dead balancer to a name whose own record (100 s) has left it at 13."""
    world = World().fading(0.5)
    world.alias = True
    data = world.data()
    data["probes"].append({**data["probes"][0], "name": "slower", "unhealthy_after": 2})
    data["names"][1] |= {"ttl_s": 40, "probe": "slower", "probed_from": ["uplands"]}
    data["names"][1]["answers"] = [{"balancer": "front"}, {"host": "www.beckwater.example"}]
    run = drill_of(data, world.steps, phases="best", lasts_s=300)

    def fails(second):
        outer, inner = (min(max(1 - (second - start) / ttl, 0), 1) for start, ttl in ((16, 40), (13, 100)))
        return outer + (1 - outer) * inner

    for second in (12, 20, 40, 55, 80):
        assert run.flow_at(second).cause_rps.sum() / RPS == pytest.approx(fails(second))
    whole = sum(quad(fails, *span)[0] for span in ((10, 16), (16, 56), (56, 113)))
    assert run.readings.failed / RPS == pytest.approx(whole, rel=1e-9)


# What stands behind, and outside


def probed(world, probe, **more):
    """A world whose outer group is watched by a probe."""
    world.more["outer"] = {"targets": [{"balancer": "in"}], "probe": "ready", **more}
    data = world.data()
    data["probes"].append({"name": "ready", "interval_s": 10, "timeout_s": 5, "unhealthy_after": 3, **probe})
    return data


def test_a_probe_of_a_balancer_is_a_call_through_it():
    """One of four targets behind is silent: three quarters of such calls pass, so the balancer stays in use; three of
    four: it goes out, three failed probes and a time-out later, and nobody is left."""
    for bad, fails in ((1, 1 / 4), (3, 1.0)):
        world = World(4, 2).behind().bad(bad, silent=True)
        run = drill_of(probed(world, {"path": "/"}), world.steps, phases="best", lasts_s=100)
        assert run.flow_at(60).cause_rps.sum() / RPS == pytest.approx(fails)
        assert run.flow_at(34.9).cause_rps.sum() / RPS == pytest.approx(bad / 4)


def test_a_connect_probe_of_a_balancer_fails_when_its_fronts_die():
    world = World(4, 2).behind().dead(2)
    data = probed(world, {"protocol": "tcp"})
    run = drill_of(data, world.steps, phases="best", lasts_s=100)
    rows = [(row.change, row.true_at_s, row.believed_at_s) for row in run.blind]
    assert rows == [("down", 10, 35)]


@pytest.mark.parametrize("protocol", ["http", "https", "tcp"])
@pytest.mark.parametrize("end", [{"address": "192.0.2.7"}, {"host": "else.example"}])
def test_what_stands_outside_answers_every_probe(protocol, end):
    data = plan_data()
    data["probes"][0] |= {"protocol": protocol, "port": 1234}
    data["target_groups"][0]["targets"] = [end]
    flow = undisturbed(network_of(data))
    assert flow.zone_served[-1] == pytest.approx(600)


def test_a_page_that_is_lost_everywhere_is_not_lost_outside():
    data = plan_data()
    data["target_groups"][0]["targets"].append({"address": "192.0.2.7"})
    flow = drill_of(data, [fail(10, page="/tiles", status=500)], lasts_s=20).flow_at(15)
    assert flow.served == pytest.approx(600 / 7)


def test_repeats_never_multiply_what_is_served_outside():
    world = World(4, 2).with_outside("share").bad(4)
    world.client["retries"] = 3
    flow = run_of(world).flow_at(11)
    assert flow.zone_served[-1] == flow.served == pytest.approx(RPS / 2)


# What nobody asks about, and how far everything is


def test_a_loss_that_no_probe_asks_about_is_told():
    """The process on the port of requests dies, while the probe asks another port."""
    data = plan_data()
    data["fleets"][0]["instance"]["serves"].append({"port": 9000, "protocol": "http"})
    data["probes"][0]["port"] = 9000
    steps = [fail(60, process="tiles-1", port=8080), restore(100, process="tiles-1", port=8080)]
    run = drill_of(data, steps, lasts_s=200)
    answer = drill_answer(run).blind
    assert [(row.unseen, row.believed_at_s, row.true_at_s, row.blind_s, row.earliest_s) for row in answer] == [
        (True, None, 60, 40, None)
    ] * 3
    assert run.readings.worst_blind_s == 40
    told = [(event.at_s, message(event)) for event in run.events if event.kind == "unseen"]
    assert told == [(60, "no probe asks about what is lost at tiles-1")]
    seen = drill_of(plan_data(), [fail(60, process="tiles-1")], lasts_s=200)
    assert not any(row.unseen for row in seen.blind)


def test_a_region_of_unknown_distance_is_the_last_that_anybody_chooses():
    world = World(4, 2)
    world.balancer |= {"address_kind": "anycast", "zones": {"coast-1": None, "fells-1": None, "fells-2": None}}
    data = world.data()
    data["areas"][0]["latency_ms"] = {"fells": 60}
    network = network_of(data)
    front = [network.zones[int(zone)] for zone in network.fronts.zone]
    before = dict(zip(front, undisturbed(network).places.front_rps, strict=True))
    assert before == {"coast-1": 0, "fells-1": RPS / 2, "fells-2": RPS / 2}
    lost = drill_of(data, [fail(10, region="fells")], lasts_s=100).flow_at(50)
    assert dict(zip(front, lost.places.front_rps, strict=True))["coast-1"] == RPS, "there is nothing else"


def test_bandwidth_is_counted_beside_balancers_without_any():
    """One balancer's bandwidth is known, the other's is not: no quotient of two infinities, and so no warning."""
    world = World(2, 1).with_second("all")
    world.balancer["bandwidth_mbps"] = 0.4 * RPS
    data = world.data()
    data["clients"][0]["calls"][0]["kilobytes"] = 125
    flow = undisturbed(network_of(data))
    assert flow.cause_rps[2] == pytest.approx(RPS / 2 - 0.4 * RPS)
    assert flow.served == pytest.approx(0.9 * RPS)


# What if


def test_what_fails_until_it_is_noticed_is_the_drills_own_integral():
    """A region is lost: at worst the name's probe has just been sent, and the next one takes its time-out."""
    world = World().fading(0.5)
    answer = what_if(Losing(network_of(world.data())), [Part(region="fells")])
    assert answer.noticed_after_s == pytest.approx(6), "the vote; fronts have left after 5"
    drill = drill_of(world.data(), [fail(60, region="fells")], phases="worst", lasts_s=3660)
    until = next(frame for frame in drill.keyframes if frame.t_s == 60 + answer.noticed_after_s)
    assert answer.failed_until_noticed == pytest.approx(until.failed)
    assert answer.settled_after_s == pytest.approx(drill.readings.settled_s)
    assert answer.settles


# Held at overloaded targets


@pytest.mark.parametrize("layer", [7, 4])
def test_what_is_held_at_an_overloaded_target_follows_its_equations_to_a_hundred_thousandth(layer):
    """Weights 3, 1, 1 on targets of 100/s without queues; 100/s become 220/s. Against Runge-Kutta:

    dm_j/dt = λ (1 - M) w_j (1 - e_j) - m_j / L, e_j the excess of what target j is offered."""
    served, sources, lives_s = [{"port": 8080, "protocol": "http"}], 300, 40
    data = plan_data(fleets=[])
    machine = {"zone": "fells-1", "capacity_rps": 100, "service_ms": 10, "queue_s": 0, "serves": served}
    data["instances"] = [{"name": f"i-{number}", **machine} for number in range(3)]
    targets = [{"instance": "i-0", "weight": 3}, {"instance": "i-1"}, {"instance": "i-2"}]
    data["target_groups"][0] |= {"probe": None, "targets": targets}
    data["balancers"][0]["zones"] = {"fells-1": None}
    data["clients"][0] |= {"rps": 100, "sources": sources, "connection_s": lives_s}
    if layer == 7:
        data["target_groups"][0]["affinity"] = {"by": "cookie", "renews": False, "lasts_s": lives_s}
    else:
        listener = {**data["balancers"][0]["listeners"][0], "protocol": "tls"}
        data["balancers"][0] |= {"layer": 4, "listeners": [listener]}
    run = drill_of(data, [{"at_s": 10, "surge": {"clients": "walkers", "factor": 2.2}}], lasts_s=200)
    weight = np.array([0.6, 0.2, 0.2])

    def change(_t, state):
        held, rate = state[:3], 220 / sources
        offered = sources * rate * (held + (1 - held.sum()) * weight)
        excess = np.maximum(1 - 100 / offered, 0)
        return np.append(rate * (1 - held.sum()) * weight * (1 - excess) - held / lives_s, (offered * excess).sum())

    before = 100 / sources / (100 / sources + 1 / lives_s)
    wanted = solve_ivp(change, (10, 200), np.append(before * weight, 0), rtol=1e-11, atol=1e-12).y[3, -1]
    assert run.readings.failed == pytest.approx(wanted, rel=1e-5)


def test_a_repeat_after_its_connection_broke_opens_one():
    """Two targets, one silent, one repeat: F' = -(δ + λ) F, G' = λ/2 (1 - F - G) (1 + 1/2) + λ F/2 - δ G, as a call
    without a connection is served by the first or the second attempt, and one whose connection broke by the second."""
    world = World(2, 1).at_layer_4().bad(1, silent=True)
    world.client["retries"] = 1
    run = run_of(world)
    rate, ends = RPS / 60, 1 / 40

    def change(_t, state):
        fast, slow = state
        free = 1 - fast - slow
        return [-(ends + rate) * fast, rate * free * 0.75 + rate * fast * 0.5 - ends * slow]

    whole = rate / (rate + ends)
    wanted = solve_ivp(change, (10, 12), [whole / 2, whole / 2], rtol=1e-11, atol=1e-12).y[:, -1]
    flow = run.flow_at(12)
    by_machine = np.bincount(run.network.pairs.machine, flow.state.held.connections[0])
    assert by_machine[:2] == pytest.approx(wanted, rel=1e-6)


def test_a_drill_is_the_same_whoever_asks_for_its_flows():
    """The flows at its keyframes solved anew are those that it had."""
    world = per_zone(3, 1, retries=1)
    run = run_drill(network_of(world.data() | {"drills": [{"name": "d", "steps": world.steps}]}), run_of(world).drill)
    for frame, flow in zip(run.keyframes, run.flows, strict=True):
        assert flow.cause_rps == pytest.approx(frame.cause_rps, abs=1e-9)


def test_behind_another_balancer_the_clients_budget_and_the_first_balancers_patience_hold():
    """One of two targets behind takes 1 s: too long for a budget of 1.009 s with 10 ms of way, or for an outer balancer
    that waits 0.9 s; just in time for 1.011 s."""
    for timeout_s, waits_s, fails in ((1.011, 30, 0.0), (1.009, 30, 0.5), (60, 0.9, 0.5)):
        world = World(2, 1).behind()
        world.client["timeout_s"] = timeout_s
        world.more["outer"] = {"targets": [{"balancer": "in"}], "response_timeout_s": waits_s}
        data = world.data()
        data["instances"][0]["service_ms"] = 1000
        flow = undisturbed(network_of(data))
        assert flow.cause_rps[1] / RPS == pytest.approx(fails)


def test_who_is_bound_out_of_a_fronts_reach_is_drawn_there():
    """By source at layer 4, each front keeping to its own zone: two thirds are bound where a front does not reach.
    Nothing happens, so nothing changes either."""
    world = World(3, 3).at_layer_4()
    world.group |= {"reach": "zone", "affinity": {"by": "source", "renews": True}}
    run = run_of(world, lasts_s=200)
    for second in (0, 5, 50, 199):
        assert run.flow_at(second).zone_served[:3] == pytest.approx([RPS / 3] * 3, rel=1e-6)
    uneven = World(3, 3).at_layer_4().with_second("all")
    uneven.group |= {"reach": "zone", "affinity": {"by": "source", "renews": True}}
    run = run_of(uneven, lasts_s=200)
    first = run.flow_at(0).zone_served
    assert run.flow_at(199).zone_served == pytest.approx(first, rel=1e-3)
