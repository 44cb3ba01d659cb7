"""A simulation of single requests and single probes, written from the description of the engine and sharing none of its
code: what it counts over many runs must agree with what the engine computes.

It knows what plans hold as far as queues stay empty: one balancer behind a shared address or one a zone, tiers of
groups, shares by weight and by source hash, probes with their counters, faults that come and go; clients whose
resolvers keep answers, that hold sessions or layer 4 connections, and repeat what fails; targets tried in turn.
"""

import math
import random
from collections import Counter
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from functools import cache
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
class Source:
    """One client: its address, its resolver's cache, and what it holds open until when."""

    address: int
    phase: float
    keeps_s: float
    sessions: dict[str, tuple[str, float]] = field(default_factory=dict)
    connection: tuple[str, Target, dict[str, Any]] | None = None
    until: float = float("inf")


def mixed(value: int) -> int:
    """The finaliser of splitmix64."""
    value = ((value ^ (value >> 30)) * 0xBF58476D1CE4E5B9) % 2**64
    value = ((value ^ (value >> 27)) * 0x94D049BB133111EB) % 2**64
    return value ^ (value >> 31)


@cache
def score(address: int, name: str, weight: int) -> float:
    """How high a target stands in the order of an address: weighted rendezvous."""
    text = 0xCBF29CE484222325
    for byte in name.encode():
        text = (text ^ byte) * 0x100000001B3 % 2**64
    return -weight / math.log(((mixed(mixed(address) ^ text) >> 11) + 0.5) / 2**53)


@dataclass
class Counts:
    """What became of the requests: by cause, and what each zone served."""

    requests: int = 0
    reset: int = 0
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
        balancer, self.client = data["balancers"][0], {"timeout_s": 10, **data["clients"][0]}
        self.failover_s, self.layer = balancer.get("front_failover_s", 5), balancer.get("layer", 7)
        self.kind = balancer.get("address_kind", "shared")
        self.answers = [(0.0, list(self.zones))]
        self.sources = list(self._sources())
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

    def _sources(self) -> Iterator[Source]:
        """Every source with its address (spread over the group's /16) and the phase of its resolver's cache."""
        count = self.client.get("sources", 1)
        hold = self.client.get("overholds", {"share": 0, "s": 0})
        for number in range(count):
            over = self.chance.random() < hold["share"]
            keeps_s = hold["s"] if over else self.data["names"][0].get("ttl_s", 60)
            yield Source((198 << 24) + (18 << 16) + number * 65536 // count, self.chance.random(), max(keeps_s, 1e-9))

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
            self._reset(
                lambda front, target, group: (
                    not self._front_dead(front)
                    and not self._silent(front, target.name)
                    and self._refuses(target.name, group["port"])
                )
            )
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
        self.answers.append((self.env.now, [one for one in self.zones if self.present[one]]))
        if dead:
            self._reset(lambda front, *_: front == zone)

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
            sent, was, dead = self.env.now, target.in_use, self._front_dead(front)
            passes, silent = self._probe_passes(front, group, target), self._silent(front, target.name)
            if silent:
                yield self.env.timeout(probe["timeout_s"])
            if not dead and not self._front_dead(front):
                self._result(target, probe, passes=passes)
                if was and not target.in_use:
                    self._verdict(front, name, target)
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
        """One call of one source, with its repeats; counted once, by its last attempt."""
        self.counts.requests += 1
        source = self.sources[self.chance.randrange(len(self.sources))]
        for _ in range(1 + self.client.get("retries", 0)):
            outcome = self._attempt(source)
            if outcome in self.zones:
                self.counts.served[outcome] += 1
                return
        self.counts.causes[outcome] += 1

    def _attempt(self, source: Source) -> str:
        """The zone that serves, or the cause of failure."""
        if source.connection is not None and self.env.now < source.until:
            return self._over_connection(source)
        front = self._front(source)
        if front is None:
            return "dead_front"
        target, group = self._choose(front, source)
        if target is None:
            return "none_healthy"
        target, waited_s = self._until_connected(front, target, group)
        outcome = self._meets(front, target, group, waited_s)
        if outcome in self.zones:
            self._holds(source, front, target, group)
        return outcome

    def _meets(self, front: str, target: Target, group: dict[str, Any], waited_s: float) -> str:
        if self._silent(front, target.name) or waited_s > self.client["timeout_s"]:
            return "timed_out"
        if self._refuses(target.name, group["port"]):
            return "refused"
        return "bad_status" if self._status("/tiles/7") >= 400 else target.zone

    def _until_connected(self, front: str, target: Target, group: dict[str, Any]) -> tuple[Target, float]:
        """Goes on to others, each once, as long as connects fail and tries are left."""
        tried, waited_s, left = [target], 0.0, group.get("try_others", 0)
        while left and (self._silent(front, target.name) or self._refuses(target.name, group["port"])):
            others = [one for one in self._candidates(front, group) if one not in tried]
            if not others:
                break
            waited_s += group.get("connect_timeout_s", 3) if self._silent(front, target.name) else 0.0
            target = self.chance.choices(others, [one.weight for one in others])[0]
            tried.append(target)
            left -= 1
        return target, waited_s

    # Addresses

    def _front(self, source: Source) -> str | None:
        """The front that takes a connect; None when it meets dead ones only."""
        if self.kind == "shared":
            fronts = [zone for zone in self.zones if self.present[zone]]
            first = self.chance.choice(fronts) if fronts else None
            return None if first is None or self._front_dead(first) else first
        held = list(self._answer(self.env.now - (self.env.now - source.phase * source.keeps_s) % source.keeps_s))
        tries = len(held) if self.client.get("tries_next_address", True) else 1
        for _ in range(min(tries, len(held))):
            front = held.pop(self.chance.randrange(len(held)))
            if not self._front_dead(front):
                return front
        return None

    def _answer(self, second: float) -> list[str]:
        """The addresses that were given out at a second; as if all were there when none is left."""
        fronts = next(fronts for since, fronts in reversed(self.answers) if since <= second or since == 0)
        return fronts or self.zones

    # Sessions and connections

    def _session(self, source: Source, front: str, name: str) -> Target | None:
        """The target of a group to which a session leads, if this front believes it in use."""
        machine, until = source.sessions.get(name, (None, 0.0))
        mine = [one for one in self.targets[front, name] if one.name == machine and one.in_use]
        return mine[0] if mine and self.env.now < until else None

    def _holds(self, source: Source, front: str, target: Target, group: dict[str, Any]) -> None:
        """A call that is served opens a session or a connection, if its source has none."""
        if self.layer == 4:
            source.connection = (front, target, group)
            source.until = self.env.now + self.chance.expovariate(1 / self.client["connection_s"])
        elif group.get("affinity", {}).get("by", "none") != "none":
            _, until = source.sessions.get(group["name"], (None, 0.0))
            if self.env.now >= until:
                renews = group["affinity"].get("renews", True)
                lives = float("inf") if renews else self.chance.expovariate(1 / group["affinity"]["lasts_s"])
                source.sessions[group["name"]] = (target.name, self.env.now + lives)

    def _over_connection(self, source: Source) -> str:
        assert source.connection is not None
        front, target, group = source.connection
        if self._front_dead(front):
            return "dead_front"
        outcome = self._meets(front, target, group, 0.0)
        if outcome == "timed_out":
            source.connection = None
        return outcome

    def _reset(self, which: Callable[[str, Target, dict[str, Any]], bool]) -> None:
        """Connections end at once."""
        for source in self.sources:
            if source.connection is not None and which(*source.connection):
                self.counts.reset += self.env.now < source.until
                source.connection = None

    def _verdict(self, front: str, name: str, target: Target) -> None:
        """What was found out moves its sessions, and resets its connections where the group wants that."""
        for source in self.sources:
            if source.sessions.get(name, ("", 0.0))[0] == target.name:
                del source.sessions[name]
        if self.groups[name].get("on_out") == "reset":
            self._reset(lambda of, one, _: of == front and one is target)

    # Choosing

    def _usable(self, front: str, name: str) -> list[Target]:
        return [one for one in self.targets[front, name] if one.in_use and one.weight > 0]

    def _choose(self, front: str, source: Source) -> tuple[Target | None, dict[str, Any]]:
        tier, anyone = self._tier(front)
        weights = dict(tier["groups"])
        if anyone and tier["empty_group"] == "share-out":
            weights = {name: weight for name, weight in weights.items() if self._usable(front, name)}
        if not sum(weights.values()):
            return None, {}
        name = self.chance.choices(list(weights), list(weights.values()))[0]
        group = self.groups[name]
        candidates = self._candidates(front, group)
        held = self._session(source, front, name)
        if held or not candidates:
            return held, group
        if group.get("balance") == "source-hash":
            return max(candidates, key=lambda one: score(source.address, one.name, one.weight)), group
        return self.chance.choices(candidates, [one.weight for one in candidates])[0], group

    def _candidates(self, front: str, group: dict[str, Any]) -> list[Target]:
        _, anyone = self._tier(front)
        candidates = self._usable(front, group["name"])
        if not anyone and group["when_none_healthy"] == "send-anyway":
            candidates = [one for one in self.targets[front, group["name"]] if one.weight > 0]
        if group["reach"] == "prefer-zone":
            candidates = [one for one in candidates if one.zone == front] or candidates
        return candidates

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
