"""A plan in which no rule finds anything, and changes to it of which each makes one rule find something."""

import copy
import datetime
from typing import Any

from northgate.engine.reports.losses import LossRow
from northgate.plan import plan_from_data
from northgate.review import FindingAnswer, review
from tests.support.plans import changed

TODAY = datetime.date(2027, 1, 15)
WWW, GAUGES = "www.beckwater.example", "gauges.beckwater.example"


def machine(port: int, capacity: float, firewall: str = "app", **more: Any) -> dict[str, Any]:
    pages = {"/": 200, "/ready": 200}
    served = {"port": port, "protocol": "http", "pages": pages}
    return {"capacity_rps": capacity, "service_ms": 20, "firewall": firewall, "serves": [served], **more}


def allow(port: int, source: str) -> dict[str, Any]:
    return {"protocol": "tcp", "ports": [str(port)], "from": source}


def balancer(name: str, zones: list[str], address: str) -> dict[str, Any]:
    rule = {"name": "alerts", "when": {"host": [WWW], "path": ["/alerts/*"]}, "do": {"pool": "alerts"}}
    redirect = {"redirect": {"protocol": "https", "port": 443}}
    secure = {"name": "https", "protocol": "https", "port": 443, "certificate": "public"}
    return {
        "name": name,
        "zones": {zone: f"{zone}-net" for zone in zones},
        "addresses": [address],
        "firewall": "edge",
        "listeners": [
            {**secure, "rules": [rule], "otherwise": {"pool": "web"}},
            {"name": "http", "protocol": "http", "port": 80, "otherwise": redirect},
        ],
    }


def region(name: str, number: int) -> dict[str, Any]:
    zones = [f"{name}-{zone}" for zone in (1, 2)]
    subnets = [
        {"name": f"{zone}-net", "cidr": f"10.{number}.{place}.0/24", "zone": zone} for place, zone in enumerate(zones)
    ]
    peers = [{"fells": "coast-net", "coast": "fells-net"}[name]]
    return {"name": f"{name}-net", "region": name, "cidr": f"10.{number}.0.0/16", "peers": peers, "subnets": subnets}


def group(name: str, port: int, fleets: list[str]) -> dict[str, Any]:
    targets = [{"fleet": fleet} for fleet in fleets]
    return {"name": name, "port": port, "probe": "ready", "targets": targets}


def whole() -> dict[str, Any]:
    """Two regions of two zones, each able to do all; nothing to find."""
    fells, coast = ({f"{name}-{zone}": f"{name}-{zone}-net" for zone in (1, 2)} for name in ("fells", "coast"))
    calls = [
        {"url": f"https://{WWW}/tiles/7", "share": 3}, {"url": f"https://{WWW}/alerts/near"}, {"url": f"http://{WWW}/"},
    ]  # fmt: skip
    return {
        "northgate": 1,
        "name": "whole",
        "regions": [{"name": name, "zones": [f"{name}-1", f"{name}-2"]} for name in ("fells", "coast")],
        "areas": [{"name": "uplands", "latency_ms": {"fells": 12, "coast": 30}}],
        "networks": [region("fells", 20), region("coast", 30)],
        "firewalls": [
            {"name": "edge", "allow_in": [allow(80, "any"), allow(443, "any")]},
            {
                "name": "app",
                "allow_in": [
                    allow(port, f"balancer:{name}") for port in (8080, 8081) for name in ("fells-front", "coast-front")
                ],
            },
        ],
        "fleets": [
            {"name": "tiles", "zones": fells, "count": 4, "instance": machine(8080, 400)},
            {"name": "tiles-c", "zones": coast, "count": 4, "instance": machine(8080, 400)},
            {"name": "alerts", "zones": fells, "count": 4, "instance": machine(8081, 400)},
            {"name": "alerts-c", "zones": coast, "count": 4, "instance": machine(8081, 400)},
        ],
        "probes": [
            {"name": "ready", "path": "/ready"},
            {"name": "front", "protocol": "https", "port": 443, "path": "/ready", "host": WWW},
        ],
        "target_groups": [group("tiles", 8080, ["tiles", "tiles-c"]), group("alerts", 8081, ["alerts", "alerts-c"])],
        "pools": [
            {"name": "web", "tiers": [{"groups": {"tiles": 1}}]},
            {"name": "alerts", "tiers": [{"groups": {"alerts": 1}}, {"groups": {"tiles": 1}}]},
        ],
        "certificates": [{"name": "public", "hosts": ["*.beckwater.example"], "expires": "2027-09-01"}],
        "balancers": [
            balancer("fells-front", ["fells-1", "fells-2"], "203.0.113.10"),
            balancer("coast-front", ["coast-1", "coast-2"], "203.0.113.20"),
        ],
        "names": [
            {
                "name": WWW,
                "ttl_s": 30,
                "answers": [{"balancer": "fells-front"}, {"balancer": "coast-front"}],
                "probe": "front",
                "probed_from": ["uplands"],
            }
        ],
        "clients": [{"name": "walkers", "area": "uplands", "rps": 300, "calls": calls}],
        "drills": [
            {
                "name": "lose-fells-1",
                "steps": [{"at_s": 60, "fail": {"zone": "fells-1"}}],
                "expect": [{"reading": "failed_share", "at_most": 0.1}],
            }
        ],
    }


def but(*changes: tuple[str, Any]) -> dict[str, Any]:
    """The whole plan with values set, by pointers."""
    data = whole()
    for place, value in changes:
        data = changed(data, place, value)
    return data


def without(place: str, data: dict[str, Any] | None = None) -> dict[str, Any]:
    """The whole plan, or another, without a value."""
    made = copy.deepcopy(data or whole())
    inner: Any = made
    *way, last = place.strip("/").split("/")
    for step in way:
        inner = inner[int(step)] if isinstance(inner, list) else inner[step]
    del inner[int(last) if isinstance(inner, list) else last]
    return made


def found(data: dict[str, Any], losses: list[LossRow] | None = None) -> list[FindingAnswer]:
    """What a review of a plan's data finds."""
    return review(plan_from_data(data), TODAY, losses).findings
