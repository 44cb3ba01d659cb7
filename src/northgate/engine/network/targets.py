"""What stands behind balancers, compiled."""

from collections.abc import Iterator

import numpy as np
from msgspec import Struct

from northgate.engine.base import CannotRun, bools, floats, ints
from northgate.engine.formulas import target_keys
from northgate.engine.matching import page_status, plain_host
from northgate.engine.network.tables import Machines, Members, Services
from northgate.plan import Plan, Problem
from northgate.plan.models.addressing import AddressBook
from northgate.plan.models.groups import Target, TargetGroup
from northgate.plan.models.machines import Instance
from northgate.plan.problems import pointer

# Five times as many as the largest plan that the bench runs has.
MOST_TARGETS = 500_000
# What no part of the plan owns answers, and stands in this zone; or in the second, which no zone may be called, where a
# zone or region of the plan is called like the first.
OUTSIDE, BEYOND = "outside", "outside the plan"


def outside_of(plan: Plan) -> str:
    """The zone, and region, in which everything stands that no part of a plan owns."""
    taken = {name for region in plan.regions for name in (region.name, *region.zones)}
    return BEYOND if OUTSIDE in taken else OUTSIDE


class TargetRow(Struct, frozen=True):
    """One member while it is compiled; `onward` is the balancer (or the name) to which it leads."""

    group: int
    machine: int
    weight: int
    place: int
    port: int
    probe_port: int
    balancer: int = -1
    name: int = -1


class TargetRows:
    """What stands behind balancers: the plan's instances, and what targets lead to elsewhere."""

    def __init__(self, plan: Plan, book: AddressBook) -> None:
        self.plan, self.book, self.outside = plan, book, outside_of(plan)
        self.instances: list[Instance] = list(plan.machines)
        self.real = len(self.instances)
        self._machine_at = {instance.name: index for index, instance in enumerate(self.instances)}
        self._balancer_at = {balancer.name: index for index, balancer in enumerate(plan.balancers)}
        self._name_at = {plain_host(entry.name): index for index, entry in enumerate(plan.names)}
        self._fleets = {fleet.name: fleet.instance_names() for fleet in plan.fleets}
        self.rows: list[TargetRow] = []
        for index, group in enumerate(plan.target_groups):
            self.rows += self._rows(index, group)
            if len(self.rows) > MOST_TARGETS:
                told = f"with this group there are {len(self.rows):,} targets, of which at most {MOST_TARGETS:,} can be"
                raise CannotRun([Problem(pointer(("target_groups", index)), f"{told} computed")])

    def _rows(self, index: int, group: TargetGroup) -> Iterator[TargetRow]:
        probes = {probe.name: probe for probe in self.plan.probes}
        probe, place = probes.get(group.probe or ""), 0
        for target in group.targets:
            port = target.port or group.port
            probe_port = port if probe is None or probe.port == "same" else probe.port
            for machine, balancer, name in self._ends(target, port):
                yield TargetRow(index, machine, target.weight, place, port, probe_port, balancer, name)
                place += 1

    def _ends(self, target: Target, port: int) -> Iterator[tuple[int, int, int]]:
        """The machines of a target; with the balancer or the name to which it leads."""
        for name in self._instances(target):
            yield self._machine_at[name], -1, -1
        balancer = target.balancer
        if target.address:
            owner = self.book.owner_instance.get(target.address)
            if owner:
                yield self._machine_at[owner], -1, -1
            else:
                balancer = self.book.owner_balancer.get(target.address, (None, 0))[0]
                if balancer is None:
                    yield self._elsewhere(target.address, self.outside, port), -1, -1
        if balancer:
            zone = next(iter(self.plan.balancers[self._balancer_at[balancer]].zones))
            yield self._elsewhere(balancer, zone, port), self._balancer_at[balancer], -1
        if target.host:
            known = self._name_at.get(plain_host(target.host), -1)
            zone = self._zone_of_name(known) if known >= 0 else self.outside
            yield self._elsewhere(target.host, zone, port), -1, known

    def _instances(self, target: Target) -> list[str]:
        """The instances that a target stands for by name, as a fleet, or by a tag that they carry."""
        if target.tagged:
            return [one.name for one in self.plan.machines if target.tagged in one.tags]
        return self._fleets[target.fleet] if target.fleet else [target.instance] if target.instance else []

    def _zone_of_name(self, name: int) -> str:
        """Where a name is shown that stands for a target: with the first balancer that it names."""
        for answer in self.plan.names[name].answers:
            if answer.balancer:
                return next(iter(self.plan.balancers[self._balancer_at[answer.balancer]].zones))
        return self.plan.regions[0].zones[0]

    def _elsewhere(self, name: str, zone: str, port: int) -> int:
        """A pseudo machine that answers on every port that it is asked on."""
        protocols = ("tcp", "udp")
        served = [{"port": port, "protocol": protocol, "pages": {"/": 200}} for protocol in protocols]
        made = Instance.model_validate({"name": "elsewhere", "zone": OUTSIDE, "serves": served})
        self.instances.append(made.model_copy(update={"name": name, "zone": zone}))
        return len(self.instances) - 1

    def machines(self, zone_at: dict[str, int], spares: frozenset[str]) -> Machines:
        """The machines as arrays; `spares` are not there yet."""
        instances = self.instances
        return Machines(
            names=tuple(instance.name for instance in instances),
            zone=ints(zone_at[instance.zone] for instance in instances),
            capacity=floats(instance.capacity_rps or np.inf for instance in instances),
            service_s=floats(instance.service_ms / 1000 for instance in instances),
            queue_s=floats(instance.queue_s for instance in instances),
            real=np.arange(len(instances)) < self.real,
            outside=bools(n >= self.real and one.zone == self.outside for n, one in enumerate(instances)),
            spare=bools(instance.name in spares for instance in instances),
        )

    def members(self, services: Services) -> Members:
        """The members as arrays."""
        speaks_udp = [protocol == "udp" for protocol in services.protocol]
        service_at = {
            (int(machine), int(port), udp): number
            for number, (machine, port, udp) in enumerate(zip(services.machine, services.port, speaks_udp, strict=True))
        }
        udp = [group.protocol == "udp" for group in self.plan.target_groups]
        rows = self.rows
        return Members(
            group=ints(row.group for row in rows),
            machine=ints(row.machine for row in rows),
            weight=floats(row.weight for row in rows),
            place=ints(row.place for row in rows),
            service=ints(service_at.get((row.machine, row.port, udp[row.group]), -1) for row in rows),
            probe_service=ints(service_at.get((row.machine, row.probe_port, False), -1) for row in rows),
            port=ints(row.port for row in rows),
            probe_port=ints(row.probe_port for row in rows),
            leads_on=bools(row.balancer >= 0 or row.name >= 0 for row in rows),
            keys=target_keys([self.instances[row.machine].name for row in rows]),
        )


def services_of(instances: list[Instance], paths: tuple[str, ...]) -> Services:
    """Every port that an instance serves; what it answers to each of these paths."""
    rows = [(index, service) for index, instance in enumerate(instances) for service in instance.serves]
    known: dict[tuple[tuple[str, int], ...], list[int]] = {}
    status = []
    for _, service in rows:
        key = tuple(service.pages.items())
        if key not in known:
            known[key] = [page_status(service.pages, path) for path in paths]
        status.append(known[key])
    return Services(
        machine=ints(index for index, _ in rows),
        port=ints(service.port for _, service in rows),
        protocol=tuple(service.protocol for _, service in rows),
        pages=tuple(service.pages for _, service in rows),
        status=np.array(status, dtype=np.int64).reshape(len(rows), len(paths)),
    )
