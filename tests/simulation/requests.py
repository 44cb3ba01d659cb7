"""A simulation of single requests and single probes, written from the description of the engine and sharing none of its
code: what it counts over many runs must agree with what the engine computes.

It knows what the plans of `tests.engine.strategies` hold as far as queues stay empty: one balancer behind a shared
address, tiers of groups, round robin by weight, probes with their counters, and faults that come and go.
"""

import random
from collections import Counter
from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import Any

import simpy

PORT = 8080


@dataclass
class Target:
    """One target of one group at one front: its truth is looked up, its belief kept here."""

    name: str
    zone: str
    weight: int
    in_use: bool = True
    fails: int = 0
    passes: int = 0


@dataclass
class Counts:
    """What became of the requests: by cause, and what each zone served."""

    requests: int = 0
    causes: Counter[str] = field(default_factory=Counter)
    served: Counter[str] = field(default_factory=Counter)


class Simulation:
    """One run: Poisson arrivals, probes at their beats, faults from the drill's script."""

    def __init__(self, data: dict[str, Any], seed: int) -> None:
        self.data, self.chance = data, random.Random(seed)
        self.env = simpy.Environment()
        self.counts = Counts()
        self.drill = data["drills"][0]
        self.faults: list[dict[str, Any]] = []
        self.zones = list(data["balancers"][0]["zones"])
        self.machines = dict(self._machines())
        self.present = dict.fromkeys(self.zones, True)
        self.failover_s = data["balancers"][0].get("front_failover_s", 5)
        self.groups = {group["name"]: group for group in data["target_groups"]}
        self.targets = {
            (front, name): list(self._targets(front, group))
            for front in self.zones
            for name, group in self.groups.items()
        }

    def run(self) -> Counts:
        """Runs the drill once."""
        self.env.process(self._script())
        self.env.process(self._arrivals())
        for front_number, front in enumerate(self.zones):
            for name, group in self.groups.items():
                for target in self.targets[front, name] if group.get("probe") else ():
                    self.env.process(self._prober(front_number, front, name, target))
        self.env.run(until=self.drill["lasts_s"])
        return self.counts

    # Places

    def _machines(self) -> Iterator[tuple[str, str]]:
        for fleet in self.data["fleets"]:
            zones = list(fleet["zones"])
            each, rest = divmod(fleet["count"], len(zones))
            number = 0
            for position, zone in enumerate(zones):
                for _ in range(each + (1 if position < rest else 0)):
                    number += 1
                    yield f"{fleet['name']}-{number}", zone

    def _targets(self, front: str, group: dict[str, Any]) -> Iterator[Target]:
        for target in group["targets"]:
            for machine, zone in self.machines.items():
                of_fleet = machine.rpartition("-")[0] == target["fleet"]
                if of_fleet and (group["reach"] != "zone" or zone == front):
                    yield Target(machine, zone, target["weight"])

    # Truth

    def _silent(self, front: str, machine: str) -> bool:
        zone = self.machines[machine]
        return any(
            fault.get("zone") == zone
            or "region" in fault
            or fault.get("instance") == machine
            or ("link" in fault and set(fault["link"]) == {front, zone})
            for fault in self.faults
        )

    def _refuses(self, machine: str, port: int) -> bool:
        return port != PORT or any(fault.get("process") == machine for fault in self.faults)

    def _status(self, path: str) -> int:
        pages = {"/": 200, "/ready": 200} | {fault["page"]: fault["status"] for fault in self.faults if "page" in fault}
        return pages[max((page for page in pages if path.startswith(page)), key=len)]

    def _front_dead(self, zone: str) -> bool:
        return any(
            fault.get("zone") == zone or "region" in fault or fault.get("front", {}).get("zone") == zone
            for fault in self.faults
        )

    # What happens

    def _script(self) -> Iterator[simpy.Event]:
        for step in sorted(self.drill["steps"], key=lambda one: one["at_s"]):
            yield self.env.timeout(step["at_s"] - self.env.now)
            dead_before = {zone: self._front_dead(zone) for zone in self.zones}
            if "fail" in step:
                self.faults.append(step["fail"])
            else:
                self.faults.remove(step["restore"])
            for zone in self.zones:
                if self._front_dead(zone) != dead_before[zone]:
                    self.env.process(self._failover(zone, self._front_dead(zone)))
                    self._wake(zone, was_dead=dead_before[zone])

    def _failover(self, zone: str, dead: bool) -> Iterator[simpy.Event]:
        """The front leaves (or joins) after its time, if it is still dead (or alive) then, and has been all along."""
        end = self.env.now + self.failover_s
        while self.env.now < end:
            yield self.env.timeout(min(0.25, end - self.env.now))
            if self._front_dead(zone) != dead:
                return
        self.present[zone] = not dead

    def _wake(self, front: str, was_dead: bool) -> None:
        """A front that returns believes at once what its probes find."""
        if not was_dead:
            return
        for name, group in self.groups.items():
            for target in self.targets[front, name] if group.get("probe") else ():
                passes = self._probe_passes(front, group, target)
                probe = self.data["probes"][0]
                target.in_use = passes
                target.fails = 0 if passes else probe["unhealthy_after"]
                target.passes = probe["healthy_after"] if passes else 0

    def _probe_passes(self, front: str, group: dict[str, Any], target: Target) -> bool:
        up = not self._silent(front, target.name) and not self._refuses(target.name, group["port"])
        return up and 200 <= self._status("/ready") <= 399

    def _prober(self, number: int, front: str, name: str, target: Target) -> Iterator[simpy.Event]:
        probe, group = self.data["probes"][0], self.groups[name]
        whole = sum(
            1 for one in group["targets"] for machine in self.machines if machine.rpartition("-")[0] == one["fleet"]
        )
        order = [m for one in group["targets"] for m in self.machines if m.rpartition("-")[0] == one["fleet"]]
        phase = (order.index(target.name) + number / len(self.zones)) / whole * probe["interval_s"]
        target.in_use = not self._refuses(target.name, group["port"])
        target.fails, target.passes = (0, probe["healthy_after"]) if target.in_use else (probe["unhealthy_after"], 0)
        yield self.env.timeout(phase)
        while True:
            sent = self.env.now
            passes, silent = self._probe_passes(front, group, target), self._silent(front, target.name)
            if silent:
                yield self.env.timeout(probe["timeout_s"])
            if not self._front_dead(front):
                self._result(target, probe, passes=passes)
            rest = probe["interval_s"] if probe["next_after"] == "result" else sent + probe["interval_s"] - self.env.now
            yield self.env.timeout(max(rest, 0))

    def _result(self, target: Target, probe: dict[str, Any], *, passes: bool) -> None:
        target.passes = target.passes + 1 if passes else 0
        target.fails = 0 if passes else target.fails + 1
        if target.fails >= probe["unhealthy_after"]:
            target.in_use = False
        if target.passes >= probe["healthy_after"]:
            target.in_use = True

    def _arrivals(self) -> Iterator[simpy.Event]:
        rate = self.data["clients"][0]["rps"]
        while True:
            yield self.env.timeout(self.chance.expovariate(rate))
            self._request()

    def _request(self) -> None:
        self.counts.requests += 1
        fronts = [zone for zone in self.zones if self.present[zone]]
        if not fronts:
            self.counts.causes["dead_front"] += 1
            return
        front = self.chance.choice(fronts)
        if self._front_dead(front):
            self.counts.causes["dead_front"] += 1
            return
        target, group = self._choose(front)
        if target is None:
            self.counts.causes["none_healthy"] += 1
        elif self._silent(front, target.name):
            self.counts.causes["timed_out"] += 1
        elif self._refuses(target.name, group["port"]):
            self.counts.causes["refused"] += 1
        elif self._status("/tiles/7") >= 400:
            self.counts.causes["bad_status"] += 1
        else:
            self.counts.served[target.zone] += 1

    # Choosing

    def _usable(self, front: str, name: str) -> list[Target]:
        return [one for one in self.targets[front, name] if one.in_use and one.weight > 0]

    def _choose(self, front: str) -> tuple[Target | None, dict[str, Any]]:
        tier, anyone = self._tier(front)
        weights = dict(tier["groups"])
        if anyone and tier["empty_group"] == "share-out":
            weights = {name: weight for name, weight in weights.items() if self._usable(front, name)}
        if not sum(weights.values()):
            return None, {}
        name = self.chance.choices(list(weights), list(weights.values()))[0]
        group, candidates = self.groups[name], self._usable(front, name)
        if not anyone and group["when_none_healthy"] == "send-anyway":
            candidates = [one for one in self.targets[front, name] if one.weight > 0]
        if group["reach"] == "prefer-zone":
            candidates = [one for one in candidates if one.zone == front] or candidates
        if not candidates:
            return None, group
        return self.chance.choices(candidates, [one.weight for one in candidates])[0], group

    def _tier(self, front: str) -> tuple[dict[str, Any], bool]:
        """The tier that serves, and whether anybody in it is in use."""
        tiers = self.data["pools"][0]["tiers"]
        counts = []
        for tier in tiers:
            known = sum(len(self._usable(front, name)) for name in tier["groups"])
            whole = sum(1 for name in tier["groups"] for one in self.targets[front, name] if one.weight > 0)
            bound = tier["min_healthy"]
            enough = known > 0 and known >= bound.get("count", 0) and known >= bound.get("share", 0) * whole - 1e-9
            counts.append((tier, known, enough))
        for tier, _, enough in counts:
            if enough:
                return tier, True
        return next(((tier, True) for tier, known, _ in counts if known), (tiers[0], False))
