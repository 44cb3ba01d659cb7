"""A small plan, one call of it, and what goes wrong at second 10: for closed forms of what fails."""

from typing import Any

from tests.simulation.requests import score
from tests.support.plans import fail

RPS = 120.0
# The calls of sources so many that none of them ever has a connection that is still open.
CROWD = 1_000_000
ZONES = [f"fells-{number}" for number in range(1, 6)]


class World:
    """One balancer in a region of n zones and T targets, spread evenly; what is changed makes the case."""

    def __init__(self, targets: int = 6, zones: int = 3) -> None:
        self.targets, self.zones = targets, ZONES[:zones]
        self.group: dict[str, Any] = {"reach": "any", "connect_timeout_s": 1}
        self.balancer: dict[str, Any] = {"addresses": []}
        self.client: dict[str, Any] = {
            "sources": 60,
            "timeout_s": 60,
            "connect_timeout_s": 2,
            "tries_next_address": False,
        }
        self.name: dict[str, Any] = {"ttl_s": 100, "answers": [{"balancer": "front"}]}
        self.machine: dict[str, Any] = {"capacity_rps": None, "queue_s": 0}
        self.more: dict[str, Any] = {}
        self.layer, self.second, self.inside, self.alias = 7, False, False, False
        self.steps: list[dict[str, Any]] = []
        self.at_s = 10.0

    # What happens at second 10

    def bad(self, count: int, *, silent: bool = False) -> "World":
        """The first so many targets refuse, or are silent."""
        kind = "instance" if silent else "process"
        self.steps += [fail(10, **{kind: f"t-{number}"}) for number in range(1, count + 1)]
        return self

    def dead(self, count: int) -> "World":
        """The first so many fronts die, and stay in their address."""
        self.balancer["front_failover_s"] = 500
        front = "in" if self.inside else "front"
        self.steps += [fail(10, front={"balancer": front, "zone": zone}) for zone in self.zones[:count]]
        return self

    # What there is

    def at_layer_4(self, sources: int = 60) -> "World":
        """Everything at layer 4; the more sources, the fewer of them have a connection open."""
        self.layer, self.client["sources"] = 4, sources
        self.client["connection_s"] = 0.01 if sources == CROWD else 40
        return self

    def with_outside(self, choose: str = "all") -> "World":
        """A second answer that no part of the plan owns."""
        self.name |= {"answers": [*self.name["answers"], {"address": "198.51.100.9"}], "choose": choose}
        return self

    def with_second(self, choose: str = "order") -> "World":
        """A second balancer on a coast of its own, with one target, which answers by `choose`."""
        self.second = True
        self.name |= {"answers": [*self.name["answers"], {"balancer": "shore"}], "choose": choose}
        return self

    def fading(self, part: float) -> "World":
        """The first region dies; it is noticed at once, and looked at when this share still holds the old answer."""
        self.with_second()
        self.name |= {"probe": "watch", "probed_from": ["uplands"]}
        self.steps.append(fail(10, region="fells"))
        self.at_s = 10 + 3 + 100 * (1 - part)
        return self

    def behind(self) -> "World":
        """The targets stand behind an inner balancer, for which the outer one's only target stands."""
        self.inside = True
        return self

    def data(self) -> dict[str, Any]:
        """The plan."""
        scheme = "http" if self.layer == 7 else "tcp"
        serves = [{"port": 8080, "protocol": "http"}]
        instances = [
            {"name": f"t-{number + 1}", "zone": self.zones[number % len(self.zones)], "serves": serves, **self.machine}
            for number in range(self.targets)
        ]
        members = [{"instance": one["name"]} for one in instances]
        listener = {"name": "web", "protocol": scheme, "port": 80, "otherwise": {"pool": "front"}}
        front = {"name": "front", "zones": dict.fromkeys(self.zones), "layer": self.layer, "listeners": [listener]}
        group = {"name": "g", "port": 8080, "protocol": scheme, "targets": members, **self.group}
        made = {
            "northgate": 1, "name": "pairs", "regions": [{"name": "fells", "zones": self.zones}, {"name": "coast",
            "zones": ["coast-1"]}], "areas": [{"name": "uplands", "latency_ms": {"fells": 10, "coast": 30}}],
            "instances": [*instances, {"name": "s", "zone": "coast-1", "serves": serves, **self.machine}],
            "target_groups": [group, {"name": "s", "port": 8080, "protocol": scheme, "targets": [{"instance": "s"}]}],
            "pools": [{"name": name, "tiers": [{"groups": {group: 1}}]} for name, group in (("front", "g"), ("shore",
            "s"))], "balancers": [front | self.balancer], "probes": [{"name": "watch", "protocol": "tcp", "port": 80,
            "interval_s": 3, "timeout_s": 3, "unhealthy_after": 1}], "names": [{"name": "www.beckwater.example",
            **self.name}], "clients": [
                {"name": "walkers", "area": "uplands", "rps": RPS, "cidr": "198.18.0.0/16", **self.client,
                 "calls": [{"url": f"http://{'alias' if self.alias else 'www'}.beckwater.example/"}]},
            ],
        }  # fmt: skip
        if self.second:
            shore = {"name": "shore", "zones": {"coast-1": None}, "layer": self.layer}
            made["balancers"].append({**shore, "listeners": [{**listener, "otherwise": {"pool": "shore"}}]})
        if self.alias:
            made["names"].append(
                {"name": "alias.beckwater.example", "ttl_s": 500, "answers": [{"host": "www.beckwater.example"}]}
            )
        if self.inside:
            self._put_behind(made, listener)
        return made | self.more

    def _put_behind(self, made: dict[str, Any], listener: dict[str, Any]) -> None:
        outer = {"name": "front", "zones": {"fells-1": None}, "layer": self.layer, "addresses": []}
        inner = {**listener, "protocol": "http", "port": 8000, "otherwise": {"pool": "in"}}
        made["balancers"][0] = {**made["balancers"][0], "name": "in", "layer": 7, "listeners": [inner]}
        made["balancers"].append({**outer, "listeners": [listener]})
        outer_group = self.more.pop("outer", {"targets": [{"balancer": "in"}]})
        made["target_groups"][0] = {**made["target_groups"][0], "protocol": "http"}
        scheme = "http" if self.layer == 7 else "tcp"
        made["target_groups"].append({"name": "out", "port": 8000, "protocol": scheme, **outer_group})
        made["pools"][0] = {"name": "in", "tiers": [{"groups": {"g": 1}}]}
        made["pools"].append({"name": "front", "tiers": [{"groups": {"out": 1}}]})

    # Closed forms

    def sources(self) -> list[int]:
        """The addresses of the client's sources: spread evenly over 198.18.0.0/16."""
        count = self.client["sources"]
        return [(198 << 24) + (18 << 16) + number * 65536 // count for number in range(count)]

    def order(self, source: int) -> list[int]:
        """The numbers of the targets in the order in which a source's key falls to them."""
        return sorted(range(1, self.targets + 1), key=lambda number: -score(source, f"t-{number}", 1))

    def hashed(self) -> "World":
        """Targets chosen by source hash."""
        self.group["balance"] = "source-hash"
        return self

    def falls_to_bad(self, bad: int, more: int = 0) -> float:
        """The share of sources whose key falls to bad targets first, and `more` times after that."""
        falls = [all(number <= bad for number in self.order(source)[: more + 1]) for source in self.sources()]
        return sum(falls) / len(falls)
