"""A simulation of single requests and single probes, written from the description of the engine and sharing none of its
code: what it counts over many runs must agree with what the engine computes.

It knows balancers with shared or floating addresses or one a front, also those that withdraw without targets, and
their bandwidth; names and who watches them, rules, tiers of groups, every method of balance, slow starts, queues,
probes with their counters, autoscalers, and every fault and return, surge and drain; clients whose resolvers keep
answers, that hold sessions or layer 4 connections (as they long have when a drill begins), and repeat what fails;
targets tried in turn. Round robin and flow hash are drawn by weight.
"""

import heapq
import math
import random
from collections import Counter
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from functools import cache
from ipaddress import IPv4Network
from itertools import accumulate
from typing import NamedTuple
from urllib.parse import urlsplit

import simpy

from northgate.plan import Plan
from northgate.plan.models.balancers import Action
from northgate.plan.models.drills import Drill, Roll, Step
from northgate.plan.models.faults import Part
from northgate.plan.models.groups import Fill, Probe, TargetGroup, Tier
from northgate.plan.models.traffic import ClientGroup
from tests.simulation.naming import Address, Names
from tests.simulation.places import BLOCKED, OUTSIDE, REFUSED, SILENT, TAKEN, Front, Machine, World
from tests.simulation.scaling import Fleets, roomy

# What a failed call may end as, besides what its packets meet.
DEAD_FRONT, NONE_HEALTHY, OVERLOADED, BAD_STATUS = "dead_front", "none_healthy", "overloaded", "bad_status"
RESET = "reset"
# A name's probe passes if more than half of such calls would.
MORE = 1e-9
ABOVE_HALF = 0.5 + MORE
BIN_S = 10
# Room that is not used is kept for so long (s), and so is bandwidth.
ROOM_S = 3.0
WIDE_S = 1.0
LATE_ANSWERS = 100
SLOW_STEPS = 10
# The worst phases are so long before a step (s): at the limit, none. Whoever probes a name at a second finds what has
# been believed of targets at that second.
JUST_BEFORE_S, JUST_AFTER_S = 1e-6, 1e-7


class Target:
    """One target of one group at one front: its belief, and when its requests will have ended."""

    def __init__(self, machine: Machine, weight: int, port: int) -> None:
        self.machine, self.full_weight, self.port = machine, weight, port
        # How warm it is, and since when it has been in use, where it begins slowly.
        self.warmth, self.since_s = 1.0, -math.inf
        self.in_use, self.fails, self.passes = True, 0, 0
        self.ends: list[float] = []

    @property
    def weight(self) -> float:
        """Its weight now."""
        return self.full_weight * self.warmth

    def busy(self, now: float) -> float:
        """Its requests under way, by its weight."""
        while self.ends and self.ends[0] <= now:
            heapq.heappop(self.ends)
        return len(self.ends) / self.weight

    def result(self, probe: Probe, *, passes: bool) -> None:
        """Counts a probe's result."""
        self.passes = self.passes + 1 if passes else 0
        self.fails = 0 if passes else self.fails + 1
        if self.fails >= probe.unhealthy_after:
            self.in_use = False
        if self.passes >= probe.healthy_after:
            self.in_use = True

    def settle(self, probe: Probe, *, passes: bool) -> None:
        """Believes this, as if it had long been so."""
        self.in_use = passes
        self.fails, self.passes = (0, probe.healthy_after) if passes else (probe.unhealthy_after, 0)


@dataclass(slots=True)
class Connection:
    """A layer 4 connection: through which front to which target, until when, and when it was last used."""

    front: Front
    target: Target
    group: TargetGroup
    clients: str
    until_s: float
    used_s: float


@dataclass(slots=True)
class Source:
    """One client: its address, its resolver's cache, and what it holds open until when."""

    address: int
    phases: dict[str, float]
    overholds: bool
    sessions: dict[str, tuple[str, float]] = field(default_factory=dict)
    connection: Connection | None = None


class Spent(NamedTuple):
    """What is left of the client's budget, and of what balancers on the way wait for an answer (s)."""

    budget_s: float
    due_s: float


class Asked(NamedTuple):
    """A kind of request."""

    scheme: str
    host: str
    port: int
    path: str
    megabits: float = 0.0


@dataclass
class Counts:
    """What became of the requests: by cause, what each zone served and what failed in each stretch of ten seconds."""

    requests: int = 0
    reset: int = 0
    causes: Counter[str] = field(default_factory=Counter)
    served: Counter[tuple[str, int]] = field(default_factory=Counter)


class Balanced(NamedTuple):
    """Whom a front may send a pool's requests to now: groups with their weights, or nobody."""

    groups: list[TargetGroup]
    weights: list[float]
    anyone: bool


def mixed(value: int) -> int:
    """The finaliser of splitmix64."""
    value = ((value ^ (value >> 30)) * 0xBF58476D1CE4E5B9) % 2**64
    value = ((value ^ (value >> 27)) * 0x94D049BB133111EB) % 2**64
    return value ^ (value >> 31)


@cache
def score(address: int, name: str, weight: float) -> float:
    """How high a target stands in the order of an address: weighted rendezvous."""
    text = 0xCBF29CE484222325
    for byte in name.encode():
        text = (text ^ byte) * 0x100000001B3 % 2**64
    return -weight / math.log(((mixed(mixed(address) ^ text) >> 11) + 0.5) / 2**53)


def asked_of(url: str, kilobytes: float = 0.0) -> Asked:
    """The request that a URL stands for, and how much it is answered."""
    parts = urlsplit(url)
    port = parts.port or {"http": 80, "https": 443}[parts.scheme]
    return Asked(parts.scheme, parts.hostname or "", port, parts.path, kilobytes * 8 / 1000)


class Simulation:
    """One run: Poisson arrivals, probes at their beats, faults from the drill's script."""

    def __init__(self, plan: Plan, drill: Drill, seed: int) -> None:
        self.drill, self.chance = drill, random.Random(seed)
        # With all machines that are ever launched; until then, they are lost.
        self.plan, places = roomy(plan, drill)
        plan = self.plan
        self.env = simpy.Environment()
        self.counts = Counts()
        self.world = World(plan)
        self.fleets = Fleets(self, places)
        self.world.change([Part(instance=one) for one in sorted(self.fleets.later)], 0.0)
        # Where groups are filled: how much each may still take, and when that was so; and what balancers may answer.
        self._room: dict[str, tuple[float, float]] = {}
        # Of late answers, the share that did not come through a balancer's bandwidth.
        self._lost_share: dict[str, float] = {}
        self.names = Names(plan, self.world.fronts)
        self.groups = {group.name: group for group in plan.target_groups}
        self.pools = {pool.name: pool for pool in plan.pools}
        self.probes = {probe.name: probe for probe in plan.probes}
        self.balancers = {one.name: one for one in plan.balancers}
        # Who is dead, and who is about to leave the address, or has.
        self.dead = dict.fromkeys(self.world.fronts, False)
        self.out = dict.fromkeys(self.world.fronts, False)
        first = {front.balancer: front for front in reversed(self.world.fronts)}
        self.present = {
            front: self.balancers[front.balancer].address_kind != "floating" or first[front.balancer] == front
            for front in self.world.fronts
        }
        far = [(area.name, region, trip_ms) for area in plan.areas for region, trip_ms in area.latency_ms.items()]
        self._trips_s = {(area, region): trip_ms / 1000 for area, region, trip_ms in far}
        self._listeners = {(one.name, each.port): each for one in plan.balancers for each in reversed(one.listeners)}
        # The floating addresses that are about to move.
        self._floats: dict[str, object] = {}
        # The latest turn of each front.
        self._turned: dict[Front, object] = {}
        self.leaving: dict[str, float] = {}
        self.removed = set[str]()
        self.expired: set[str] = set()
        self.surges: dict[str, float] = {}
        # How many times as much each client group asks for, and until when; known until then, or until one surges.
        self._factors: dict[str, tuple[float, float]] = {}
        self.sources = {client.name: list(self._sources(client)) for client in plan.clients}
        self.targets = {
            (front, name): [
                Target(machine, weight, port)
                for machine, weight, port in self.world.members(self.groups[name])
                if self.world.in_reach(front, machine, self.groups[name].reach)
            ]
            for front in self.world.fronts
            for name in self._groups_of(front.balancer)
        }
        self.believed = {
            (entry.name, answer, area): True
            for entry in plan.names
            for answer in range(len(entry.answers))
            for area in entry.probed_from
        }
        self._balanced: dict[tuple[Front, str], Balanced] = {}
        self._usable: dict[tuple[Front, str, bool], tuple[list[Target], list[float]]] = {}

    def run(self) -> Counts:
        """Runs the drill once."""
        self._begin()
        for step in sorted(self.drill.steps, key=lambda one: one.at_s):
            self.env.process(self._step(step))
        for client in self.plan.clients:
            self.env.process(self._arrivals(client))
        self._watch_targets()
        self._watch_names()
        self.fleets.watch()
        self.env.run(until=self.drill.lasts_s)
        return self.counts

    def _begin(self) -> None:
        """Clients hold what they have long come to hold: sessions and connections, each of which has been opened since
        the last one ended, and may have been idle too long."""
        machines = self.world.machines.values()
        busy = [one for (_, name), some in self.targets.items() for one in some if self._by_busy(self.groups[name])]
        for machine in machines:
            machine.works = False
        for client in self.plan.clients:
            rate = client.rps * self._factor(client)[0] / client.sources
            for source in self.sources[client.name] if rate else ():
                # A session that does not end outlives the connection with which it was opened.
                for _ in range(1 + self._keeps_sessions):
                    source.connection = None
                    for call in client.calls:
                        self._call(client, asked_of(call.url), source)
                        for target in busy:
                            target.ends.clear()
                self._end_some(client, source, rate)
        for machine in machines:
            machine.works = True
        self.counts = Counts()
        self._room.clear()
        self._lost_share.clear()

    @property
    def _keeps_sessions(self) -> bool:
        """Whether sessions of any group do not end."""
        return any(group.affinity.by != "none" and group.affinity.renews for group in self.plan.target_groups)

    @staticmethod
    def _by_busy(group: TargetGroup) -> bool:
        return group.balance in ("least-connections", "two-choices")

    def _end_some(self, client: ClientGroup, source: Source, rate: float) -> None:
        """Of what a source holds that makes so many calls a second, some has ended, and not begun anew yet."""
        chance, connection = self.chance, source.connection
        if connection is not None:
            lives = rate * client.connection_s
            connection.used_s = -chance.expovariate(rate)
            if chance.random() > lives / (1 + lives) or not self._is_open(client, source):
                source.connection = None
        for name in list(source.sessions):
            affinity = self.groups[name].affinity
            still = rate * affinity.lasts_s / (1 + rate * affinity.lasts_s)
            if connection is not None:
                connected = source.connection is not None
                still = _still_bound(rate, affinity.lasts_s, client.connection_s, connected=connected)
            if not affinity.renews and chance.random() > still:
                del source.sessions[name]

    # What stands where

    def _actions(self, balancer: str) -> Iterator[Action]:
        for listener in self.balancers[balancer].listeners:
            yield from (rule.do for rule in listener.rules)
            yield listener.otherwise

    def _groups_of(self, balancer: str) -> list[str]:
        pools = [self.pools[action.pool] for action in self._actions(balancer) if action.pool]
        return list(dict.fromkeys(name for pool in pools for tier in pool.tiers for name in tier.groups))

    def _sources(self, client: ClientGroup) -> Iterator[Source]:
        """Every source with its address, spread over the group's network, and the phase of its resolver's cache."""
        network = IPv4Network(client.cidr)
        base, size = int(network.network_address), network.num_addresses
        for number in range(client.sources):
            place = number * size // client.sources if client.sources <= size else number % size
            overholds = self.chance.random() < client.overholds.share
            phases = {entry.name: self.chance.random() for entry in self.plan.names}
            yield Source(base + place, phases, overholds)

    # What happens

    def _step(self, step: Step) -> Iterator[simpy.Event]:
        yield self.env.timeout(step.at_s)
        if step.surge:
            self.surges[step.surge.clients] = step.surge.factor
            self._factors.clear()
        elif step.drain:
            self.drain(step.drain.instance)
        elif step.undrain:
            self.leaving.pop(step.undrain.instance, None)
        elif step.expire:
            self.expired.add(step.expire.certificate)
        elif step.change_answers:
            self.names.answer(step.change_answers.name, tuple(step.change_answers.answers))
            self._answer(step.change_answers.name)
        elif step.roll:
            self.env.process(self._roll(step.roll))
        elif step.scale:
            self.fleets.scale(step.scale.fleet, step.scale.count)
        elif step.remove:
            self.removed.add(step.remove.instance)
            self._break(Step(at_s=step.at_s, fail=Part(instance=step.remove.instance)))
        else:
            self._break(step)
        self.look_again()

    def happen(self, step: Step) -> None:
        """Something is lost, or back, now."""
        self._break(step)
        self.look_again()

    def unproven(self, machine: str) -> None:
        """A machine has been launched: whoever watches it has to see it pass first."""
        for (_, name), targets in self.targets.items():
            for target in targets:
                if target.machine.name == machine:
                    target.in_use, target.fails, target.passes = self.groups[name].probe is None, 0, 0
        self.look_again()

    def _roll(self, roll: Roll) -> Iterator[simpy.Event]:
        """Restarts the machines of a group, batch by batch; who leaves, or has gone, needs no restart."""
        members = self.world.members(self.groups[roll.group])
        names = dict.fromkeys(machine.name for machine, _, _ in members if not machine.onward)
        left = sorted(names, key=lambda name: name in self.fleets.later)
        while left := [machine for machine in left if self._stays(machine)]:
            batch, left = left[: roll.batch], left[roll.batch :]
            for machine in batch:
                self.drain(machine)
            self.look_again()
            yield self.env.timeout(max(self.drain_s(machine) for machine in batch))
            for machine in batch:
                self._break(Step(at_s=0, fail=Part(instance=machine)))
            self.look_again()
            yield self.env.timeout(roll.restart_s)
            for machine in batch:
                self._break(Step(at_s=0, restore=Part(instance=machine)))
                self.leaving.pop(machine, None)
                self.fleets.restarted(machine)
            self.look_again()
            while roll.wait_for == "in_use" and not self._all_in_use(roll.group, batch):
                yield self.env.timeout(0.05)

    def _stays(self, machine: str) -> bool:
        """Whether a machine is there, and is to stay."""
        return machine not in self.leaving and machine not in self.fleets.absent and machine not in self.removed

    def _all_in_use(self, group: str, machines: list[str]) -> bool:
        return all(
            target.in_use
            for (front, name), targets in self.targets.items()
            for target in targets
            if name == group and not self.dead[front]
            if target.machine.name in machines and self._stays(target.machine.name)
        )

    def drain_s(self, machine: str) -> float:
        """How long a machine takes to leave all its groups to which anybody sends."""
        every = [(name, target.machine.name) for (_, name), targets in self.targets.items() for target in targets]
        return max((self.groups[name].drain_s for name, target in every if target == machine), default=0.0)

    def look_again(self) -> None:
        self._balanced.clear()
        self._usable.clear()
        for front, was_out in self.out.items():
            if self._is_out(front) != was_out:
                self.out[front] = not was_out
                self.env.process(self._failover(front))

    def _is_out(self, front: Front) -> bool:
        """Whether a front is to leave its address: it is dead, or has nobody in use and withdraws then."""
        balancer = self.balancers[front.balancer]
        if balancer.address_kind == "floating":
            return False
        mine = [self.targets[front, name] for name in self._groups_of(front.balancer)]
        empty = bool(mine) and not any(self._takes(target) for targets in mine for target in targets)
        return self.dead[front] or (balancer.withdraw_when == "no-targets" and empty)

    def _break(self, step: Step) -> None:
        faults = list(self.world.faults)
        if step.fail:
            faults.append(step.fail)
        else:
            faults.remove(step.restore)  # type: ignore[arg-type]
        self.world.change(faults, self.env.now)
        self._reset(
            lambda one: (
                not self.world.dead(one.front)
                and self.world.met(one.front, one.target.machine, one.target.port, one.clients) == REFUSED
            )
        )
        turned = [front for front, was_dead in self.dead.items() if self.world.dead(front) != was_dead]
        for front in turned:
            self.dead[front] = not self.dead[front]
        for front in turned:
            if not self.dead[front]:
                self._wake(front)
        for name in {front.balancer for front in turned}:
            if self.balancers[name].address_kind == "floating":
                self.env.process(self._float(name))

    def _float(self, name: str) -> Iterator[simpy.Event]:
        """A floating address moves after its time, if it has wanted to all along."""
        if self._holder(name) == self._heir(name):
            self._floats.pop(name, None)
            return
        if name in self._floats:
            return
        mine = self._floats[name] = object()
        yield self.env.timeout(self.balancers[name].front_failover_s)
        if self._floats.get(name) is not mine:
            return
        del self._floats[name]
        before, after = self._holder(name), self._heir(name)
        self.present[before], self.present[after] = False, True
        for entry in self.plan.names:
            self._answer(entry.name)
        self._reset(lambda one: one.front == before)
        yield from self._float(name)

    def _holder(self, name: str) -> Front:
        return next(front for front, there in self.present.items() if there and front.balancer == name)

    def _heir(self, name: str) -> Front:
        """Who is to hold a floating address: the first that lives, or still who holds it."""
        holder = self._holder(name)
        living = [front for front, dead in self.dead.items() if front.balancer == name and not dead]
        if not living or (holder in living and not self.balancers[name].returns):
            return holder
        return living[0]

    def _failover(self, front: Front) -> Iterator[simpy.Event]:
        """A front leaves (or joins) its address after its time, if it has been out (or in) all along."""
        out, fell = self.out[front], object()
        self._turned[front] = fell
        yield self.env.timeout(self.balancers[front.balancer].front_failover_s)
        if self._turned[front] is not fell or self.present[front] is not out:
            return
        self.present[front] = not out
        for entry in self.plan.names:
            self._answer(entry.name)
        if out and self.dead[front]:
            self._reset(lambda one: one.front == front)

    def _wake(self, front: Front) -> None:
        """A front that returns believes at once what its probes find."""
        for (at, name), targets in self.targets.items():
            group = self.groups[name]
            for target in targets if at == front and group.probe else ():
                probe = self.probes[group.probe or ""]
                passes, _ = self._probe(front, target, probe)
                target.settle(probe, passes=passes)

    def drain(self, machine: str) -> None:
        self.leaving[machine] = self.env.now
        for sources in self.sources.values():
            for source in sources:
                held = [group for group, (name, _) in source.sessions.items() if name == machine]
                for group in held:
                    del source.sessions[group]
        for group in self.plan.target_groups:
            self.env.process(self._end_drain(machine, group))

    def _end_drain(self, machine: str, group: TargetGroup) -> Iterator[simpy.Event]:
        since = self.leaving[machine]
        yield self.env.timeout(group.drain_s)
        if self.leaving.get(machine) == since:
            self._reset(lambda one: one.target.machine.name == machine and one.group is group)

    # Probes of targets

    def _watch_targets(self) -> None:
        for group in self.plan.target_groups:
            fronts = [front for front, name in self.targets if name == group.name]
            # Who is launched comes after those that are there at first.
            every, later = [machine.name for machine, _, _ in self.world.members(group)], self.fleets.later
            first = [name for name in every if name not in later]
            order = first + [name for name in every if name in later]
            probe = self.probes.get(group.probe or "")
            for number, front in enumerate(fronts if probe else ()):
                for target in self.targets[front, group.name]:
                    place = (order.index(target.machine.name) + number / len(fronts)) / len(first)
                    assert probe is not None
                    self.env.process(self._prober(front, group, target, probe, self._phase_s(probe, place)))

    def _phase_s(self, probe: Probe, place: float) -> float:
        """When a prober sends its first probe: at its place in the interval, or so that one is sent with the first
        change of what is true, or just before."""
        changes = [step.at_s for step in self.drill.steps if step.fail or step.restore or step.remove]
        if self.drill.phases == "spread" or not changes:
            return place * probe.interval_s
        at_s = min(changes) - (JUST_BEFORE_S if self.drill.phases == "worst" else 0.0)
        # Until then all pass, as they did before; an interval that follows on the result would drift.
        return at_s if probe.next_after == "result" else at_s % probe.interval_s

    def _probe(self, front: Front, target: Target, probe: Probe) -> tuple[bool, float]:
        if target.machine.onward == OUTSIDE:
            return (False, probe.timeout_s) if self.world.away(target.machine.name) else (True, 0.0)
        if target.machine.onward:
            port = target.port if probe.port == "same" else int(probe.port)
            asked = Asked(probe.protocol, "", port, probe.path)
            return self._call_probe(target.machine.onward, probe, asked, 0.0)
        return self.world.probe_result(front, target.machine, target.port, probe, self.env.now)

    def _prober(
        self, front: Front, group: TargetGroup, target: Target, probe: Probe, phase_s: float
    ) -> Iterator[simpy.Event]:
        passes, _ = self._probe(front, target, probe)
        target.settle(probe, passes=passes)
        yield self.env.timeout(phase_s)
        while True:
            sent, dead = self.env.now, self.dead[front] or target.machine.name in self.fleets.absent
            passes, after_s = self._probe(front, target, probe)
            yield self.env.timeout(after_s)
            if not dead and not self.dead[front] and target.machine.name not in self.fleets.absent:
                self._take_result(front, group, target, probe, passes=passes)
            rest = probe.interval_s if probe.next_after == "result" else sent + probe.interval_s - self.env.now
            yield self.env.timeout(max(rest, 0))

    def _take_result(self, front: Front, group: TargetGroup, target: Target, probe: Probe, *, passes: bool) -> None:
        before = target.in_use
        target.result(probe, passes=passes)
        if target.in_use != before:
            self.look_again()
        if before and not target.in_use:
            self._found_out(front, group, target)
        if target.in_use and not before and group.slow_start_s:
            self.env.process(self._warm(target, group.slow_start_s))

    def _warm(self, target: Target, slow_start_s: float) -> Iterator[simpy.Event]:
        """The weight of a target that has come into use rises in equal steps, the first at once."""
        since_s = target.since_s = self.env.now
        for step in range(SLOW_STEPS):
            if target.since_s != since_s:
                return
            target.warmth = (step + 1) / SLOW_STEPS
            self.look_again()
            yield self.env.timeout(slow_start_s / SLOW_STEPS)

    def _found_out(self, front: Front, group: TargetGroup, target: Target) -> None:
        """What was found out moves its sessions, and resets its connections where the group wants that."""
        for sources in self.sources.values():
            for source in sources:
                if source.sessions.get(group.name, ("", 0.0))[0] == target.machine.name:
                    del source.sessions[group.name]
        if group.on_out == "reset":
            self._reset(lambda one: one.front == front and one.target is target)

    # Probes of names

    def _watch_names(self) -> None:
        for entry in self.plan.names:
            probe = self.probes.get(entry.probe or "")
            for answer in range(len(entry.answers) if probe else 0):
                for number, area in enumerate(entry.probed_from):
                    assert probe is not None
                    phase_s = self._phase_s(probe, number / len(entry.probed_from)) + JUST_AFTER_S
                    self.env.process(self._name_prober(entry.name, answer, area, probe, phase_s))

    def _name_prober(self, name: str, answer: int, area: str, probe: Probe, phase_s: float) -> Iterator[simpy.Event]:
        balancer = next(one for one in self.plan.names if one.name == name).answers[answer].balancer or ""
        target = Target(next(iter(self.world.machines.values())), 1, 0)
        target.settle(probe, passes=True)
        yield self.env.timeout(phase_s)
        while True:
            sent = self.env.now
            passes, after_s = self._name_probe(balancer, probe, name, area)
            yield self.env.timeout(after_s)
            target.result(probe, passes=passes)
            if target.in_use != self.believed[name, answer, area]:
                self.believed[name, answer, area] = target.in_use
                self._answer(name)
            rest = probe.interval_s if probe.next_after == "result" else sent + probe.interval_s - self.env.now
            yield self.env.timeout(max(rest, 0))

    def _name_probe(self, balancer: str, probe: Probe, name: str, area: str) -> tuple[bool, float]:
        asked = Asked(probe.protocol, probe.host or name, int(probe.port), probe.path)
        latency = next((one.latency_ms for one in self.plan.areas if one.name == area), {})
        region = self.world.region_of[next(iter(self.balancers[balancer].zones))]
        return self._call_probe(balancer, probe, asked, latency.get(region, 0.0) / 1000)

    def _call_probe(self, balancer: str, probe: Probe, asked: Asked, trip_s: float) -> tuple[bool, float]:
        """A probe that is a call to a balancer: it passes if more than half of such calls would."""
        found: Counter[str] = Counter()
        every = [front for front in self.world.fronts if front.balancer == balancer]
        fronts = [front for front in every if self.present[front]]
        if self.balancers[balancer].address_kind == "per-zone":
            # Each has an address of its own, also where none is answered.
            fronts = fronts or every
        takes = 0.0
        for front in fronts:
            takes += self._takes_connects(front, asked) / len(fronts)
            lost = self._lost_share.get(balancer, 0.0) if self._has_answered_much(balancer) else 0.0
            for share, outcome in self._looked_up(front, asked, probe, trip_s):
                found[outcome] += share / len(fronts) * (1 - lost if outcome == "passes" else 1)
                found[OVERLOADED] += share / len(fronts) * (lost if outcome == "passes" else 0)
        connects = probe.protocol == "tcp"
        passes = takes if connects else found["passes"]
        if passes > ABOVE_HALF:
            return True, 0.0 if connects else trip_s
        waits = found[BLOCKED] + found[DEAD_FRONT] + (0.0 if connects else found[SILENT])
        return False, 0.0 if fronts and 1 - passes - waits > waits + MORE else probe.timeout_s

    def _has_answered_much(self, balancer: str) -> bool:
        """Whether a balancer's bandwidth is not all free."""
        had, since_s = self._room.get(balancer, (math.inf, 0.0))
        wide_mbps = self.balancers[balancer].bandwidth_mbps or 0.0
        return had + (self.env.now - since_s) * wide_mbps < wide_mbps * WIDE_S

    def _takes_connects(self, front: Front, asked: Asked) -> float:
        """The share of connects that a front takes for somebody who is in use."""
        action = self._action(front, asked)
        if self.dead[front] or isinstance(action, str) or not action.pool:
            return float(not self.dead[front] and not isinstance(action, str))
        groups, weights, anyone = self._groups(front, action.pool)
        known = (weight for group, weight in zip(groups, weights, strict=True) if self._known(front, group.name))
        return sum(known) / sum(weights) if anyone else 0.0

    def _looked_up(self, front: Front, asked: Asked, probe: Probe, trip_s: float) -> Iterator[tuple[float, str]]:
        """What would become of calls that a name's probe makes at a front, by their shares; nobody works for them."""
        action = self._action(front, asked)
        if self.dead[front] or isinstance(action, str):
            yield 1.0, DEAD_FRONT if self.dead[front] else str(action)
        elif not action.pool:
            yield 1.0, "passes"
        else:
            groups, weights, anyone = self._groups(front, action.pool)
            if not groups:
                yield 1.0, NONE_HEALTHY
            for group, weight in zip(groups, weights, strict=True):
                targets, _ = self._candidates(front, group, anyone=anyone)
                part = weight / sum(weights)
                if not targets:
                    yield part, NONE_HEALTHY
                for share, target, waited_s in self._tried(front, group, targets, group.try_others, 0.0):
                    refused = target.machine.full_share
                    yield part * share * refused, OVERLOADED
                    met = self._would_get(front, target, asked, probe, trip_s + waited_s)
                    yield part * share * (1 - refused), met

    def _tried(
        self, front: Front, group: TargetGroup, targets: list[Target], others: int, waited_s: float
    ) -> Iterator[tuple[float, Target, float]]:
        """At whom a call ends that tries so many others, with which share, and after which waits."""
        whole = sum(one.weight for one in targets)
        for target in targets:
            met, rest = self.world.met(front, target.machine, target.port), [one for one in targets if one != target]
            if met == TAKEN or not rest or not others or self.balancers[front.balancer].layer != 7:
                yield target.weight / whole, target, waited_s
                continue
            more_s = 0.0 if met == REFUSED else group.connect_timeout_s
            for share, other, all_s in self._tried(front, group, rest, others - 1, waited_s + more_s):
                yield target.weight / whole * share, other, all_s

    def _would_get(self, front: Front, target: Target, asked: Asked, probe: Probe, on_way_s: float) -> str:
        met = self.world.met(front, target.machine, target.port)
        if met != TAKEN:
            return SILENT if on_way_s > probe.timeout_s else met
        if not probe.expects(self.world.status(target.machine, target.port, asked.path)):
            return BAD_STATUS
        return "passes" if target.machine.latency_s(self.env.now) + on_way_s <= probe.timeout_s else SILENT

    def _answer(self, name: str) -> None:
        """Begins a new answer set."""
        entry = next(one for one in self.plan.names if one.name == name)
        healthy = tuple(
            not entry.probe
            or 2 * sum(self.believed[name, answer, area] for area in entry.probed_from) > len(entry.probed_from)
            for answer in range(len(entry.answers))
        )
        present = frozenset(front for front, there in self.present.items() if there)
        self.names.change(name, self.env.now, healthy, present)

    # Calls

    def _arrivals(self, client: ClientGroup) -> Iterator[simpy.Event]:
        calls = [asked_of(call.url, call.kilobytes) for call in client.calls]
        shares = list(accumulate(call.share for call in client.calls))
        sources, chance = self.sources[client.name], self.chance
        while True:
            factor, until_s = self._factor(client)
            wait_s = chance.expovariate(client.rps * factor) if factor else math.inf
            if self.env.now + wait_s >= until_s:
                yield self.env.timeout(until_s - self.env.now)
                continue
            yield self.env.timeout(wait_s)
            asked = calls[0] if len(calls) == 1 else chance.choices(calls, cum_weights=shares)[0]
            self._call(client, asked, sources[int(chance.random() * len(sources))])

    def _factor(self, client: ClientGroup) -> tuple[float, float]:
        """How many times as much a client group asks for now as its plan says, and until when that is so."""
        if client.name in self._factors and self.env.now < self._factors[client.name][1]:
            return self._factors[client.name]
        profile = [(at_s, factor) for at_s, factor in client.profile if at_s <= self.env.now]
        later = [at_s for at_s, _ in client.profile if at_s > self.env.now]
        surges = [step.at_s for step in self.drill.steps if step.surge and step.at_s > self.env.now]
        factor = (profile[-1][1] if profile else 1.0) * self.surges.get(client.name, 1.0)
        self._factors[client.name] = factor, min([*later, *surges, self.drill.lasts_s + 1])
        return self._factors[client.name]

    def _call(self, client: ClientGroup, asked: Asked, source: Source) -> None:
        """One call of one source, with its repeats; counted once, by its last attempt."""
        self.counts.requests += 1
        addresses = self._resolved(client, asked.host, source)
        bin_ = int(self.env.now // BIN_S)
        for _ in range(1 + client.retries):
            outcome = self._attempt(client, asked, source, addresses)
            if outcome in self.world.region_of or outcome == OUTSIDE:
                self.counts.served[outcome, bin_] += 1
                return
        self.counts.causes[outcome] += 1
        self.counts.served["failed", bin_] += 1

    def _resolved(self, client: ClientGroup, host: str, source: Source) -> list[Address]:
        """The addresses that a source goes by: as its resolver heard them when it last asked."""
        ways = self.names.ways(host, client.area, lambda name: self._asked_s(client, name, source))
        if len(ways) == 1:
            return ways[0][1]
        return self.chance.choices([addresses for _, addresses in ways], [share for share, _ in ways])[0]

    def _asked_s(self, client: ClientGroup, name: str, source: Source) -> float:
        """When a source's resolver last asked for the record of a name."""
        keeps_s = max(client.overholds.s if source.overholds else self.names.ttl_s(name), 1e-9)
        return self.env.now - (self.env.now - source.phases[name] * keeps_s) % keeps_s

    def _attempt(self, client: ClientGroup, asked: Asked, source: Source, addresses: list[Address]) -> str:
        """The zone that serves, or the cause of failure: at one address after the other, while connects fail."""
        if self._is_open(client, source):
            assert source.connection is not None
            return self._over_connection(client, source, source.connection, asked)
        left, waited_s = list(addresses), 0.0
        if not left:
            return BLOCKED
        while True:
            address = left.pop(int(self.chance.random() * len(left)))
            outcome, connected, wait_s = self._connect(client, asked, source, address, waited_s)
            waited_s += wait_s
            if connected or not left or not client.tries_next_address or waited_s >= client.timeout_s:
                return outcome

    def _connect(
        self, client: ClientGroup, asked: Asked, source: Source, address: Address, waited_s: float
    ) -> tuple[str, bool, float]:
        """One connect to an address: the zone that serves or the cause of failure, whether somebody took it, and how
        long it waited for nothing."""
        quiet_s = client.connect_timeout_s
        if not address.balancer:
            return (DEAD_FRONT, False, quiet_s) if self.world.away(address.outside) else (OUTSIDE, True, 0.0)
        front = address.front or self._any_front(address.balancer)
        if front is None or self.dead[front]:
            return DEAD_FRONT, False, quiet_s
        action = self._action(front, asked)
        if isinstance(action, str):
            return action, False, quiet_s if action == BLOCKED else 0.0
        listener = self._listeners.get((front.balancer, asked.port))
        if listener and listener.certificate in self.expired and asked.scheme in ("https", "tls"):
            return REFUSED, True, 0.0
        if not action.pool:
            outcome = BAD_STATUS if action.respond and action.respond.status >= 400 else front.zone
            return self._answered(front, asked, outcome), True, 0.0
        outcome, connected, wait_s = self._to_target(client, asked, source, front, action.pool, waited_s)
        return self._answered(front, asked, outcome), connected, wait_s

    def _answered(self, front: Front, asked: Asked, outcome: str) -> str:
        """What is served comes back, as far as its balancer's bandwidth lets it through."""
        wide_mbps = self.balancers[front.balancer].bandwidth_mbps
        if wide_mbps is None or outcome not in self.world.region_of:
            return outcome
        had, since_s = self._room.get(front.balancer, (0.0, 0.0))
        has = min(had + (self.env.now - since_s) * wide_mbps, wide_mbps * WIDE_S)
        # Whoever comes while anything is left, however much it is: small answers are lost as often as large ones.
        through = has > 0
        self._room[front.balancer] = (has - asked.megabits * through, self.env.now)
        lost = self._lost_share.get(front.balancer, 0.0)
        self._lost_share[front.balancer] = lost + ((not through) - lost) / LATE_ANSWERS
        return outcome if through else OVERLOADED

    def _to_target(
        self, client: ClientGroup, asked: Asked, source: Source, front: Front, pool: str, waited_s: float
    ) -> tuple[str, bool, float]:
        """The same at a front that has a pool to choose from; at layer 4 the client connects to its target."""
        at_7, quiet_s = self.balancers[front.balancer].layer == 7, client.connect_timeout_s
        target, group = self._choose(front, pool, source)
        if target is None or group is None:
            return NONE_HEALTHY, at_7, 0.0
        target, more_s = self._until_connected(source, front, target, group, pool)
        spent = Spent(client.timeout_s - waited_s - self._trip_s(client, front), math.inf)
        outcome = self._meets(front, target, group, client, asked.path, spent, more_s)
        if outcome == target.machine.zone or (target.machine.onward and outcome in self.world.region_of):
            self._holds(client, source, front, target, group)
        met = self.world.met(front, target.machine, target.port, self._seen(front, client))
        if at_7 or met == TAKEN:
            return outcome, True, 0.0
        return outcome, False, 0.0 if met == REFUSED else quiet_s

    def _trip_s(self, client: ClientGroup, front: Front) -> float:
        """The round trip from a client group's area to a front's region."""
        return self._trips_s.get((client.area, self.world.region_of[front.zone]), 0.0)

    def _any_front(self, balancer: str) -> Front | None:
        fronts = [front for front, there in self.present.items() if there and front.balancer == balancer]
        return fronts[int(self.chance.random() * len(fronts))] if fronts else None

    def _action(self, front: Front, asked: Asked) -> Action | str:
        """What the first matching rule says, or why there is none."""
        if not self.world.lets_in(front.balancer, asked.port):
            return BLOCKED
        listener = self._listeners.get((front.balancer, asked.port))
        if listener is None:
            return REFUSED
        for rule in listener.rules:
            if any(
                asked.path.startswith(path[:-1]) if path.endswith("*") else asked.path == path
                for path in rule.when.path or ("*",)
            ):
                return rule.do
        return listener.otherwise

    def _meets(
        self,
        front: Front,
        target: Target,
        group: TargetGroup,
        client: ClientGroup,
        path: str,
        spent: Spent,
        waited_s: float,
    ) -> str:
        """What becomes of a request at its target, which it keeps busy meanwhile; `spent` says what is left of
        budgets."""
        machine, now = target.machine, self.env.now
        if machine.onward and not self.world.away(machine.name):
            return self._behind(target, group, client, path, spent, waited_s)
        met = self.world.met(front, machine, target.port, self._seen(front, client))
        if met != TAKEN:
            if group.balance == "least-connections" and met != REFUSED:
                heapq.heappush(target.ends, now + self._connect_timeout_s(front, group, client))
            return SILENT if met == REFUSED and waited_s > spent.budget_s else met
        latency_s = machine.take(now, self.chance)
        if latency_s is None:
            return OVERLOADED
        if self._by_busy(group):
            heapq.heappush(target.ends, now + self.chance.expovariate(1 / latency_s))
        if latency_s + waited_s > min(spent.budget_s, spent.due_s) or latency_s > group.response_timeout_s:
            return SILENT
        return BAD_STATUS if self.world.status(machine, target.port, path) >= 400 else machine.zone

    def _behind(
        self, target: Target, group: TargetGroup, client: ClientGroup, path: str, spent: Spent, waited_s: float
    ) -> str:
        """What becomes of a request at the balancer for which a target stands; outside the plan it is answered."""
        if target.machine.onward == OUTSIDE:
            return OUTSIDE
        front = self._any_front(target.machine.onward or "")
        if front is None or self.dead[front]:
            return DEAD_FRONT
        listener = self._listeners.get((front.balancer, target.port))
        if listener is None:
            return REFUSED
        inner, its_group = self._choose(front, listener.otherwise.pool or "", None)
        if inner is None or its_group is None:
            return NONE_HEALTHY
        due_s = min(spent.due_s, group.response_timeout_s)
        left = Spent(spent.budget_s - waited_s, due_s)
        return self._meets(front, inner, its_group, client, path, left, 0.0)

    def _seen(self, front: Front, client: ClientGroup) -> str:
        """Whose packets targets see: at layer 4 the clients', else (nothing said) the balancer's."""
        return client.cidr if self.balancers[front.balancer].layer == 4 else ""

    def _connect_timeout_s(self, front: Front, group: TargetGroup, client: ClientGroup) -> float:
        return group.connect_timeout_s if self.balancers[front.balancer].layer == 7 else client.connect_timeout_s

    def _until_connected(
        self, source: Source, front: Front, target: Target, group: TargetGroup, pool: str
    ) -> tuple[Target, float]:
        """Goes on to others, each once, as long as connects fail and tries are left."""
        if not group.try_others or self.balancers[front.balancer].layer != 7:
            return target, 0.0
        by_key = group.balance == "source-hash" and group.name not in source.sessions
        tried, waited_s, left = [target], 0.0, group.try_others
        while left and (met := self.world.met(front, target.machine, target.port)) != TAKEN:
            anyone = self._balanced[front, pool].anyone
            others = [one for one in self._candidates(front, group, anyone=anyone)[0] if one not in tried]
            if not others:
                break
            waited_s += 0.0 if met == REFUSED else group.connect_timeout_s
            if group.balance == "least-connections" and met != REFUSED:
                heapq.heappush(target.ends, self.env.now + group.connect_timeout_s)
            if by_key:
                target = max(others, key=lambda one: score(source.address, one.machine.name, one.weight))
            else:
                target = self.chance.choices(others, [one.weight for one in others])[0]
            tried.append(target)
            left -= 1
        return target, waited_s

    # Sessions and connections

    def _session(self, source: Source, front: Front, name: str) -> Target | None:
        """The target of a group to which a session leads, if this front believes it in use."""
        machine, until = source.sessions.get(name, (None, 0.0))
        if machine is None or self.env.now >= until:
            return None
        mine = (one for one in self.targets[front, name] if one.machine.name == machine and self._takes(one))
        return next(mine, None)

    def _holds(self, client: ClientGroup, source: Source, front: Front, target: Target, group: TargetGroup) -> None:
        """A call that is served opens a session or a connection, if its source has none."""
        now = self.env.now
        if self.balancers[front.balancer].layer == 4:
            source.connection = Connection(
                front, target, group, self._seen(front, client),
                now + self.chance.expovariate(1 / client.connection_s), now,
            )  # fmt: skip
        # A layer 4 balancer sees no cookies.
        if group.affinity.by == "source" or (
            group.affinity.by == "cookie" and self.balancers[front.balancer].layer == 7
        ):
            _, until = source.sessions.get(group.name, ("", 0.0))
            if now >= until:
                lives = math.inf if group.affinity.renews else self.chance.expovariate(1 / group.affinity.lasts_s)
                source.sessions[group.name] = (target.machine.name, now + lives)

    def _is_open(self, client: ClientGroup, source: Source) -> bool:
        """Whether a source takes its connection for open: it has not lived its time, nor has it been heard of for
        longer than the idle time-out that it was closed."""
        connection = source.connection
        if connection is None or self.env.now >= connection.until_s:
            return False
        return not self._is_idle(connection, self._trip_s(client, connection.front))

    def _is_idle(self, connection: Connection, heard_s: float = 0.0) -> bool:
        """Whether nobody has used a connection for longer than its balancer keeps it open, and so much longer."""
        return self.env.now - connection.used_s > self.balancers[connection.front.balancer].idle_timeout_s + heard_s

    def _over_connection(self, client: ClientGroup, source: Source, connection: Connection, asked: Asked) -> str:
        # Who waits for an answer in vain uses it all the same.
        idle, connection.used_s = self._is_idle(connection), self.env.now
        if self.dead[connection.front]:
            return DEAD_FRONT
        outcome = BLOCKED
        if self.world.lets_in(connection.front.balancer, asked.port):
            if idle:
                source.connection = None
                return RESET
            front, left = connection.front, Spent(client.timeout_s - self._trip_s(client, connection.front), math.inf)
            outcome = self._meets(front, connection.target, connection.group, client, asked.path, left, 0.0)
            outcome = self._answered(front, asked, outcome)
        if outcome in (SILENT, BLOCKED):
            source.connection = None
        return outcome

    def _reset(self, which: Callable[[Connection], bool]) -> None:
        """Connections end at once."""
        for sources in self.sources.values():
            for source in sources:
                if source.connection is not None and which(source.connection):
                    open_yet = self.env.now < source.connection.until_s and not self._is_idle(source.connection)
                    self.counts.reset += open_yet
                    source.connection = None

    # Choosing

    def _takes(self, target: Target) -> bool:
        if self.fleets.waits(target.machine):
            return False
        return target.in_use and target.weight > 0 and target.machine.name not in self.leaving

    def _choose(self, front: Front, pool: str, source: Source | None) -> tuple[Target | None, TargetGroup | None]:
        groups, weights, anyone = self._groups(front, pool)
        if not groups:
            return None, None
        filled = self._with_room(front, pool)
        group = filled if filled else groups[0] if len(groups) == 1 else self.chance.choices(groups, weights)[0]
        if source is not None and source.sessions:
            held = self._session(source, front, group.name)
            if held:
                return held, group
        return self._pick(front, group, source, anyone=anyone), group

    def _with_room(self, front: Front, pool: str) -> TargetGroup | None:
        """The first group that is not full, from the tier that serves on; each has as much room as time has brought
        it, for what it may take."""
        tiers = self.pools[pool].tiers
        if not any(tier.fill for tier in tiers):
            return None
        serving, _ = self._tier(front, tiers)
        for tier in tiers[tiers.index(serving) :]:
            for name in tier.groups:
                if not self._known(front, name):
                    continue
                if not tier.fill or self._takes_one(name, tier.fill):
                    return self.groups[name]
        return None

    def _takes_one(self, name: str, fill: Fill) -> bool:
        known = {
            target.machine.name: target.machine.instance.capacity_rps or 0.0
            for (front, group), targets in self.targets.items() if group == name and not self.dead[front]
            for target in targets if target.in_use
        }  # fmt: skip
        limit = (
            len(known) * fill.rps_per_target if fill.rps_per_target else sum(known.values()) * (fill.utilisation or 1)
        )
        had, since_s = self._room.get(name, (0.0, 0.0))
        has = min(had + (self.env.now - since_s) * limit, max(limit * ROOM_S, 1.0))
        takes = has >= 1
        self._room[name] = (has - takes, self.env.now)
        return takes

    def _groups(self, front: Front, pool: str) -> Balanced:
        key = (front, pool)
        if key not in self._balanced:
            self._balanced[key] = self._balance(front, pool)
        return self._balanced[key]

    def _pick(self, front: Front, group: TargetGroup, source: Source | None, *, anyone: bool) -> Target | None:
        candidates, summed = self._candidates(front, group, anyone=anyone)
        if not candidates:
            return None
        if group.balance == "source-hash" and source is not None:
            return max(candidates, key=lambda one: score(source.address, one.machine.name, one.weight))
        if group.balance == "least-connections":
            busy = [(one.busy(self.env.now), self.chance.random(), number) for number, one in enumerate(candidates)]
            return candidates[min(busy)[2]]
        if group.balance == "two-choices" and len(candidates) > 1:
            two = self.chance.sample(candidates, 2)
            return min(two, key=lambda one: self._two_choices(front, one))
        return self.chance.choices(candidates, cum_weights=summed)[0]

    def _two_choices(self, front: Front, target: Target) -> tuple[bool, float]:
        """A silent one ranks last."""
        silent = self.world.met(front, target.machine, target.port) in (SILENT, BLOCKED)
        return silent, target.busy(self.env.now)

    def _candidates(self, front: Front, group: TargetGroup, *, anyone: bool) -> tuple[list[Target], list[float]]:
        """Those in use; where nobody of the whole tier is, all of a group that sends anyway."""
        key = (front, group.name, anyone)
        if key not in self._usable:
            targets = [one for one in self.targets[front, group.name] if self._takes(one)]
            if not anyone and group.when_none_healthy == "send-anyway":
                targets = self._counted(front, group.name)
            if group.reach == "prefer-zone":
                targets = [one for one in targets if one.machine.zone == front.zone] or targets
            self._usable[key] = targets, list(accumulate(one.weight for one in targets))
        return self._usable[key]

    def _balance(self, front: Front, pool: str) -> Balanced:
        tier, anyone = self._tier(front, self.pools[pool].tiers)
        weights = dict(tier.groups)
        if anyone and tier.empty_group == "share-out":
            weights = {name: weight for name, weight in weights.items() if self._known(front, name)}
        if not sum(weights.values()):
            return Balanced([], [], anyone)
        return Balanced([self.groups[name] for name in weights], [float(one) for one in weights.values()], anyone)

    def _known(self, front: Front, name: str) -> int:
        return sum(map(self._takes, self.targets[front, name]))

    def _counted(self, front: Front, name: str) -> list[Target]:
        """All targets of a group that are there."""
        absent = self.fleets.absent
        return [one for one in self.targets[front, name] if one.weight > 0 and one.machine.name not in absent]

    def _tier(self, front: Front, tiers: list[Tier]) -> tuple[Tier, bool]:
        """The tier that serves, and whether anybody in it is in use."""
        counts = []
        for tier in tiers:
            known = sum(self._known(front, name) for name in tier.groups)
            whole = sum(len(self._counted(front, name)) for name in tier.groups)
            bound = tier.min_healthy
            enough = known > 0 and known >= (bound.count or 0) and known >= (bound.share or 0) * whole - 1e-9
            counts.append((tier, known, enough))
        for tier, _, enough in counts:
            if enough:
                return tier, True
        return next(((tier, True) for tier, known, _ in counts if known), (tiers[0], False))


def _still_bound(rate: float, session_s: float, connection_s: float, *, connected: bool) -> float:
    """Layer 4: the chance that a session still binds who is connected, or is not: each is opened with a connection."""
    ends, session_ends = 1 / connection_s, 1 / session_s
    if connected:
        return ends / (ends + session_ends)
    every = rate / (rate + ends)
    strays = every * session_ends / (session_ends + ends)
    bound = (1 - strays) * rate / (rate + session_ends)
    return (bound - (every - strays)) / (1 - every)
