"""A first plan from little: regions, machine rows and a URL; the rest is proposed and can be changed."""

from collections import Counter
from collections.abc import Iterable, Sequence
from fractions import Fraction
from math import gcd, lcm
from typing import Any
from urllib.parse import urlsplit, urlunsplit

from msgspec import Struct

from northgate.plan.models.document import Plan
from northgate.plan.problems import PlanError, Problem, did_you_mean
from northgate.plan.reading import plan_from_data

# What is proposed where a row says nothing: a modest machine that answers web requests.
CAPACITY_RPS, SERVICE_MS, PORT, RPS_OF_CAPACITY = 100.0, 20.0, 8080, 0.5


class MachineRow(Struct, frozen=True):
    """One machine as pasted: only its name and zone are needed."""

    name: str
    zone: str
    port: int = PORT
    capacity_rps: float = CAPACITY_RPS
    service_ms: float = SERVICE_MS
    fault_domain: str | None = None


def propose(name: str, title: str, regions: dict[str, list[str]], rows: Sequence[MachineRow], url: str) -> Plan:
    """A plan of these machines: a target group, a pool and a rule a port, a balancer a region in which machines stand,
    a name that leads to them, a client group that loads every machine to half of what it can carry, and a first drill
    that loses the fullest zone.

    The first port serves whatever no rule takes. Raises PlanError when there is no machine, and with the row that names
    an unknown zone.
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
    idle = [index for index, row in enumerate(rows) if not row.capacity_rps > 0]
    if idle:
        raise PlanError(Problem(f"/rows/{index}/capacity_rps", "must be greater than 0") for index in idle)
    asked = urlsplit(url)
    host = (asked.hostname or "").rstrip(".")
    ports = _ports(regions, rows)
    used = {region: names for region, names in regions.items() if any(row.zone in names for row in rows)}
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
            "target_groups": [_group(port) for port in ports],
            "pools": [{"name": port.group, "tiers": [{"groups": {port.group: 1}}]} for port in ports],
            "certificates": [{"name": "public", "hosts": [host]}] if asked.scheme != "http" else [],
            "balancers": [_balancer(region, names, asked, ports) for region, names in used.items()],
            "names": [_name(host, used, rows)],
            "clients": [_clients(ports, url)],
            "drills": [_first_drill(fullest)],
        }
    )


class Server(Struct, frozen=True):
    """A server that is already there and is asked at an address of its own; `rps` is what its clients ask."""

    name: str
    public_address: str
    region: str = "here"
    zone: str = "here-1"
    rps: float = CAPACITY_RPS * RPS_OF_CAPACITY
    capacity_rps: float = CAPACITY_RPS
    service_ms: float = SERVICE_MS


def propose_server(name: str, title: str, server: Server, url: str) -> Plan:
    """A plan of one server as it stands today: a name leads straight to it, clients ask it, and a first drill crashes
    its process."""
    asked = urlsplit(url)
    host, port = (asked.hostname or "").rstrip("."), asked.port or (80 if asked.scheme == "http" else 443)
    crash = {"process": server.name}
    service = {"port": port, "protocol": asked.scheme if asked.scheme in ("http", "https") else "https"}
    return plan_from_data(
        {
            "northgate": 1,
            "name": name,
            "title": title,
            "regions": [{"name": server.region, "zones": [server.zone]}],
            "areas": [{"name": "everywhere", "latency_ms": {server.region: 20}}],
            "instances": [
                {
                    "name": server.name, "zone": server.zone, "public_address": server.public_address,
                    "capacity_rps": server.capacity_rps, "service_ms": server.service_ms, "serves": [service],
                }
            ],
            "names": [{"name": host, "answers": [{"instance": server.name}]}],
            "clients": [{"name": "everybody", "area": "everywhere", "rps": server.rps, "calls": [{"url": url}]}],
            "drills": [
                {
                    "name": f"{server.name}-crashes",
                    "title": f"the process on {server.name} crashes",
                    "lasts_s": 300,
                    "steps": [{"at_s": 60, "fail": crash}, {"at_s": 180, "restore": crash}],
                }
            ],
        }
    )  # fmt: skip


class _Port(Struct, frozen=True):
    """The machines that serve one port, and whether each region has the same part of them as of all machines."""

    group: str
    number: int
    rows: tuple[MachineRow, ...]
    spread_alike: bool

    @property
    def capacity_rps(self) -> float:
        return _capacity(self.rows)


def _capacity(rows: Iterable[MachineRow]) -> float:
    return sum(row.capacity_rps for row in rows)


def _ports(regions: dict[str, list[str]], rows: Sequence[MachineRow]) -> list[_Port]:
    numbers = list(dict.fromkeys(row.port for row in rows))
    parts = _parts(regions, rows)
    found = []
    for number in numbers:
        mine = tuple(row for row in rows if row.port == number)
        alike = all(abs(one - other) < 1e-9 for one, other in zip(_parts(regions, mine), parts, strict=True))
        found.append(_Port("app" if len(numbers) == 1 else f"app-{number}", number, mine, alike))
    return found


def _parts(regions: dict[str, list[str]], rows: Sequence[MachineRow]) -> list[float]:
    """Which part of what these machines carry stands in each region."""
    return [_capacity(row for row in rows if row.zone in zones) / _capacity(rows) for zones in regions.values()]


def _weights(values: Sequence[float]) -> list[int]:
    """Whole numbers in proportion to these, as small as can be (to a thousandth)."""
    fractions = [Fraction(value).limit_denominator(1000) for value in values]
    common = lcm(*(one.denominator for one in fractions))
    whole = [int(one * common) for one in fractions]
    return [one // gcd(*whole) for one in whole]


def _instance(row: MachineRow) -> dict[str, Any]:
    served = [{"port": row.port, "protocol": "http"}]
    made = {
        "name": row.name, "zone": row.zone, "capacity_rps": row.capacity_rps, "service_ms": row.service_ms,
        "serves": served,
    }  # fmt: skip
    return made | ({"fault_domain": row.fault_domain} if row.fault_domain else {})


def _group(port: _Port) -> dict[str, Any]:
    """Weights follow what machines can carry; where a region has less than its part, targets of others help out."""
    same = len({row.capacity_rps for row in port.rows}) == 1
    weights = [1] * len(port.rows) if same else _weights([row.capacity_rps for row in port.rows])
    targets = [{"instance": row.name, "weight": weight} for row, weight in zip(port.rows, weights, strict=True)]
    made = {"name": port.group, "port": port.number, "probe": "alive", "targets": targets}
    return made | ({} if port.spread_alike else {"reach": "any"})


def _balancer(region: str, zones: list[str], url: Any, ports: Sequence[_Port]) -> dict[str, Any]:
    scheme = url.scheme if url.scheme in ("http", "https") else "https"
    port = url.port or (80 if scheme == "http" else 443)
    first, *others = ports
    rules = [{"name": one.group, "when": {"path": [f"/{one.group}/*"]}, "do": {"pool": one.group}} for one in others]
    listener = {"name": scheme, "protocol": scheme, "port": port, "rules": rules, "otherwise": {"pool": first.group}}
    listener |= {"certificate": "public"} if scheme == "https" else {}
    return {"name": f"{region}-front", "zones": dict.fromkeys(zones), "listeners": [listener]}


def _name(host: str, regions: dict[str, list[str]], rows: Sequence[MachineRow]) -> dict[str, Any]:
    """Answers by share, as much as each region can carry; one answer needs no choice."""
    if len(regions) == 1:
        return {"name": host, "answers": [{"balancer": f"{region}-front"} for region in regions]}
    weights = _weights([_capacity(row for row in rows if row.zone in zones) for zones in regions.values()])
    answers = zip(regions, weights, strict=True)
    return {
        "name": host,
        "choose": "share",
        "answers": [{"balancer": f"{region}-front", "weight": weight} for region, weight in answers],
    }


def _clients(ports: Sequence[_Port], url: str) -> dict[str, Any]:
    """One call a port, as often as its machines can carry."""
    first, *others = ports
    scheme, place, *_ = urlsplit(url)
    calls = [{"url": url, "share": first.capacity_rps}]
    calls += [
        {"url": urlunsplit((scheme, place, f"/{one.group}/", "", "")), "share": one.capacity_rps} for one in others
    ]
    rps = sum(port.capacity_rps for port in ports) * RPS_OF_CAPACITY
    return {"name": "everybody", "area": "everywhere", "rps": rps, "calls": calls}


def _first_drill(zone: str) -> dict[str, Any]:
    return {
        "name": f"lose-{zone}",
        "title": f"lose {zone}",
        "lasts_s": 600,
        "steps": [{"at_s": 60, "fail": {"zone": zone}}, {"at_s": 360, "restore": {"zone": zone}}],
        "expect": [{"reading": "failed_share", "at_most": 0.01}, {"reading": "peak_utilisation", "at_most": 0.9}],
    }
