"""Small plans for tests: a dict to change, and the compiled network of it."""

import copy
from typing import Any

from northgate.engine.drill.result import DrillRun
from northgate.engine.drill.run import run_drill
from northgate.engine.network.compile import compile_network
from northgate.engine.network.tables import Network
from northgate.plan import Plan, plan_from_data

BASE: dict[str, Any] = {
    "northgate": 1,
    "name": "small",
    "regions": [{"name": "fells", "zones": ["fells-1", "fells-2", "fells-3"]}],
    "areas": [{"name": "uplands", "latency_ms": {"fells": 12}}],
    "fleets": [
        {
            "name": "tiles",
            "zones": {"fells-1": None, "fells-2": None, "fells-3": None},
            "count": 6,
            "instance": {
                "capacity_rps": 1000,
                "service_ms": 20,
                "serves": [{"port": 8080, "protocol": "http", "pages": {"/": 200, "/ready": 200}}],
            },
        }
    ],
    "probes": [
        {
            "name": "ready",
            "path": "/ready",
            "interval_s": 10,
            "timeout_s": 5,
            "unhealthy_after": 3,
            "healthy_after": 2,
        }
    ],
    "target_groups": [{"name": "tiles", "port": 8080, "probe": "ready", "targets": [{"fleet": "tiles"}]}],
    "pools": [{"name": "web", "tiers": [{"groups": {"tiles": 1}}]}],
    "balancers": [
        {
            "name": "front",
            "zones": {"fells-1": None, "fells-2": None, "fells-3": None},
            "addresses": ["203.0.113.10"],
            "listeners": [{"name": "https", "protocol": "https", "port": 443, "otherwise": {"pool": "web"}}],
        }
    ],
    "names": [{"name": "www.beckwater.example", "answers": [{"balancer": "front"}]}],
    "clients": [
        {"name": "walkers", "area": "uplands", "rps": 600, "calls": [{"url": "https://www.beckwater.example/tiles/7"}]}
    ],
    "drills": [],
}


def plan_data(**changes: Any) -> dict[str, Any]:
    """The base plan's data; a change replaces a top-level field."""
    return {**copy.deepcopy(BASE), **changes}


def changed(data: dict[str, Any], place: str, value: Any) -> dict[str, Any]:
    """A copy with one value set, by a pointer such as `/probes/0/interval_s`."""
    made = copy.deepcopy(data)
    inner = made
    *way, last = place.strip("/").split("/")
    for step in way:
        inner = inner[int(step)] if isinstance(inner, list) else inner[step]
    if isinstance(inner, list):
        inner[int(last)] = value
    else:
        inner[last] = value
    return made


def base_plan(**changes: Any) -> Plan:
    """The base plan."""
    return plan_from_data(plan_data(**changes))


def network_of(data: dict[str, Any]) -> Network:
    """The compiled network of a plan's data."""
    return compile_network(plan_from_data(data))


def drill_of(
    data: dict[str, Any], steps: list[dict[str, Any]], *, phases: str = "worst", lasts_s: float = 600, **more: Any
) -> DrillRun:
    """Runs one drill on a plan's data."""
    script = {"name": "test", "lasts_s": lasts_s, "phases": phases, "steps": steps, **more}
    network = network_of({**data, "drills": [script]})
    return run_drill(network, network.plan.drills[0])


def fail(at_s: float, **part: Any) -> dict[str, Any]:
    """A step that fails a part."""
    return {"at_s": at_s, "fail": part}


def restore(at_s: float, **part: Any) -> dict[str, Any]:
    """A step that brings a part back."""
    return {"at_s": at_s, "restore": part}


def surge(at_s: float, factor: float) -> dict[str, Any]:
    """A step in which the walkers begin to ask for so many times as much."""
    return {"at_s": at_s, "surge": {"clients": "walkers", "factor": factor}}
