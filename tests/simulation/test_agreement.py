"""The engine against a simulation of single requests that shares no code with it, on random small plans."""

import itertools
from functools import cache
from pathlib import Path
from statistics import NormalDist, fmean, stdev
from typing import get_args

import numpy as np
import pytest

from northgate.engine.drill.run import run_drill
from northgate.engine.network.compile import compile_network
from northgate.plan import plan_from_data, read_plan
from northgate.plan.models.drills import CAUSES, STEP_KINDS
from northgate.plan.models.faults import FAULTS
from northgate.plan.models.groups import TargetGroup
from northgate.plan.models.traffic import DnsEntry
from tests.engine.drill.test_traffic import layer_4
from tests.simulation.random_plans import LASTS_S, random_plan, random_plan_by_hand
from tests.simulation.requests import BIN_S, Simulation
from tests.support.exploring import EXPLORING
from tests.support.plans import changed

DEMO = Path(__file__).parents[2] / "examples" / "beckwater.plan.yaml"
RUNS = 20 if EXPLORING else 6
# The cheapest plans of four hundred that together hold every fault, method, kind of session and kind of target that
# these hold; NORTHGATE_EXPLORE=1 takes the first two hundred, less one in which two choices are made among targets
# with so few requests under way that they often tie (docs/engine.md).
PLANS = [*range(110), *range(111, 200)] if EXPLORING else (44, 82, 106, 170, 222, 266, 275, 337, 339, 373, 376, 391)
# Of sixty, what shows most of all that is done by hand for its time.
BY_HAND = range(60) if EXPLORING else (13, 18, 19, 27)
# Shown by a test of their own: few of the plans have anything outside.
OUTSIDE_FAULTS = {"address", "host"}
# 99 % in all: divided by the number of comparisons (Bonferroni), as many as there are in all plans' stretches.
COMPARED = max(40, len(PLANS)) * (2 + len(CAUSES) + 4 * LASTS_S // BIN_S)
ALPHA = 0.01 / COMPARED


def simulated(plan, drill, runs=RUNS):
    """Per quantity its count in each run."""
    made = [Simulation(plan, drill, seed).run() for seed in range(runs)]
    zones = [zone for region in plan.regions for zone in region.zones]
    bins = range(int(np.ceil(drill.lasts_s / BIN_S)))
    counts = {cause: [run.causes[cause] for run in made] for cause in CAUSES}
    counts |= {(who, at): [run.served[who, at] for run in made] for who in (*zones, "failed") for at in bins}
    counts["connections_reset"] = [run.reset for run in made]
    counts["failed"] = [sum(run.causes.values()) for run in made]
    return counts


def computed(plan, drill, run=None):
    """The same quantities, as the engine computes them, or has computed them in a run."""
    run = run or run_drill(compile_network(plan), drill)
    network = run.network
    found = dict(run.readings.failed_by_cause)
    found |= {"failed": run.readings.failed, "connections_reset": run.readings.connections_reset}
    edges = np.arange(0, drill.lasts_s + BIN_S, BIN_S)
    starts = np.unique([*(frame.t_s for frame in run.keyframes), *edges])
    for start, end in itertools.pairwise(starts):
        # Between events rates are constant or linear, so that what they are in the middle is their mean.
        flow, at = run.flow_at(float(start + end) / 2), int(start // BIN_S)
        for zone, rate in zip([*network.zones, "failed"], [*flow.zone_served, flow.cause_rps.sum()], strict=False):
            found[zone, at] = found.get((zone, at), 0.0) + float(rate) * (end - start)
    return found


def disagreement(expected, found, alpha=ALPHA):
    """The quantities whose means over the runs lie outside their interval around what is expected."""
    width = NormalDist().inv_cdf(1 - alpha / 2)
    return {
        name: (fmean(counts), expected[name])
        for name, counts in found.items()
        if abs(fmean(counts) - expected[name])
        > width * max(stdev(counts), expected[name] ** 0.5, 0.5) / len(counts) ** 0.5
    }


@cache
def comparable(seed, made=random_plan):
    """A plan of this seed, or the next like it, whose queues are well used or well overused, without a cascade: at
    saturation chance alone fills a queue; and how its drill runs."""
    for again in range(100):
        plan = plan_from_data(made(seed + 6000 * again))
        run = run_drill(compile_network(plan), plan.drills[0])
        used = np.concatenate([frame.utilisation for frame in run.keyframes])
        if run.cascade is None and not ((used > 0.8) & (used < 1.25)).any():
            return plan, run
    raise AssertionError("no plan of this kind is fit to be compared")


@pytest.mark.parametrize("seed", PLANS)
def test_single_requests_agree_with_the_engine(seed):
    """Counts are sums of many requests, so their means are near normal; Poisson arrivals give the least spread."""
    plan, run = comparable(seed)
    for frame in run.keyframes:
        assert frame.zone_served.sum() + frame.cause_rps.sum() == pytest.approx(frame.state.call_rps.sum(), rel=1e-9)
    assert disagreement(computed(plan, plan.drills[0], run), simulated(plan, plan.drills[0])) == {}


@pytest.mark.parametrize("seed", BY_HAND)
def test_single_requests_agree_on_what_is_done_by_hand_in_any_plan(seed):
    plan, run = comparable(seed, random_plan_by_hand)
    assert disagreement(computed(plan, plan.drills[0], run), simulated(plan, plan.drills[0])) == {}


def test_the_plans_hold_every_fault_and_every_method():
    """What the agreement is shown for: no kind of fault, step or method is left out."""
    plans = [comparable(seed)[0] for seed in PLANS]
    steps = [step for plan in plans for step in plan.drills[0].steps]
    drawn = set(FAULTS) - OUTSIDE_FAULTS
    assert {step.fail.kind for step in steps if step.fail} == drawn
    assert {step.restore.kind for step in steps if step.restore} == drawn
    by_hand = {"remove", "expire", "change_answers", "roll"}
    # Shown by tests of their own; a withdrawn answer is a changed record.
    assert {step.kind for step in steps} == set(STEP_KINDS) - by_hand - {"scale", "withdraw"}
    methods = {group.balance for plan in plans for group in plan.target_groups}
    assert methods == set(get_args(TargetGroup.model_fields["balance"].annotation))
    ways = {entry.choose for plan in plans for entry in plan.names}
    assert ways == set(get_args(DnsEntry.model_fields["choose"].annotation))


def test_single_requests_agree_on_the_demo():
    """The demo's lost region with a sixtieth of its calls, so that no machine queues, for two hundred seconds."""
    plan = read_plan(DEMO)
    clients = [client.model_copy(update={"rps": client.rps / 60, "sources": 50}) for client in plan.clients]
    drill = next(one for one in plan.drills if one.name == "lose-fells").model_copy(update={"lasts_s": 200})
    plan = plan.model_copy(update={"clients": clients})
    found = disagreement(computed(plan, drill), simulated(plan, drill), 0.01 / (2 * (8 + 6 * 20)))
    assert found == {}


@pytest.mark.parametrize("retries", [0, 1])
def test_single_requests_agree_where_what_stands_outside_is_lost(retries):
    """A host beside the machines, watched like them, and an address as another answer, which nobody watches."""
    data = random_plan(0) | {"pools": [{"name": "web", "tiers": [{"groups": {"tiles": 1}}]}]}
    group = data["target_groups"][0]
    group |= {"targets": [*group["targets"], {"host": "partner.beckwater.example", "weight": 3}], "probe": "ready"}
    group |= {"balance": "round-robin", "affinity": {"by": "none"}, "try_others": 0, "connect_timeout_s": 1}
    data["names"] = [
        {
            "name": "www.beckwater.example", "choose": "share",
            "answers": [{"balancer": "front", "weight": 2}, {"address": "198.51.100.9"}],
        }
    ]  # fmt: skip
    data["clients"] = data["clients"][:1]
    data["clients"][0] |= {"retries": retries, "calls": [{"url": "https://www.beckwater.example/tiles/7"}]}
    host, address = {"host": "partner.beckwater.example"}, {"address": "198.51.100.9"}
    steps = [{"at_s": 20.3, "fail": host}, {"at_s": 50.1, "fail": address}, {"at_s": 70.7, "restore": host}]
    data["drills"] = [{"name": "any", "lasts_s": 110, "steps": steps}]
    plan = plan_from_data(data)
    expected = computed(plan, plan.drills[0])
    assert expected["dead_front"] > 20
    assert (expected["timed_out"] > 20) == (retries == 0)
    assert disagreement(expected, simulated(plan, plan.drills[0]), 0.01 / 100) == {}


def test_the_comparison_notices_a_probe_that_is_one_failure_slower():
    """The test of the test: an engine that needs one more failure is found out."""
    data = random_plan(0) | {"pools": [{"name": "web", "tiers": [{"groups": {"tiles": 1}}]}]}
    data["drills"][0]["steps"] = [{"at_s": 30, "fail": {"zone": "fells-2"}}]
    data["target_groups"] = [group | {"probe": "ready", "reach": "region"} for group in data["target_groups"]]
    data["probes"][0] |= {"interval_s": 10, "timeout_s": 5, "unhealthy_after": 2, "next_after": "send"}
    right, slower = (plan_from_data(changed(data, "/probes/0/unhealthy_after", number)) for number in (2, 3))
    found = simulated(right, right.drills[0])
    assert disagreement(computed(right, right.drills[0]), found) == {}
    assert {"failed", "timed_out"} <= disagreement(computed(slower, slower.drills[0]), found).keys()


@pytest.mark.parametrize("retries", [0, 1])
def test_single_requests_agree_where_connections_are_idle_too_long(retries):
    """Calls three seconds apart on the mean, a time-out of two, and a long way: many are sent into what is closed."""
    plan = plan_from_data(random_plan(0) | {"pools": [{"name": "web", "tiers": [{"groups": {"tiles": 1}}]}]})
    listener = {"name": "tls", "protocol": "tls", "port": 443, "otherwise": {"pool": "web"}}
    data = plan.model_dump(mode="json", by_alias=True)
    data["balancers"][0] |= {"layer": 4, "listeners": [listener], "idle_timeout_s": 2, "source_seen": None}
    data["firewalls"][0]["allow_in"].append({"protocol": "tcp", "ports": ["8080"], "from": "198.18.0.0/15"})
    data["areas"] = [area | {"latency_ms": dict.fromkeys(area["latency_ms"], 400)} for area in data["areas"]]
    data["clients"][0] |= {"connection_s": 60, "retries": retries, "timeout_s": 10}
    data["target_groups"] = [group | {"affinity": {"by": "none"}, "try_others": 0} for group in data["target_groups"]]
    data["drills"] = [{"name": "any", "lasts_s": 110, "steps": [{"at_s": 40, "fail": {"process": "tiles-1"}}]}]
    plan = plan_from_data(data)
    expected = computed(plan, plan.drills[0])
    assert (expected["reset"] > 20) == (retries == 0)
    assert disagreement(expected, simulated(plan, plan.drills[0]), 0.01 / 100) == {}


DRAINED = [{"at_s": 20, "drain": {"instance": one}} for one in ("tiles-1", "tiles-4")]
AWAY = [{"at_s": 110, "fail": {"zone": "fells-1"}}, {"at_s": 160, "restore": {"zone": "fells-1"}}]


@pytest.mark.parametrize(
    ("affinity", "steps", "lasts_s"),
    [({"renews": True}, DRAINED, 110), ({"renews": False, "lasts_s": 15}, AWAY, 220)],
    ids=["the session is freed", "the session ends sooner"],
)
def test_single_requests_agree_where_connections_outlive_their_sessions(affinity, steps, lasts_s):
    """Who is bound nowhere, but connected, is bound anew with his next connection: nobody is connected twice."""
    data = layer_4()
    data["balancers"][0]["listeners"][0]["protocol"] = "tls"
    data["target_groups"][0] |= {"affinity": {"by": "source", **affinity}, "on_out": "keep", "drain_s": 60}
    data["clients"][0] |= {"rps": 20, "sources": 40, "connection_s": 60}
    data["drills"] = [{"name": "any", "lasts_s": lasts_s, "phases": "spread", "steps": steps}]
    plan = plan_from_data(data)
    run = run_drill(compile_network(plan), plan.drills[0])
    for frame in run.keyframes:
        assert frame.state.held.connections.sum() <= 1 + 1e-9
        assert frame.zone_served.sum() + frame.cause_rps.sum() == pytest.approx(20, rel=1e-9)
    found = simulated(plan, plan.drills[0], 2 * RUNS)
    assert disagreement(computed(plan, plan.drills[0], run), found, 0.01 / 200) == {}


@pytest.mark.parametrize("returns", [True, False])
def test_single_requests_agree_where_an_address_floats(returns):
    """Its front is lost, then the one that took it over for a moment only, then both; the first comes back."""
    data = random_plan(0) | {"pools": [{"name": "web", "tiers": [{"groups": {"tiles": 1}}]}]}
    data["balancers"][0] |= {"address_kind": "floating", "returns": returns, "addresses": [], "front_failover_s": 6}
    data["target_groups"] = [group | {"affinity": {"by": "none"}, "try_others": 0} for group in data["target_groups"]]
    data["clients"][0] |= {"connect_timeout_s": 1, "retries": 1, "tries_next_address": False}
    first, second = ({"front": {"balancer": "front", "zone": zone}} for zone in list(data["balancers"][0]["zones"])[:2])
    data["drills"] = [
        {"name": "any", "lasts_s": 110, "steps": [
            {"at_s": 10.3, "fail": first}, {"at_s": 25.1, "fail": second}, {"at_s": 28.1, "restore": second},
            {"at_s": 40.7, "fail": second}, {"at_s": 42.2, "restore": first}, {"at_s": 70.9, "restore": second},
        ]}
    ]  # fmt: skip
    plan = plan_from_data(data)
    expected = computed(plan, plan.drills[0])
    assert expected["dead_front"] > 20
    assert disagreement(expected, simulated(plan, plan.drills[0]), 0.01 / 100) == {}


@pytest.mark.parametrize("retries", [0, 1])
def test_single_requests_agree_on_what_is_done_by_hand(retries):
    """A group is rolled, a machine terminated, a record changed and, for the rest of the time, a certificate gone."""
    data = random_plan(0) | {"pools": [{"name": "web", "tiers": [{"groups": {"tiles": 1}}]}]}
    data["target_groups"] = [group | {"affinity": {"by": "none"}, "try_others": 0} for group in data["target_groups"]]
    data["target_groups"][0] |= {"probe": "ready", "drain_s": 3, "balance": "round-robin", "reach": "region"}
    data["probes"][0] |= {"interval_s": 4, "timeout_s": 2, "unhealthy_after": 2, "healthy_after": 1, "protocol": "http"}
    data["certificates"] = [{"name": "public", "hosts": ["www.beckwater.example"]}]
    data["balancers"][1]["listeners"][0]["certificate"] = "public"
    data["names"] = [
        {"name": "www.beckwater.example", "ttl_s": 20, "choose": "order", "answers": [{"balancer": "front"}]}
    ]
    data["clients"] = data["clients"][:1]
    data["clients"][0] |= {"retries": retries, "calls": [{"url": "https://www.beckwater.example/tiles/7"}]}
    given = {"name": "www.beckwater.example", "answers": [{"balancer": "back"}]}
    steps = [
        {"at_s": 5.3, "roll": {"group": "tiles", "batch": 2, "restart_s": 7}},
        {"at_s": 52.1, "remove": {"instance": "tiles-1"}},
        {"at_s": 63.7, "change_answers": given},
        {"at_s": 90.2, "expire": {"certificate": "public"}},
    ]
    data["drills"] = [{"name": "any", "lasts_s": 110, "steps": steps}]
    plan = plan_from_data(data)
    expected = computed(plan, plan.drills[0])
    assert expected["refused"] > 20
    assert disagreement(expected, simulated(plan, plan.drills[0]), 0.01 / 100) == {}


def small(**more):
    """A plan with one kind of call, for drills of one kind: its data."""
    data = random_plan(0) | {"pools": [{"name": "web", "tiers": [{"groups": {"tiles": 1}}]}]}
    data["target_groups"] = [group | {"affinity": {"by": "none"}, "try_others": 0} for group in data["target_groups"]]
    data["target_groups"][0] |= {"probe": "ready", "drain_s": 3, "balance": "round-robin", "reach": "region"}
    data["probes"][0] |= {"interval_s": 4, "timeout_s": 2, "unhealthy_after": 2, "healthy_after": 2, "protocol": "http"}
    data["clients"] = data["clients"][:1]
    data["clients"][0]["calls"] = [{"url": "https://www.beckwater.example/tiles/7"}]
    return data | more


def agrees(data, steps, lasts_s):
    """What the engine computes, and where single requests differ."""
    data["drills"] = [{"name": "any", "lasts_s": lasts_s, "steps": steps}]
    plan = plan_from_data(data)
    expected = computed(plan, plan.drills[0])
    return expected, disagreement(expected, simulated(plan, plan.drills[0]), 0.01 / 100)


def in_zones(data, *zones):
    """Each fleet in a zone of its own with two machines, and the group of its place with it alone."""
    fleets = zip(data["fleets"], zones, strict=True)
    data["fleets"] = [one | {"zones": {zone: None}, "count": 2} for one, zone in fleets]
    for group, fleet in zip(data["target_groups"], data["fleets"], strict=True):
        group |= {"targets": [{"fleet": fleet["name"]}], "probe": "ready", "reach": "region"}


def test_single_requests_agree_where_a_fleet_is_scaled_by_hand():
    """Two of four in each zone; then three more in the first, which warm up for 90 s and are proven; then they go."""
    data = small()
    in_zones(data, "fells-1", "fells-2")
    data["target_groups"][0]["targets"] = [{"fleet": "tiles"}, {"fleet": "other"}]
    steps = [{"at_s": at_s, "scale": {"fleet": "tiles", "count": count}} for at_s, count in ((10.3, 5), (140.7, 2))]
    expected, differs = agrees(data, steps, 170)
    rates = [expected["fells-1", place] / 10 for place in (5, 13, 16)]
    assert rates == pytest.approx([20 / 2, 20 * 5 / 7, 20 / 2])
    assert differs == {}


def test_single_requests_agree_where_groups_are_filled():
    """The first takes 8 a second, the second what is left, and what neither has room for goes by weight; one of the
    first's two machines is away for a while, and clients ask for half as much from then on."""
    pool = {"name": "web", "tiers": [{"groups": {"tiles": 3, "more": 1}, "fill": {"rps_per_target": 4}}]}
    data = small(pools=[pool])
    in_zones(data, "fells-1", "fells-2")
    steps = [
        {"at_s": 30.3, "fail": {"process": "tiles-1"}}, {"at_s": 60.1, "surge": {"clients": "walkers", "factor": 0.5}},
        {"at_s": 80.9, "restore": {"process": "tiles-1"}},
    ]  # fmt: skip
    expected, differs = agrees(data, steps, 110)
    rates = [expected["fells-1", place] / 10 for place in (0, 7, 10)]
    assert rates == pytest.approx([8 + 4 * 0.75, 4, 8])
    assert differs == {}


@pytest.mark.parametrize("address_kind", ["shared", "per-zone"])
def test_single_requests_agree_where_fronts_withdraw_without_targets(address_kind):
    """All targets of a zone crash, and are back: its front, which reaches no others, leaves, and joins after them."""
    data = random_plan(0) | {"pools": [{"name": "web", "tiers": [{"groups": {"tiles": 1}}]}]}
    for number in (0, 1):
        data["target_groups"][number] |= {"affinity": {"by": "none"}, "try_others": 0, "balance": "round-robin"}
    data["target_groups"][0] |= {"reach": "zone", "probe": "ready", "when_none_healthy": "refuse"}
    data["balancers"][0] |= {"withdraw_when": "no-targets", "address_kind": address_kind, "addresses": []}
    data["balancers"][0] |= {"front_failover_s": 8}
    data["names"][0] |= {"ttl_s": 20, "answers": data["names"][0]["answers"][:1]}
    data["clients"][0] |= {"retries": 0, "connect_timeout_s": 1}
    crash = [{"process": name} for name in ("tiles-1", "tiles-2", "other-1", "other-2")]
    data["drills"] = [
        {"name": "any", "lasts_s": 110, "steps": [
            *({"at_s": 20.3, "fail": one} for one in crash), *({"at_s": 60.1, "restore": one} for one in crash),
        ]}
    ]  # fmt: skip
    plan = plan_from_data(data)
    expected = computed(plan, plan.drills[0])
    assert expected["none_healthy"] > 20
    assert disagreement(expected, simulated(plan, plan.drills[0], 2 * RUNS), 0.01 / 100) == {}


def test_single_requests_agree_where_fleets_scale_and_targets_start_slowly():
    """Twice as much from a second of the profile on: a fleet launches, in the zone that has fewer, and what is new
    starts slowly; a zone is lost meanwhile, and nobody is launched there; then the newest go one by one."""
    data = small()
    data["fleets"][0] |= {"zones": dict.fromkeys(["fells-1", "fells-2"]), "count": 4}
    scale = {"min": 4, "max": 9, "target_utilisation": 0.25, "every_s": 20, "warmup_s": 15}
    data["fleets"][0] |= {
        "scale": scale,
        "instance": data["fleets"][0]["instance"] | {"capacity_rps": 10, "queue_s": 2},
    }
    data["target_groups"][0] |= {"targets": [{"fleet": "tiles"}], "slow_start_s": 30}
    data["clients"][0] |= {"rps": 14, "profile": [[30, 1.9], [170, 0.5]], "timeout_s": 10}
    steps = [{"at_s": 62.3, "fail": {"zone": "fells-2"}}, {"at_s": 151.7, "restore": {"zone": "fells-2"}}]
    data["drills"] = [{"name": "any", "lasts_s": 260, "steps": steps}]
    plan = plan_from_data(data)
    run = run_drill(compile_network(plan), plan.drills[0])
    expected = computed(plan, plan.drills[0], run)
    launched = {name for event in run.events if event.kind == "scale" for name in event.about}
    assert len(launched) >= 3
    assert disagreement(expected, simulated(plan, plan.drills[0]), 0.01 / 150) == {}


@pytest.mark.parametrize("retries", [0, 1])
def test_single_requests_agree_where_answers_are_more_than_a_bandwidth_lets_through(retries):
    """Beside calls that are answered with nothing, which are lost as often; a name's probe does not mind, as less than
    half are."""
    data = small()
    data["balancers"][0]["bandwidth_mbps"] = 1
    data["probes"].append(
        {"name": "watch", "protocol": "https", "port": 443, "path": "/ready", "interval_s": 5, "timeout_s": 2}
        | {"unhealthy_after": 2, "healthy_after": 2}
    )
    data["areas"] = [{"name": "uplands", "latency_ms": {"fells": 12}}]
    data["names"][0] |= {"probe": "watch", "probed_from": ["uplands"], "ttl_s": 10, "choose": "order"}
    data["names"][0]["answers"] = [{"balancer": "front"}, {"balancer": "back"}]
    data["clients"][0] |= {"rps": 30 - 10 * retries, "retries": retries}
    url = "https://www.beckwater.example/tiles/7"
    data["clients"][0]["calls"] = [{"url": url, "share": 3, "kilobytes": 10}, {"url": url, "kilobytes": 0}]
    expected, differs = agrees(data, [{"at_s": 40, "surge": {"clients": "walkers", "factor": 0.3}}], 110)
    assert expected["overloaded"] > 100
    assert differs == {}


@pytest.mark.parametrize("next_after", ["send", "result"])
@pytest.mark.parametrize("phases", ["best", "worst"])
def test_single_requests_agree_at_the_best_and_the_worst(phases, next_after):
    """Where the interval follows on the result, the load of before has put every probe off its place."""
    data = small()
    data["probes"][0] |= {"next_after": next_after, "interval_s": 6, "unhealthy_after": 3}
    data["fleets"][0]["instance"] |= {"capacity_rps": 20, "queue_s": 5, "service_ms": 200}
    steps = [
        {"at_s": 9.1, "surge": {"clients": "walkers", "factor": 1.6}}, {"at_s": 40.3, "fail": {"instance": "tiles-1"}},
        {"at_s": 47.9, "fail": {"process": "tiles-2"}}, {"at_s": 80.2, "restore": {"instance": "tiles-1"}},
    ]  # fmt: skip
    data["drills"] = [{"name": "any", "lasts_s": 110, "phases": phases, "steps": steps}]
    plan = plan_from_data(data)
    expected = computed(plan, plan.drills[0])
    assert disagreement(expected, simulated(plan, plan.drills[0]), 0.01 / 200) == {}


@pytest.mark.parametrize("client", [{"sources": 50}, {"sources": 600, "connection_s": 10, "retries": 1}], ids=str)
def test_single_requests_agree_where_connections_follow_keys(client):
    """Whose key falls to what is silent fails with each call; whose target comes back stays where he is meanwhile."""
    data = small()
    listener = {"name": "tls", "protocol": "tls", "port": 443, "otherwise": {"pool": "web"}}
    data["balancers"][0] |= {"layer": 4, "listeners": [listener], "idle_timeout_s": 600}
    data["names"][0]["answers"] = [{"balancer": "front"}]
    data["firewalls"][0]["allow_in"].append({"protocol": "tcp", "ports": ["8080"], "from": "198.18.0.0/15"})
    data["target_groups"][0] |= {"targets": [{"fleet": "tiles"}], "balance": "source-hash"}
    data["clients"][0] |= {"rps": 40, "connection_s": 40, "retries": 0, "connect_timeout_s": 1, **client}
    data["clients"][0]["calls"] = [{"url": "tls://www.beckwater.example:443"}]
    steps = [{"at_s": 20.3, "fail": {"instance": "tiles-1"}}, {"at_s": 70.7, "restore": {"instance": "tiles-1"}}]
    data["drills"] = [{"name": "any", "lasts_s": 150, "phases": "best", "steps": steps}]
    plan = plan_from_data(data)
    expected = computed(plan, plan.drills[0])
    assert expected["timed_out"] > 30
    assert disagreement(expected, simulated(plan, plan.drills[0]), 0.01 / 200) == {}


FADING = {
    "sources call often": {"sources": 40},
    "and hold for longer, and repeat": {
        "sources": 300,
        "overholds": {"share": 0.3, "s": 70},
        "retries": 2,
        "tries_next_address": True,
    },
}


@pytest.mark.parametrize("client", FADING.values(), ids=FADING)
def test_single_requests_agree_where_old_answers_fade_at_layer_4(client):
    """The first region is lost, and back: who holds the old answer asks in vain until it has run out, and who is
    connected in the other region stays."""
    data = small()
    data["regions"].append({"name": "coast", "zones": ["coast-1", "coast-2"]})
    data["areas"] = [{"name": "uplands", "latency_ms": {"fells": 12, "coast": 34}}]
    listener = {"name": "tls", "protocol": "tls", "port": 443, "otherwise": {"pool": "web"}}
    data["balancers"] = [
        one | {"layer": 4, "listeners": [listener], "idle_timeout_s": 600} for one in data["balancers"]
    ]
    data["balancers"][0] |= {"address_kind": "per-zone", "addresses": []}
    data["balancers"][1]["zones"] = dict.fromkeys(["coast-1", "coast-2"])
    data["firewalls"][0]["allow_in"].append({"protocol": "tcp", "ports": ["8080"], "from": "198.18.0.0/15"})
    data["fleets"][1] |= {"zones": dict.fromkeys(["coast-1", "coast-2"]), "count": 4}
    data["target_groups"][0] |= {"targets": [{"fleet": "tiles"}, {"fleet": "other"}], "on_out": "reset"}
    data["probes"].append({"name": "watch", "protocol": "tcp", "port": 443, "interval_s": 5, "timeout_s": 3})
    data["names"][0] |= {"probe": "watch", "probed_from": ["uplands"], "ttl_s": 40, "choose": "order"}
    data["names"][0]["answers"] = [{"balancer": "front"}, {"balancer": "back"}]
    data["clients"][0] |= {"rps": 40, "connection_s": 40, "retries": 0, "connect_timeout_s": 1, **client}
    data["clients"][0]["calls"] = [{"url": "tls://www.beckwater.example:443"}]
    steps = [{"at_s": 20.3, "fail": {"region": "fells"}}, {"at_s": 90.7, "restore": {"region": "fells"}}]
    data["drills"] = [{"name": "any", "lasts_s": 190, "steps": steps}]
    plan = plan_from_data(data)
    expected = computed(plan, plan.drills[0])
    # About half of the TTL after the verdict, less only what is connected.
    assert expected["dead_front"] > 40 * 25
    assert disagreement(expected, simulated(plan, plan.drills[0]), 0.01 / 200) == {}
