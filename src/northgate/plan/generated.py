"""Large plans for benches and tests, made by a seeded generator: the same numbers give the same plan."""

import random
from typing import Any

from northgate.plan.models.document import Plan
from northgate.plan.reading import plan_from_data

ZONES_IN_REGION = 3


def generated_plan(*, targets: int, zones: int = 3, groups: int = 4, rules: int = 10, seed: int = 1) -> Plan:
    """A plan with so many targets in so many zones and groups, and so many rules over its balancers.

    Zones come three to a region, each region with a balancer of its own and a name; the seed varies capacities,
    weights, probes and which path leads to which pool.
    """
    chance = random.Random(seed)
    names = [f"r{number // ZONES_IN_REGION + 1}-z{number % ZONES_IN_REGION + 1}" for number in range(zones)]
    regions = [names[start : start + ZONES_IN_REGION] for start in range(0, zones, ZONES_IN_REGION)]
    kinds = [f"group-{number + 1}" for number in range(groups)]
    fleets = [_fleet(chance, kind, names, _part(targets, groups, number)) for number, kind in enumerate(kinds)]
    return plan_from_data(
        {
            "northgate": 1,
            "name": f"generated-{targets}",
            "title": f"Generated: {targets} targets, {zones} zones",
            "regions": [{"name": f"r{number + 1}", "zones": inside} for number, inside in enumerate(regions)],
            "areas": [{"name": "near", "latency_ms": {f"r{number + 1}": 10 for number in range(len(regions))}}],
            "fleets": fleets,
            "probes": [_probe(chance, number) for number in range(3)],
            "target_groups": [_group(chance, number, kind) for number, kind in enumerate(kinds)],
            "pools": [{"name": f"pool-{kind}", "tiers": [{"groups": {kind: 1}}]} for kind in kinds],
            "certificates": [{"name": "public", "hosts": ["*.beckwater.example"]}],
            "balancers": [
                _balancer(chance, number, inside, kinds, rules // len(regions)) for number, inside in enumerate(regions)
            ],
            "names": [_name(number) for number in range(len(regions))],
            "clients": [_clients(number, targets, len(regions), rules) for number in range(len(regions))],
            "drills": [
                {"name": "lose-first-zone", "lasts_s": 600, "steps": [{"at_s": 60, "fail": {"zone": names[0]}}]}
            ],
        }
    )


def _part(whole: int, parts: int, number: int) -> int:
    each, rest = divmod(whole, parts)
    return each + (number < rest)


def _fleet(chance: random.Random, kind: str, zones: list[str], count: int) -> dict[str, Any]:
    machine = {
        "capacity_rps": chance.choice([80, 100, 150]),
        "service_ms": chance.choice([8, 20, 35]),
        "serves": [{"port": 8080, "protocol": "http"}],
    }
    return {"name": f"fleet-{kind}", "zones": dict.fromkeys(zones), "count": count, "instance": machine}


def _probe(chance: random.Random, number: int) -> dict[str, Any]:
    interval = chance.choice([5, 10, 15])
    return {"name": f"probe-{number + 1}", "interval_s": interval, "timeout_s": min(interval, 4)}


def _group(chance: random.Random, number: int, kind: str) -> dict[str, Any]:
    target = {"fleet": f"fleet-{kind}", "weight": chance.randint(1, 3)}
    return {"name": kind, "port": 8080, "probe": f"probe-{number % 3 + 1}", "targets": [target]}


def _balancer(chance: random.Random, number: int, zones: list[str], kinds: list[str], rules: int) -> dict[str, Any]:
    made = [
        {
            "name": f"rule-{rule + 1}",
            "when": {"path": [f"/p{rule + 1}/*"]},
            "do": {"pool": f"pool-{kinds[rule % len(kinds)]}"},
        }
        for rule in range(rules)
    ]
    otherwise = {"pool": f"pool-{chance.choice(kinds)}"}
    listener = {"name": "https", "protocol": "https", "port": 443, "rules": made, "otherwise": otherwise}
    listener |= {"certificate": "public"}
    return {"name": f"front-{number + 1}", "zones": dict.fromkeys(zones), "listeners": [listener]}


def _name(number: int) -> dict[str, Any]:
    return {"name": f"www{number + 1}.beckwater.example", "answers": [{"balancer": f"front-{number + 1}"}]}


def _clients(number: int, targets: int, regions: int, rules: int) -> dict[str, Any]:
    host = f"https://www{number + 1}.beckwater.example"
    calls = [{"url": f"{host}/p{rule + 1}/x"} for rule in range(max(rules // regions, 1))]
    return {"name": f"clients-{number + 1}", "area": "near", "rps": max(targets * 40 // regions, 1), "calls": calls}
