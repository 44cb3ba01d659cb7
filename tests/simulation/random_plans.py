"""Random small plans with a drill, for the engine and the simulation to agree on."""

import random
from typing import Any

from tests.support.plans import plan_data

ZONES = ["fells-1", "fells-2", "fells-3"]
PAGES = {"/": 200, "/ready": 200}
KINDS = (
    "plain", "clients", "busy", "queues", "names", "ways", "several", "clients", "behind", "queues", "several", "names",
)  # fmt: skip
LASTS_S = 110
# With so many requests a second some are always under way at each of few targets.
BUSY_RPS = 100
# How much longer what is slow takes: little, or longer than any probe waits.
FACTORS = [2, 60]


def random_plan(seed: int) -> dict[str, Any]:
    """A plan with one to three faults of any kind, most of them taken back, and at times a surge or a drain."""
    chance = random.Random(seed)
    data = _plain(chance)
    kind = KINDS[seed % len(KINDS)]
    if kind != "plain":
        made = {
            "clients": _clients, "busy": _busy, "queues": _queues, "names": _names, "ways": _ways, "several": _several,
            "behind": _behind,
        }  # fmt: skip
        made[kind](chance, data)
    for balancer in data["balancers"]:
        # Calls are three seconds apart on the mean: in a third of the plans many find their connection closed.
        balancer["idle_timeout_s"] = 2 if seed % 3 == 0 else 60
    if seed % 4 == 1:
        _tag(data)
    drill = {"name": "any", "lasts_s": LASTS_S, "phases": "spread", "steps": _steps(chance, data)}
    return data | {"drills": [drill]}


def random_plan_by_hand(seed: int) -> dict[str, Any]:
    """A plan with one to three things done by hand, in some plans beside faults."""
    data, chance = random_plan(seed), random.Random(f"by hand {seed}")
    steps = data["drills"][0]["steps"] if chance.random() < 0.4 else []
    for number in range(chance.randint(1, 3)):
        at_s = chance.randint(4, 70) + 0.13 + 0.17 * number
        steps.append({"at_s": at_s, **_by_hand(chance, data)})
    return data | {"drills": [data["drills"][0] | {"steps": sorted(steps, key=lambda step: step["at_s"])}]}


def _by_hand(chance: random.Random, data: dict[str, Any]) -> dict[str, Any]:
    fleet, names = chance.choice(data["fleets"]), [one for one in data["names"] if not one.get("probe")]
    balancers = [{"balancer": one["name"]} for one in data["balancers"]]
    ways: list[dict[str, Any]] = [
        {"scale": {"fleet": fleet["name"], "count": chance.choice([0, 1, 2, fleet["count"] + chance.randint(1, 3)])}},
        {"remove": {"instance": f"{fleet['name']}-{chance.randint(1, fleet['count'])}"}},
        {"roll": {
            "group": chance.choice(data["target_groups"])["name"], "batch": chance.randint(1, 3),
            "wait_for": chance.choice(["in_use", "restarted"]), "restart_s": chance.choice([0, 3, 7.5]),
        }},
    ]  # fmt: skip
    # What probes of a name make of answers that are new to them is not simulated.
    for name in names:
        answers = chance.sample(balancers, chance.randint(0, len(balancers)))
        ways.append({"change_answers": {"name": name["name"], "answers": answers}})
    return chance.choice(ways)


def _tag(data: dict[str, Any]) -> None:
    """Groups take fleets by a tag of their machines instead of by their name."""
    for fleet in data["fleets"]:
        fleet["instance"] = {**fleet["instance"], "tags": ["wet", fleet["name"]]}
    for group in data["target_groups"]:
        group["targets"] = [
            {**{key: value for key, value in target.items() if key != "fleet"}, "tagged": target["fleet"]}
            if "fleet" in target
            else target
            for target in group["targets"]
        ]


def _plain(chance: random.Random) -> dict[str, Any]:
    """One balancer, pools of one or two tiers; nobody waits."""
    fleets = []
    for number, name in enumerate(("tiles", "other")):
        serves = [{"port": 8080, "protocol": "http", "pages": PAGES}, {"port": 9090, "protocol": "tcp"}]
        machine = {"capacity_rps": None, "service_ms": 50, "serves": serves, "firewall": "app"}
        machine |= {"fault_domain": f"rack-{number}", "maintenance_wave": number}
        fleets.append({"name": name, "zones": dict.fromkeys(ZONES), "count": chance.randint(2, 6), "instance": machine})
    probe = {
        "name": "ready",
        "path": "/ready",
        "interval_s": chance.choice([5, 8, 10]),
        "timeout_s": chance.choice([1, 2.5]),
        "unhealthy_after": chance.randint(1, 3),
        "healthy_after": chance.randint(1, 3),
        "next_after": chance.choice(["send", "result"]),
    }
    allowed = [
        {"protocol": "tcp", "ports": ["8080"], "from": "balancer:front"},
        {"protocol": "tcp", "ports": ["8000-8090"], "from": "balancer:back"},
    ]
    web = [{"protocol": "tcp", "ports": ["443"], "from": "any"}]
    names = chance.choice([["tiles"], ["tiles", "more"], ["more", "tiles"]])
    tiers = [
        {
            "groups": {name: chance.randint(1, 4) for name in (names if number == 0 else names[-1:])},
            "min_healthy": chance.choice([{"count": 1}, {"count": 3}, {"share": 0.5}]),
            "empty_group": chance.choice(["share-out", "fail"]),
        }
        for number in range(chance.randint(1, 2))
    ]
    data = plan_data(
        fleets=fleets,
        probes=[probe],
        target_groups=[_group(chance, name) for name in ("tiles", "more")],
        pools=[{"name": "web", "tiers": tiers}],
        firewalls=[{"name": "app", "allow_in": allowed}, {"name": "edge", "allow_in": web}],
    )
    data["balancers"][0]["firewall"] = "edge"
    data["balancers"].append({**data["balancers"][0], "name": "back", "addresses": ["203.0.113.20"]})
    data["clients"][0] |= {"rps": 20, "sources": 60, "connect_timeout_s": 1, "cidr": "198.18.0.0/16"}
    return data


def _group(chance: random.Random, name: str) -> dict[str, Any]:
    fleets = chance.choice([["tiles"], ["other"], ["tiles", "other"]])
    return {
        "name": name,
        "port": 8080,
        "probe": chance.choice(["ready", "ready", "ready", None]),
        "targets": [{"fleet": fleet, "weight": chance.randint(1, 3)} for fleet in fleets],
        "reach": chance.choice(["zone", "prefer-zone", "region"]),
        "when_none_healthy": chance.choice(["refuse", "send-anyway"]),
    }


def _clients(chance: random.Random, data: dict[str, Any]) -> None:
    """What clients hold and repeat, and how they find the fronts: one or two things each time."""
    client, balancer, groups = data["clients"][0], data["balancers"][0], data["target_groups"]
    what = chance.choice(["hash", "sessions", "connections", "addresses", "others", "held others"])
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
        # Targets see the clients; the balancer's rule lets in its probes alone.
        data["firewalls"][0]["allow_in"].append({"protocol": "tcp", "ports": ["8080"], "from": "198.18.0.0/15"})
        client |= {"connection_s": chance.choice([10, 60]), "retries": chance.choice([0, 0, 1])}
        for group in groups:
            group |= {"on_out": chance.choice(["keep", "reset"]), "drain_s": 20}
    elif what == "addresses":
        balancer |= {"address_kind": "per-zone", "addresses": []}
        client["tries_next_address"] = chance.random() < 0.5
        client["overholds"] = chance.choice([{"share": 0, "s": 0}, {"share": 0.4, "s": 50}])
        data["names"][0]["ttl_s"] = chance.choice([10, 40])
    else:
        for group in groups:
            group |= {"try_others": chance.choice([1, 2]), "connect_timeout_s": chance.choice([2, 6])}
        client["retries"] = chance.choice([0, 1])
        if what == "held others":
            held = chance.choice(
                [{"balance": "source-hash"}, {"affinity": {"by": "cookie", "renews": False, "lasts_s": 30}}]
            )
            groups[0] |= held
            groups[1] |= chance.choice([held, {}])
            client["retries"] = 1


def _busy(chance: random.Random, data: dict[str, Any]) -> None:
    """Chosen by how busy they are: as many requests under way at each target as make the methods' means hold."""
    method = chance.choice(["least-connections", "two-choices"])
    for group in data["target_groups"]:
        group |= {"balance": method, "connect_timeout_s": 0.4, "reach": "region"}
        group["targets"] = [{"fleet": "tiles", "weight": 1}]
    data["fleets"][0]["instance"]["service_ms"] = 400
    data["fleets"][0]["count"] = 4
    data["balancers"][0]["zones"] = dict.fromkeys(ZONES[:2])
    data["clients"][0] |= {"rps": BUSY_RPS, "timeout_s": 20}


def _queues(chance: random.Random, data: dict[str, Any]) -> None:
    """Machines that some losses overload, with queues that fill long before anybody loses patience."""
    for group in data["target_groups"]:
        group["balance"] = chance.choice(["round-robin", "flow-hash"])
    for fleet in data["fleets"]:
        fleet["count"] = 3
        fleet["instance"] |= {"capacity_rps": 12, "service_ms": 80, "queue_s": 2}
    data["probes"][0] |= {"timeout_s": 4.5, "interval_s": 8}
    data["clients"][0] |= {"rps": 24, "timeout_s": 30}


def _names(chance: random.Random, data: dict[str, Any]) -> None:
    """Two balancers behind a name, in two regions, watched from two areas."""
    data["regions"].append({"name": "coast", "zones": ["coast-1", "coast-2"]})
    data["areas"] = [
        {"name": "uplands", "latency_ms": {"fells": 12, "coast": 34}},
        {"name": "lowlands", "latency_ms": {"fells": 30, "coast": 20}},
    ]
    data["fleets"][1]["zones"] = {"fells-1": None, "coast-1": None, "coast-2": None}
    data["fleets"][1]["count"] = 3
    data["balancers"][1]["zones"] = dict.fromkeys(["coast-1", "coast-2"])
    for group in data["target_groups"]:
        group["targets"] = [{"fleet": "tiles", "weight": 1}, {"fleet": "other", "weight": 2}]
    data["probes"].append(
        {"name": "watch", "protocol": "https", "port": 443, "path": "/ready", "timeout_s": 5}
        | {"interval_s": chance.choice([5, 10]), "unhealthy_after": chance.randint(1, 2), "healthy_after": 2}
    )
    data["names"][0] |= {
        "answers": [{"balancer": "front"}, {"balancer": "back", "weight": 2, "areas": ["lowlands"]}],
        "choose": chance.choice(["order", "share", "nearest", "area", "all"]),
        "standby_share": chance.choice([0, 0.2]),
        "probe": chance.choice(["watch", "watch", "watch", None]),
        "probed_from": ["uplands", "lowlands"],
        "ttl_s": chance.choice([0, 20, 40]),
    }
    client = data["clients"][0]
    client["overholds"] = chance.choice([{"share": 0, "s": 0}, {"share": 0.3, "s": 60}])
    data["clients"].append({**client, "name": "townsfolk", "area": "lowlands", "rps": 10, "cidr": "198.19.0.0/16"})


def _several(chance: random.Random, data: dict[str, Any]) -> None:
    """Several addresses for each answer, of fronts or of balancers, with repeats, next addresses, keys, sessions and
    connections; an alias before the name, and an answer outside the plan."""
    front, back = data["balancers"]
    client, name = data["clients"][0], data["names"][0]
    front |= {"address_kind": chance.choice(["per-zone", "shared"]), "addresses": []}
    back |= {"zones": {"fells-2": None}, "addresses": []}
    name |= {
        "answers": [{"balancer": "front"}, {"balancer": "back", "weight": 2}],
        "choose": chance.choice(["all", "all", "share", "order"]),
        "ttl_s": chance.choice([10, 30]),
    }
    if chance.random() < 0.3:
        name["answers"].append({"address": "198.51.100.9"})
    client |= {
        "retries": chance.choice([0, 1, 2]),
        "tries_next_address": chance.random() < 0.7,
        "connect_timeout_s": chance.choice([1, 2]),
        "timeout_s": chance.choice([1.5, 10]),
        "overholds": chance.choice([{"share": 0, "s": 0}, {"share": 0.4, "s": 50}]),
    }
    for group in data["target_groups"]:
        group["balance"] = chance.choice(["round-robin", "round-robin", "flow-hash", "source-hash"])
    if chance.random() < 0.5:
        for one in (front, back):
            one |= {
                "layer": 4,
                "listeners": [{"name": "tls", "protocol": "tls", "port": 443, "otherwise": {"pool": "web"}}],
            }
        data["firewalls"][0]["allow_in"].append({"protocol": "tcp", "ports": ["8080"], "from": "198.18.0.0/15"})
        client["connection_s"] = chance.choice([1, 10])
        for group in data["target_groups"]:
            group |= {"balance": "round-robin", "on_out": chance.choice(["keep", "reset"])}
        data["target_groups"][0]["affinity"] = chance.choice(
            [{"by": "none"}, {"by": "source", "renews": True}, {"by": "source", "renews": False, "lasts_s": 400}]
        )
    if chance.random() < 0.4:
        data["names"].append(
            {"name": "alias.beckwater.example", "ttl_s": 20, "answers": [{"host": "www.beckwater.example"}]}
        )
        client["calls"] = [{"url": "https://alias.beckwater.example/tiles/7"}]


def _behind(chance: random.Random, data: dict[str, Any]) -> None:
    """A balancer behind another, and something outside beside it, probed as the targets that they are."""
    data["balancers"][1] |= {
        "exposure": "internal", "firewall": None,
        "listeners": [{"name": "http", "protocol": "http", "port": 8080, "otherwise": {"pool": "inner"}}],
    }  # fmt: skip
    inner = {**data["target_groups"][0], "name": "inner", "targets": [{"fleet": "tiles"}], "probe": "ready"}
    ends = [
        {"balancer": "back", "weight": 2},
        *chance.choice([[], [{"address": "198.51.100.9"}], [{"fleet": "other"}]]),
    ]
    data["probes"].append({**data["probes"][0], "name": "connects", "protocol": "tcp"})
    data["target_groups"][0] |= {"targets": ends, "probe": chance.choice(["ready", "connects"]), "reach": "region"}
    data["target_groups"].append(inner)
    data["pools"].append({"name": "inner", "tiers": [{"groups": {"inner": 1}}]})
    data["clients"][0]["retries"] = chance.choice([0, 1])


def _ways(chance: random.Random, data: dict[str, Any]) -> None:
    """Rules by path, what the balancer answers itself, and two kinds of request."""
    rules = [
        {"name": "gauges", "when": {"path": ["/gauges/*"]}, "do": {"pool": "gauges"}},
        {"name": "old", "when": {"path": ["/old"]}, "do": {"redirect": {"host": "www.beckwater.example"}}},
        {"name": "gone", "when": {"path": ["/gone*"]}, "do": {"respond": {"status": 410}}},
    ]
    data["balancers"][0]["listeners"][0]["rules"] = rules
    data["pools"].append({"name": "gauges", "tiers": [{"groups": {"more": 1}}]})
    urls = ["tiles/7", "gauges/3", "old", "gone/by"]
    data["clients"][0]["calls"] = [
        {"url": f"https://www.beckwater.example/{url}", "share": chance.randint(1, 3)} for url in urls
    ]


def _steps(chance: random.Random, data: dict[str, Any]) -> list[dict[str, Any]]:
    parts: list[dict[str, Any]] = [
        {"zone": chance.choice(ZONES)},
        {"instance": chance.choice(["tiles-1", "other-2"])},
        {"process": chance.choice(["tiles-2", "other-1"])},
        {"page": chance.choice(["/ready", "/tiles"]), "status": 503},
        {"front": {"balancer": "front", "zone": chance.choice(ZONES[:2])}},
        *([{"front": {"balancer": "back", "zone": "fells-2"}}] if len(data["balancers"][1]["zones"]) < 3 else []),
        {"link": ["fells-1", "fells-3"]},
        {"region": "fells"},
        {"slow": chance.choice(["tiles-1", "tiles-2"]), "factor": chance.choice(FACTORS)},
        {"firewall": chance.choice(["app", "edge"]), "rule": 0},
        {"fault_domain": chance.choice(["rack-0", "rack-1"])},
        {"maintenance_wave": chance.choice([0, 1])},
    ]
    steps: list[dict[str, Any]] = []
    for part in chance.sample(parts, chance.randint(1, 3)):
        start = chance.randint(5, 45) + 0.37
        steps.append({"at_s": start, "fail": part})
        if chance.random() < 0.7:
            steps.append({"at_s": start + chance.randint(3, 50) + 0.11, "restore": part})
    if chance.random() < 0.4:
        start = chance.randint(10, 70) + 0.53
        steps.append({"at_s": start, "drain": {"instance": "tiles-1"}})
        if chance.random() < 0.7:
            steps.append({"at_s": start + chance.randint(10, 30), "undrain": {"instance": "tiles-1"}})
    if chance.random() < 0.4:
        factor = chance.choice([0.5, 1.8]) if data["clients"][0]["rps"] < BUSY_RPS else 1.8
        steps.append({"at_s": chance.randint(10, 70) + 0.71, "surge": {"clients": "walkers", "factor": factor}})
    return steps
