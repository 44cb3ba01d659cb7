"""The engine against a simulation of single requests that shares no code with it, on random small plans."""

import copy
import random
from statistics import NormalDist, fmean, stdev

import pytest

from northgate.engine.drill import run_drill
from northgate.plan.drills import CAUSES
from tests.plans import network_of, plan_data
from tests.simulation.requests import Simulation

RUNS = 20
PLANS = 40
ZONES = ["fells-1", "fells-2", "fells-3"]
SERVES = [{"port": 8080, "protocol": "http", "pages": {"/": 200, "/ready": 200}}]
# 99 % in all: divided by the number of comparisons (Bonferroni).
ALPHA = 0.01 / (PLANS * (2 + len(CAUSES) + len(ZONES)))


def random_plan(seed):
    """A small plan without queues, and a drill with one to three faults of any kind, most of them taken back."""
    chance = random.Random(seed)
    machine = {"capacity_rps": None, "service_ms": 0, "serves": SERVES}
    fleets = [
        {"name": name, "zones": dict.fromkeys(ZONES), "count": chance.randint(2, 6), "instance": machine}
        for name in ("tiles", "other")
    ]
    probe = {
        "name": "ready",
        "path": "/ready",
        "interval_s": chance.choice([5, 8, 10]),
        "timeout_s": chance.choice([1, 3, 5]),
        "unhealthy_after": chance.randint(1, 3),
        "healthy_after": chance.randint(1, 3),
        "next_after": chance.choice(["send", "result"]),
    }
    groups = [random_group(chance, name) for name in ("tiles", "more")]
    names = chance.choice([["tiles"], ["tiles", "more"], ["more", "tiles"]])
    tiers = [
        {
            "groups": {name: chance.randint(1, 4) for name in (names if number == 0 else names[-1:])},
            "min_healthy": chance.choice([{"count": 1}, {"count": 3}, {"share": 0.5}]),
            "empty_group": chance.choice(["share-out", "fail"]),
        }
        for number in range(chance.randint(1, 2))
    ]
    data = plan_data(fleets=fleets, probes=[probe], target_groups=groups, pools=[{"name": "web", "tiers": tiers}])
    data["clients"][0] |= {"rps": 20, "sources": 60, "connect_timeout_s": 1, "cidr": "198.18.0.0/16"}
    if seed % 2:
        random_clients(chance, data)
    drill = {"name": "any", "lasts_s": 160, "phases": "spread", "steps": random_steps(chance)}
    return data | {"drills": [drill]}


def random_group(chance, name):
    fleets = chance.choice([["tiles"], ["other"], ["tiles", "other"]])
    return {
        "name": name,
        "port": 8080,
        "probe": chance.choice(["ready", "ready", "ready", None]),
        "targets": [{"fleet": fleet, "weight": chance.randint(1, 3)} for fleet in fleets],
        "reach": chance.choice(["zone", "prefer-zone", "region"]),
        "when_none_healthy": chance.choice(["refuse", "send-anyway"]),
    }


def random_clients(chance, data):
    """What clients hold and repeat, and how they find the fronts: one or two things each time."""
    client, balancer, groups = data["clients"][0], data["balancers"][0], data["target_groups"]
    what = chance.choice(["hash", "sessions", "connections", "addresses", "others"])
    if what == "hash":
        for group in groups:
            group["balance"] = "source-hash"
        client["retries"] = chance.choice([0, 2])
    elif what == "sessions":
        groups[0]["affinity"] = {"by": "cookie", "renews": chance.random() < 0.5, "lasts_s": 30}
        client["retries"] = chance.choice([0, 1])
    elif what == "connections":
        listener = {"name": "tls", "protocol": "tls", "port": 443, "otherwise": {"pool": "web"}}
        balancer |= {"layer": 4, "listeners": [listener]}
        client |= {"connection_s": chance.choice([10, 60]), "retries": chance.choice([0, 0, 1])}
        groups[0]["on_out"] = chance.choice(["keep", "reset"])
    elif what == "addresses":
        balancer |= {"address_kind": "per-zone", "addresses": []}
        client["tries_next_address"] = chance.random() < 0.5
        client["overholds"] = chance.choice([{"share": 0, "s": 0}, {"share": 0.4, "s": 50}])
        data["names"][0]["ttl_s"] = chance.choice([10, 40])
    else:
        for group in groups:
            group |= {"try_others": chance.choice([1, 2]), "connect_timeout_s": chance.choice([2, 6])}
        client["retries"] = chance.choice([0, 1])


def random_steps(chance):
    parts = [
        {"zone": chance.choice(ZONES)},
        {"instance": chance.choice(["tiles-1", "other-2"])},
        {"process": chance.choice(["tiles-2", "other-1"])},
        {"page": chance.choice(["/ready", "/tiles"]), "status": 503},
        {"front": {"balancer": "front", "zone": chance.choice(ZONES)}},
        {"link": ["fells-1", "fells-3"]},
        {"region": "fells"},
    ]
    steps = []
    for part in chance.sample(parts, chance.randint(1, 3)):
        start = chance.randint(5, 70) + 0.37
        steps.append({"at_s": start, "fail": part})
        if chance.random() < 0.7:
            steps.append({"at_s": start + chance.randint(3, 60) + 0.11, "restore": part})
    return steps


def simulated(data):
    """Per quantity its count in each run, and the requests of each run."""
    runs = [Simulation(copy.deepcopy(data), seed).run() for seed in range(RUNS)]
    counts = {cause: [run.causes[cause] for run in runs] for cause in CAUSES}
    counts |= {zone: [run.served[zone] for run in runs] for zone in ZONES}
    counts["connections_reset"] = [run.reset for run in runs]
    counts["failed"] = [sum(run.causes.values()) for run in runs]
    return counts


def computed(data):
    """The same quantities, as the engine computes them."""
    network = network_of(data)
    run = run_drill(network, network.plan.drills[0])
    times = [frame.t_s for frame in run.keyframes] + [run.drill.lasts_s]
    served = [
        sum(
            float(flow.zone_served[number]) * (end - start)
            for flow, start, end in zip(run.flows, times, times[1:], strict=False)
        )
        for number in range(len(ZONES))
    ]
    found = run.readings.failed_by_cause | dict(zip(ZONES, served, strict=True))
    return found | {"failed": run.readings.failed, "connections_reset": run.readings.connections_reset}


def disagreement(expected, found):
    """The quantities whose means over the runs lie outside their interval around what is expected."""
    width = NormalDist().inv_cdf(1 - ALPHA / 2)
    error = {name: max(stdev(counts), expected[name] ** 0.5, 0.5) / RUNS**0.5 for name, counts in found.items()}
    return {
        name: (fmean(counts), expected[name])
        for name, counts in found.items()
        if abs(fmean(counts) - expected[name]) > width * error[name]
    }


@pytest.mark.parametrize("seed", range(PLANS))
def test_single_requests_agree_with_the_engine(seed):
    """Counts are sums of many requests, so their means are near normal; Poisson arrivals give the least spread."""
    data = random_plan(seed)
    assert disagreement(computed(data), simulated(data)) == {}


def test_the_comparison_notices_a_probe_that_is_one_failure_slower():
    """The test of the test: an engine that needs one more failure is found out."""
    data = random_plan(0)
    data["drills"][0]["steps"] = [{"at_s": 30, "fail": {"zone": "fells-2"}}]
    data["target_groups"] = [group | {"probe": "ready", "reach": "region"} for group in data["target_groups"]]
    data["probes"][0] |= {"interval_s": 10, "timeout_s": 5, "unhealthy_after": 2, "next_after": "send"}
    slower = copy.deepcopy(data)
    slower["probes"][0]["unhealthy_after"] = 3
    found = simulated(data)
    assert disagreement(computed(data), found) == {}
    assert {"failed", "timed_out"} <= disagreement(computed(slower), found).keys()
