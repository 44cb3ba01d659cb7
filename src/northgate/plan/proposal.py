"""A first plan from little: regions, machine rows and a URL; the rest is proposed and can be changed."""

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any
from urllib.parse import urlsplit

from northgate.plan.models.document import Plan
from northgate.plan.problems import PlanError, Problem, did_you_mean
from northgate.plan.reading import plan_from_data

# What is proposed where a row says nothing: a modest machine that answers web requests.
CAPACITY_RPS, SERVICE_MS, PORT, RPS_OF_CAPACITY = 100.0, 20.0, 8080, 0.5


@dataclass(frozen=True)
class MachineRow:
    """One machine as pasted: only its name and zone are needed."""

    name: str
    zone: str
    port: int = PORT
    capacity_rps: float = CAPACITY_RPS
    service_ms: float = SERVICE_MS
    fault_domain: str | None = None


def propose(name: str, title: str, regions: dict[str, list[str]], rows: Sequence[MachineRow], url: str) -> Plan:
    """A plan with one pool of all machines behind one balancer a region, a name, a client group and a first drill.

    Machines with the same port make one target group; a zone's loss at half load is the first drill. Raises PlanError
    when there is no machine, and with the row that names an unknown zone.
    """
    if not rows:
        raise PlanError([Problem("/rows", "at least one machine is needed: its name and its zone")])
    zones = [zone for names in regions.values() for zone in names]
    unknown = [(index, row) for index, row in enumerate(rows) if row.zone not in zones]
    if unknown:
        raise PlanError(
            Problem(f"/rows/{index}/zone", f"there is no zone {row.zone!r}{did_you_mean(row.zone, zones)}")
            for index, row in unknown
        )
    host = (urlsplit(url).hostname or "").rstrip(".")
    fronts = [_balancer(region, names, urlsplit(url)) for region, names in regions.items()]
    fullest = Counter(row.zone for row in rows).most_common(1)[0][0]
    return plan_from_data(
        {
            "northgate": 1,
            "name": name,
            "title": title,
            "regions": [{"name": region, "zones": names} for region, names in regions.items()],
            "areas": [{"name": "everywhere", "latency_ms": dict.fromkeys(regions, 20)}],
            "instances": [_instance(row) for row in rows],
            "probes": [{"name": "alive", "path": "/", "interval_s": 10, "timeout_s": 5}],
            "target_groups": _groups(rows),
            "pools": [{"name": "all", "tiers": [{"groups": {group["name"]: 1 for group in _groups(rows)}}]}],
            "certificates": [{"name": "public", "hosts": [host]}] if urlsplit(url).scheme != "http" else [],
            "balancers": fronts,
            "names": [{"name": host, "answers": [{"balancer": front["name"]} for front in fronts]}],
            "clients": [_clients(rows, url)],
            "drills": [_first_drill(fullest)],
        }
    )


def _instance(row: MachineRow) -> dict[str, Any]:
    served = [{"port": row.port, "protocol": "http"}]
    made = {
        "name": row.name, "zone": row.zone, "capacity_rps": row.capacity_rps, "service_ms": row.service_ms,
        "serves": served,
    }  # fmt: skip
    return made | ({"fault_domain": row.fault_domain} if row.fault_domain else {})


def _groups(rows: Sequence[MachineRow]) -> list[dict[str, Any]]:
    ports = list(dict.fromkeys(row.port for row in rows))
    return [
        {
            "name": "app" if len(ports) == 1 else f"app-{port}",
            "port": port,
            "probe": "alive",
            "targets": [{"instance": row.name} for row in rows if row.port == port],
        }
        for port in ports
    ]


def _balancer(region: str, zones: list[str], url: Any) -> dict[str, Any]:
    scheme = url.scheme if url.scheme in ("http", "https") else "https"
    port = url.port or (80 if scheme == "http" else 443)
    listener = {"name": scheme, "protocol": scheme, "port": port, "otherwise": {"pool": "all"}}
    listener |= {"certificate": "public"} if scheme == "https" else {}
    return {"name": f"{region}-front", "zones": dict.fromkeys(zones), "listeners": [listener]}


def _clients(rows: Sequence[MachineRow], url: str) -> dict[str, Any]:
    rps = round(sum(row.capacity_rps for row in rows) * RPS_OF_CAPACITY)
    return {"name": "everybody", "area": "everywhere", "rps": rps, "calls": [{"url": url}]}


def _first_drill(zone: str) -> dict[str, Any]:
    return {
        "name": f"lose-{zone}",
        "title": f"lose {zone}",
        "lasts_s": 600,
        "steps": [{"at_s": 60, "fail": {"zone": zone}}, {"at_s": 360, "restore": {"zone": zone}}],
        "expect": [{"reading": "failed_share", "at_most": 0.01}, {"reading": "peak_utilisation", "at_most": 0.9}],
    }
