"""The places of a simulated plan: machines with their queues, fronts, and what of them is broken.

Nothing is computed ahead: each request and each probe asks how things stand when it comes.
"""

import heapq
import ipaddress
from collections.abc import Iterator
from random import Random
from typing import NamedTuple

from northgate.plan import Plan
from northgate.plan.models.faults import Part
from northgate.plan.models.groups import Probe, TargetGroup
from northgate.plan.models.machines import Instance

# What a packet meets on its way to a machine's port.
TAKEN, REFUSED, SILENT, BLOCKED = "taken", "refused", "timed_out", "blocked"

LATE_ARRIVALS = 100
OUTSIDE = "outside"


class Front(NamedTuple):
    """One front of a balancer."""

    balancer: str
    zone: str


class Machine:
    """One machine: c servers with exponential work each, and a queue before them that holds `queue_s` of work."""

    def __init__(self, instance: Instance, region: str, onward: str | None = None) -> None:
        # The balancer for which it stands, as a target; or OUTSIDE.
        self.onward = onward
        self.instance, self.name, self.zone, self.region = instance, instance.name, instance.zone, region
        self.slowness = 1.0
        service_s, capacity = instance.service_ms / 1000, instance.capacity_rps
        servers = max(1, int(capacity * service_s + 0.5)) if capacity else 0
        self._service_s = service_s
        self._work_s = servers / capacity if capacity else 0.0
        # When each server will be done with what it has been given.
        self._done_s = [0.0] * servers
        self._given_s = 0.0
        # Whether requests are work; while a run is set up they are none.
        self.works = True
        # Of late arrivals, the share that found the queue full.
        self.full_share = 0.0

    def latency_s(self, now: float) -> float:
        """How long a request that came now would take."""
        wait = max(self._done_s[0] - now, 0.0) if self._done_s else 0.0
        return wait + self._service_s * self.slowness

    def take(self, now: float, chance: Random) -> float | None:
        """Takes a request and says how long it will take, or refuses it (None) as its queue is full."""
        if not self._done_s or not self.works:
            return self._service_s * self.slowness
        wait = max(self._done_s[0] - now, 0.0)
        full = wait > 0 and wait >= self.instance.queue_s
        self.full_share += (full - self.full_share) / LATE_ARRIVALS
        if full:
            return None
        takes_s = chance.expovariate(1 / (self._work_s * self.slowness))
        self._given_s += takes_s
        heapq.heapreplace(self._done_s, now + wait + takes_s)
        return wait + self._service_s * self.slowness

    def become(self, slowness: float, now: float, *, empty: bool) -> None:
        """From now on it works so slowly; what was under way takes so much longer, or is lost."""
        change = 0.0 if empty else slowness / self.slowness
        self._given_s -= (1 - change) * self._left_s(now)
        self._done_s = [now + max(done - now, 0.0) * change for done in self._done_s]
        self.slowness = slowness

    def worked_s(self, now: float) -> float:
        """For how long it has worked so far, a part of its servers counting as much less."""
        return (self._given_s - self._left_s(now)) / max(len(self._done_s), 1)

    def _left_s(self, now: float) -> float:
        return sum(max(done - now, 0.0) for done in self._done_s)


class World:
    """All places of a plan, and the faults in force."""

    def __init__(self, plan: Plan) -> None:
        self.plan = plan
        self.region_of = {zone: region.name for region in plan.regions for zone in region.zones}
        self.machines = {one.name: Machine(one, self.region_of[one.zone]) for one in self._instances()}
        self._stand_ins = {end: self._stand_in(plan, end) for group in plan.target_groups for end in _onward_of(group)}
        self.fronts = [Front(one.name, zone) for one in plan.balancers for zone in one.zones]
        self.faults: list[Part] = []
        self._firewalls = {one.name: one for one in plan.firewalls}
        self._subnets = {subnet.name: subnet.cidr for network in plan.networks for subnet in network.subnets}
        self._balancers = {one.name: one for one in plan.balancers}
        # What holds until faults change: what packets meet, what machines answer, and which balancers let anybody in.
        self._met: dict[tuple[Front, str, int, str], str] = {}
        self._statuses: dict[tuple[str, int, str], int] = {}
        self._lets_in: dict[tuple[str, int], bool] = {}

    def _instances(self) -> Iterator[Instance]:
        yield from self.plan.instances
        for fleet in self.plan.fleets:
            yield from fleet.instances()

    def _stand_in(self, plan: Plan, end: str) -> Machine:
        """What stands for a balancer as a target, or for what is outside the plan."""
        balancer = next((one for one in plan.balancers if one.name == end), None)
        zone = next(iter(balancer.zones)) if balancer else OUTSIDE
        made = Instance.model_construct(name=end, zone=zone, service_ms=0, capacity_rps=None, queue_s=0, serves=[])
        return Machine(made, self.region_of.get(zone, OUTSIDE), end if balancer else OUTSIDE)

    def members(self, group: TargetGroup) -> Iterator[tuple[Machine, int, int]]:
        """The machines of a group in its order, with their weights and ports."""
        fleets = {fleet.name: fleet.instance_names() for fleet in self.plan.fleets}
        for target in group.targets:
            end = target.balancer or target.address or target.host
            if end:
                yield self._stand_ins[end], target.weight, target.port or group.port
            tagged = [one.name for one in self.plan.machines if target.tagged in one.tags] if target.tagged else []
            for name in fleets[target.fleet] if target.fleet else [target.instance] if target.instance else tagged:
                yield self.machines[name], target.weight, target.port or group.port

    def in_reach(self, front: Front, machine: Machine, reach: str) -> bool:
        """Whether a front may use a machine of a group with that reach."""
        if machine.onward:
            return True
        if reach == "zone":
            return machine.zone == front.zone
        return reach == "any" or machine.region == self.region_of[front.zone]

    # What is broken

    def change(self, faults: list[Part], now: float) -> None:
        """From now on these faults are in force."""
        self.faults = faults
        for known in (self._met, self._statuses, self._lets_in):
            known.clear()
        for machine in self.machines.values():
            slowness = 1.0
            for fault in faults:
                slowness *= fault.factor or 1.0 if fault.slow == machine.name else 1.0
            all_refuse = all(self._process_gone(machine, one.port) for one in machine.instance.serves)
            machine.become(slowness, now, empty=self._lost(machine) or all_refuse)

    def dead(self, front: Front) -> bool:
        """Whether a front is dead."""
        return any(
            fault.zone == front.zone
            or (fault.region is not None and fault.region == self.region_of[front.zone])
            or (fault.front is not None and (fault.front.balancer, fault.front.zone) == front)
            for fault in self.faults
        )

    def met(self, front: Front, machine: Machine, port: int, clients: str = "") -> str:
        """What packets meet at a machine's port: a front's own, or those of clients of a network that it passes on."""
        key = (front, machine.name, port, clients)
        if key not in self._met:
            self._met[key] = self._meets(front, machine, port, clients)
        return self._met[key]

    def _meets(self, front: Front, machine: Machine, port: int, clients: str) -> str:
        if machine.onward:
            return SILENT if self.away(machine.name) else TAKEN
        if not self._allowed(machine.instance.firewall, port, front, clients):
            return BLOCKED
        if self._lost(machine) or self._cut(front.zone, machine.zone):
            return SILENT
        serves = any(one.port == port for one in machine.instance.serves)
        return TAKEN if serves and not self._process_gone(machine, port) else REFUSED

    def away(self, end: str) -> bool:
        """Whether nobody answers at an address or host outside the plan."""
        return any(end in (fault.address, fault.host) for fault in self.faults)

    def lets_in(self, balancer: str, port: int) -> bool:
        """Whether anybody from outside reaches a balancer's port."""
        key = (balancer, port)
        if key not in self._lets_in:
            self._lets_in[key] = self._allowed(self._balancers[balancer].firewall, port, None)
        return self._lets_in[key]

    def _allowed(self, firewall: str | None, port: int, front: Front | None, clients: str = "") -> bool:
        if firewall is None:
            return True
        return any(
            _in_ports(port, rule.ports) and self._comes_from(rule.source, front, clients)
            for number, rule in enumerate(self._firewalls[firewall].allow_in)
            if not any(fault.firewall == firewall and fault.rule == number for fault in self.faults)
        )

    def _comes_from(self, source: str, front: Front | None, clients: str) -> bool:
        if source == "any":
            return True
        if clients:
            return ":" not in source and ipaddress.IPv4Network(clients).subnet_of(ipaddress.IPv4Network(source))
        if front is None:
            return False
        if ":" in source:
            return source == f"balancer:{front.balancer}"
        subnet = self._balancers[front.balancer].zones[front.zone]
        if subnet is None:
            return False
        return ipaddress.IPv4Network(self._subnets[subnet]).subnet_of(ipaddress.IPv4Network(source))

    def _lost(self, machine: Machine) -> bool:
        instance = machine.instance
        return any(
            fault.zone == machine.zone
            or fault.region == machine.region
            or (fault.kind == "instance" and fault.instance == machine.name)
            or (fault.fault_domain is not None and fault.fault_domain == instance.fault_domain)
            or (fault.maintenance_wave is not None and fault.maintenance_wave == instance.maintenance_wave)
            for fault in self.faults
        )

    def _process_gone(self, machine: Machine, port: int) -> bool:
        return any(fault.process == machine.name and fault.port in (None, port) for fault in self.faults)

    def _cut(self, one: str, other: str) -> bool:
        def at(zone: str, end: str) -> bool:
            return end in (zone, self.region_of[zone])

        return any(
            (at(one, fault.link[0]) and at(other, fault.link[1]))
            or (at(one, fault.link[1]) and at(other, fault.link[0]))
            for fault in self.faults
            if fault.link
        )

    def status(self, machine: Machine, port: int, path: str) -> int:
        """What a machine answers on a path: the longest page that is its beginning, as changed by faults; where nobody
        asks for a page, that is well."""
        key = (machine.name, port, path)
        if key not in self._statuses:
            self._statuses[key] = self._page(machine, port, path) if path else 200
        return self._statuses[key]

    def _page(self, machine: Machine, port: int, path: str) -> int:
        pages = next(dict(one.pages) for one in machine.instance.serves if one.port == port)
        changed = {
            fault.page: fault.status
            for fault in self.faults
            if fault.page
            and fault.instance in (None, machine.name)
            and any(fault.page.startswith(one) for one in pages)
        }
        pages.update(changed)  # type: ignore[arg-type]
        return pages[max((page for page in pages if path.startswith(page)), key=len)]

    def probe_result(
        self, front: Front, machine: Machine, group_port: int, probe: Probe, now: float
    ) -> tuple[bool, float]:
        """What a probe that is sent now will find, and in how many seconds that is known."""
        port = group_port if probe.port == "same" else probe.port
        met = self.met(front, machine, port)
        if met == REFUSED:
            return False, 0.0
        if met != TAKEN:
            return False, probe.timeout_s
        if probe.protocol != "tcp" and not probe.expects(self.status(machine, port, probe.path)):
            return False, 0.0
        latency_s = machine.latency_s(now)
        return (True, latency_s) if latency_s <= probe.timeout_s else (False, probe.timeout_s)


def _onward_of(group: TargetGroup) -> list[str]:
    return [end for one in group.targets if (end := one.balancer or one.address or one.host)]


def _in_ports(port: int, ranges: list[str]) -> bool:
    bounds = [text.partition("-") for text in ranges]
    return any(int(low) <= port <= int(high or low) for low, _, high in bounds)
