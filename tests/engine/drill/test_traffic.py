"""Where traffic goes in plans of every kind: firewalls, layer 4, methods, certificates, balancers behind balancers."""

import numpy as np
import pytest

from northgate.engine.base.errors import CannotRun
from northgate.engine.drill.run import undisturbed
from northgate.engine.formulas.hashing import shares, target_keys
from northgate.plan.models.drills import CAUSES
from tests.support.plans import changed, drill_of, fail, network_of, plan_data


def caused(flow):
    return {cause: float(rate) for cause, rate in zip(CAUSES, flow.cause_rps, strict=True) if rate > 1e-9}


def targets(flow):
    names = [flow.network.machines.names[int(machine)] for machine in flow.network.pairs.machine]
    return {name: float(flow.places.pair_rps[np.array(names) == name].sum()) for name in dict.fromkeys(names)}


def drawn(**firewalls):
    """The base plan with a network drawn: fronts in an edge subnet, machines in one of their own."""
    data = plan_data(
        networks=[
            {
                "name": "fells-net", "region": "fells", "cidr": "10.20.0.0/16",
                "subnets": [
                    {"name": "edge", "cidr": "10.20.0.0/24", "public": True}, {"name": "app", "cidr": "10.20.11.0/24"},
                ],
            }
        ],
        firewalls=[{"name": name, "allow_in": rules} for name, rules in firewalls.items()],
    )  # fmt: skip
    data["fleets"][0]["zones"] = dict.fromkeys(data["fleets"][0]["zones"], "app")
    data["balancers"][0]["zones"] = dict.fromkeys(data["balancers"][0]["zones"], "edge")
    if "app" in firewalls:
        data["fleets"][0]["instance"]["firewall"] = "app"
    if "edge" in firewalls:
        data["balancers"][0]["firewall"] = "edge"
    return data


def rule(ports, source="any", protocol="tcp"):
    return {"protocol": protocol, "ports": ports, "from": source}


@pytest.mark.parametrize(
    ("firewalls", "served", "causes"),
    [
        ({"edge": [rule(["443"])], "app": [rule(["8080"], "balancer:front")]}, 600, {}),
        ({"edge": [rule(["443"])], "app": [rule(["8080"], "10.20.0.0/24")]}, 600, {}),
        ({"edge": [rule(["443"])], "app": [rule(["8080"], "firewall:edge")]}, 600, {}),
        ({"edge": [rule(["80"])]}, 0, {"blocked": 600}),
        ({"edge": [rule(["443"], "198.18.0.0/17")]}, 300, {"blocked": 300}),
        # Probes meet the same firewall, so behind it nobody is in use.
        ({"app": [rule(["8080"], "198.18.0.0/16")]}, 0, {"none_healthy": 600}),
        ({"app": []}, 0, {"none_healthy": 600}),
    ],
)
def test_firewalls_stand_before_fronts_and_targets(firewalls, served, causes):
    flow = undisturbed(network_of(drawn(**firewalls)))
    assert flow.served == pytest.approx(served)
    assert caused(flow) == pytest.approx(causes)


def test_without_a_probe_what_a_firewall_keeps_off_is_blocked():
    data = changed(drawn(app=[rule(["22"])]), "/target_groups/0/probe", None)
    assert caused(undisturbed(network_of(data))) == pytest.approx({"blocked": 600})


def test_a_rule_that_goes_is_met_by_requests_and_probes_alike():
    data = drawn(edge=[rule(["443"])], app=[rule(["8080"], "balancer:front")])
    run = drill_of(data, [fail(60, firewall="app", rule=0)], lasts_s=300)
    assert caused(run.flow_at(61)) == pytest.approx({"blocked": 600})
    assert caused(run.flow_at(299)) == pytest.approx({"none_healthy": 600})
    assert run.readings.worst_blind_s == pytest.approx(35), "as long as silence takes"


def test_an_internal_balancer_is_out_of_reach_from_outside():
    data = changed(drawn(), "/balancers/0/exposure", "internal")
    assert caused(undisturbed(network_of(data))) == pytest.approx({"blocked": 600})
    inside = changed(data, "/clients/0/cidr", "10.20.11.0/24")
    assert undisturbed(network_of(inside)).served == pytest.approx(600)


def layer_4(**balancer):
    data = drawn()
    data["balancers"][0] |= {"layer": 4, **balancer}
    data["balancers"][0]["listeners"] = [{"name": "any", "protocol": "tcp", "port": 443, "otherwise": {"pool": "web"}}]
    return data


def test_at_layer_4_targets_see_the_client():
    data = layer_4()
    data["firewalls"] = [
        {"name": "app", "allow_in": [rule(["8080"], "balancer:front"), rule(["8080"], "198.18.0.0/17")]}
    ]
    data["fleets"][0]["instance"]["firewall"] = "app"
    assert caused(undisturbed(network_of(data))) == pytest.approx({"blocked": 300}), "half of the sources are let in"
    data["balancers"][0]["source_seen"] = "balancer"
    assert undisturbed(network_of(data)).served == pytest.approx(600)


def test_a_udp_group_asks_udp_services():
    data = layer_4()
    data["balancers"][0]["listeners"][0] |= {"protocol": "udp", "port": 514}
    data["target_groups"][0] |= {"protocol": "udp", "probe": None}
    data["clients"][0]["calls"] = [{"url": "udp://www.beckwater.example:514"}]
    assert caused(undisturbed(network_of(data))) == pytest.approx({"refused": 600})
    data["fleets"][0]["instance"]["serves"].append({"port": 8080, "protocol": "udp"})
    assert undisturbed(network_of(data)).served == pytest.approx(600)


@pytest.mark.parametrize(
    ("hosts", "served"),
    [
        (["*.beckwater.example"], 600),
        (["www.beckwater.example"], 600),
        (["beckwater.example"], 0),
        (["*.www.beckwater.example"], 0),
    ],
)
def test_a_certificate_covers_the_host_or_the_client_turns_away(hosts, served):
    data = plan_data(certificates=[{"name": "public", "hosts": hosts}])
    data["balancers"][0]["listeners"][0]["certificate"] = "public"
    assert undisturbed(network_of(data)).served == pytest.approx(served)


def slow_and_quick(balance):
    """Two fleets in one group; those of the second take twice as long for a request."""
    data = changed(plan_data(), "/target_groups/0/balance", balance)
    slow = {**data["fleets"][0], "name": "old", "instance": {**data["fleets"][0]["instance"], "service_ms": 40}}
    data["fleets"].append(slow)
    for fleet in data["fleets"]:
        fleet["instance"] = {**fleet["instance"], "capacity_rps": None}
    data["target_groups"][0]["targets"] = [{"fleet": "tiles"}, {"fleet": "old"}]
    return data


@pytest.mark.parametrize("balance", ["least-connections", "two-choices"])
def test_the_quicker_get_more_where_the_less_busy_serve(balance):
    got = targets(undisturbed(network_of(slow_and_quick(balance))))
    assert got["tiles-1"] == pytest.approx(600 * 2 / 18)
    assert got["old-1"] == pytest.approx(600 * 1 / 18)


def test_least_connections_solve_load_and_hold_together():
    """At the solution each target's share is in proportion to 1 / its own latency under that very load."""
    data = slow_and_quick("least-connections")
    for fleet, capacity in zip(data["fleets"], (70, 60), strict=True):
        fleet["instance"]["capacity_rps"] = capacity
    flow = undisturbed(network_of(data))
    got = targets(flow)
    latency = dict(zip(flow.network.machines.names, flow.queue.latency_s, strict=True))
    outstanding = [got[name] * latency[name] for name in got]
    assert outstanding == pytest.approx([outstanding[0]] * len(outstanding), rel=1e-9)
    assert sum(got.values()) == pytest.approx(600)


def test_a_source_hash_gives_the_true_shares_of_the_sources():
    data = changed(plan_data(), "/target_groups/0/balance", "source-hash")
    data["clients"][0] |= {"sources": 7, "cidr": "198.18.0.0/24"}
    flow = undisturbed(network_of(data))
    keys = np.array([0xC6120000 + index * 256 // 7 for index in range(7)], dtype=np.uint64)
    names = [f"tiles-{number}" for number in range(1, 7)]
    expected = shares(keys, target_keys(names), np.ones(6)) * 600
    assert targets(flow) == pytest.approx(dict(zip(names, expected, strict=True)))


def test_under_a_hash_only_the_lost_targets_sources_move():
    data = changed(plan_data(), "/target_groups/0/balance", "source-hash")
    data["clients"][0] |= {"sources": 50}
    run = drill_of(data, [fail(60, instance="tiles-2")], lasts_s=300)
    before, after = targets(run.flow_at(0)), targets(run.flow_at(299))
    assert after["tiles-2"] == 0
    assert all(after[name] >= before[name] - 1e-9 for name in before if name != "tiles-2")
    fresh = targets(undisturbed(network_of(without(data, "tiles-2"))))
    assert after == pytest.approx(fresh | {"tiles-2": 0}), "as if it had never been there"


def without(data, name):
    """The same plan with a weight of 0 for one machine: its fleet written out."""
    served = data["fleets"][0]["instance"]
    zones = ["fells-1", "fells-1", "fells-2", "fells-2", "fells-3", "fells-3"]
    machines = [{"name": f"tiles-{n + 1}", "zone": zone, **served} for n, zone in enumerate(zones)]
    group = {
        **data["target_groups"][0],
        "targets": [{"instance": one["name"], "weight": int(one["name"] != name)} for one in machines],
    }
    return {**data, "fleets": [], "instances": machines, "target_groups": [group]}


def behind(**inner):
    """The base plan behind another balancer, at layer 4."""
    data = plan_data()
    data["target_groups"].append(
        {"name": "inner", "port": 443, "protocol": "https", "targets": [{"balancer": "front"}]}
    )
    data["pools"].append({"name": "on", "tiers": [{"groups": {"inner": 1}}]})
    data["balancers"].append(
        {
            "name": "outer", "zones": {"fells-1": None, "fells-2": None}, "addresses": ["203.0.113.50"], "layer": 4,
            "listeners": [{"name": "any", "protocol": "tcp", "port": 443, "otherwise": {"pool": "on"}}], **inner,
        }
    )  # fmt: skip
    data["names"][0]["answers"] = [{"balancer": "outer"}]
    return data


def test_balancers_stand_behind_balancers():
    flow = undisturbed(network_of(behind()))
    assert flow.served == pytest.approx(600)
    assert [float(rps) for rps in flow.places.front_rps] == pytest.approx([200, 200, 200, 300, 300])
    assert flow.zone_served.sum() == pytest.approx(600), "each request is counted where its target stands"
    assert flow.queue.utilisation.max() == pytest.approx(0.1)
    run = undisturbed(network_of(changed(behind(), "/fleets/0/instance/serves/0/port", 1)))
    assert caused(run) == pytest.approx({"none_healthy": 600})


def test_a_target_may_be_a_host_that_a_name_leads_on():
    data = behind()
    data["target_groups"][1]["targets"] = [{"host": "inner.beckwater.example"}]
    data["names"].append({"name": "inner.beckwater.example", "answers": [{"balancer": "front"}]})
    assert undisturbed(network_of(data)).places.front_rps[:3].sum() == pytest.approx(600)
    data["target_groups"][1]["targets"] = [{"host": "elsewhere.example"}, {"balancer": "front"}]
    flow = undisturbed(network_of(data))
    assert dict(zip(flow.network.zones, flow.zone_served, strict=True))["outside"] == pytest.approx(300)


def test_a_layer_7_balancer_passes_on_what_its_group_speaks():
    data = behind(layer=7)
    data["balancers"][1]["listeners"] = [
        {"name": "https", "protocol": "https", "port": 443, "otherwise": {"pool": "on"}}
    ]
    assert undisturbed(network_of(data)).served == pytest.approx(600)
    data["target_groups"][1] |= {"protocol": "http"}
    assert caused(undisturbed(network_of(data))) == pytest.approx({"refused": 600}), "nobody listens for http there"


def test_what_is_too_late_at_a_machine_and_behind_a_balancer_is_counted_once():
    """An instance beside the inner balancer, and the machines behind that: all answer after 2 s, of which the outer
    balancer waits one. So every request fails, each once."""
    data = behind(layer=7)
    data["balancers"][1]["listeners"] = [
        {"name": "https", "protocol": "https", "port": 443, "otherwise": {"pool": "on"}}
    ]
    slow = {"capacity_rps": None, "service_ms": 2000}
    data["fleets"][0]["instance"] |= slow
    data["instances"] = [
        {"name": "beside", "zone": "fells-1", "serves": [{"port": 443, "protocol": "https"}], **slow}
    ]  # fmt: skip
    data["target_groups"][1]["targets"].append({"instance": "beside"})
    assert undisturbed(network_of(data)).served == pytest.approx(600)
    data["target_groups"][1]["response_timeout_s"] = 1
    assert caused(undisturbed(network_of(data))) == pytest.approx({"timed_out": 600})


def test_balancers_in_a_ring_are_refused():
    data = behind()
    data["target_groups"][0]["targets"] = [{"balancer": "outer"}]
    with pytest.raises(CannotRun, match="leads back to it"):
        network_of(data)


def test_what_stands_outside_fails_and_returns_like_a_machine():
    """One of seven equal targets is a host outside: silent from 60 s on, it costs its share until its probes, every
    10 s and each 5 s silent, have failed thrice (worst phase: noticed 35 s later), and then nothing."""
    data = plan_data()
    data["target_groups"][0]["targets"].append({"host": "partner.beckwater.example"})
    lost = {"host": "partner.beckwater.example"}
    run = drill_of(data, [fail(60, **lost)], phases="worst", lasts_s=200)
    rps, blind = data["clients"][0]["rps"], 35
    assert run.readings.failed_by_cause["timed_out"] == pytest.approx(rps / 7 * blind)
    assert run.readings.failed == pytest.approx(rps / 7 * blind)
    assert [row.blind_s for row in run.blind] == pytest.approx([blind] * len(run.blind))
    assert run.blind


@pytest.mark.parametrize(("tries_next", "failing"), [(False, 1 / 2), (True, 0)])
def test_an_answer_outside_at_which_nobody_answers_is_a_dead_address(tries_next, failing):
    """Half of the clients go to the address first; who takes the next address after it is served there."""
    data = plan_data()
    data["names"][0] |= {"choose": "all", "answers": [{"balancer": "front"}, {"address": "198.51.100.9"}]}
    data["clients"][0] |= {"tries_next_address": tries_next, "connect_timeout_s": 1}
    flow = drill_of(data, [fail(60, address="198.51.100.9")], lasts_s=90).flow_at(70)
    rps = data["clients"][0]["rps"]
    assert flow.cause_rps[CAUSES.index("dead_front")] == pytest.approx(rps * failing)
    assert flow.served == pytest.approx(rps * (1 - failing))


def test_only_what_stands_outside_can_be_lost_there():
    drills = [{"name": "d", "lasts_s": 9, "steps": [fail(1, address="192.0.2.1")]}]
    with pytest.raises(CannotRun, match=r"there is no address outside the plan '192\.0\.2\.1'"):
        network_of(plan_data(drills=drills))


def test_a_target_given_by_address_is_the_machine_that_has_it():
    data = drawn()
    data["target_groups"][0]["targets"] = [{"address": "10.20.11.2"}]
    flow = undisturbed(network_of(data))
    assert targets(flow) == pytest.approx({"tiles-2": 600}), "the subnet's second free address"
