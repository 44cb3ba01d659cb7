"""Every single part that can be lost, those that are alike taken together."""

from collections.abc import Iterator
from itertools import combinations

import numpy as np
from msgspec import Struct

from northgate.engine.network import Network
from northgate.plan.models.faults import FrontRef, Part
from northgate.plan.references import outside


class Alike(Struct, frozen=True):
    """Parts whose losses come to the same, as nothing tells them apart: the first of them, and their words."""

    kind: str
    part: Part
    words: tuple[str, ...]
    # Of parts that belong to one instance: the instances.
    instances: tuple[str, ...] = ()

    @property
    def count(self) -> int:
        """How many parts these are."""
        return len(self.words)

    @property
    def called(self) -> str:
        """All of them in a few words."""
        if self.count == 1:
            return self.words[0]
        # What comes before the first instance's name is said once: "process of any of 6: tiles-1 … tiles-6".
        before = self.words[0].removesuffix(self.instances[0])
        return f"{before}any of {self.count}: {self.instances[0]} … {self.instances[-1]}"

    def another(self) -> Part:
        """The second of them; where there is only one, that."""
        if self.count == 1:
            return self.part
        field = "instance" if self.part.instance else "process"
        return self.part.model_copy(update={field: self.instances[1]})


def alike(network: Network) -> list[Alike]:
    """All parts of a plan that can be lost, class by class."""
    return [
        *_places(network), *_fronts(network), *_links(network), *_machines(network), *_marks(network), *_rules(network),
        *_pages(network), *_outside(network),
    ]  # fmt: skip


def _one(kind: str, part: Part) -> Alike:
    return Alike(kind, part, (part.words,))


def _standing(network: Network) -> list[str]:
    """The zones in which something stands."""
    zones = {instance.zone for instance in network.plan.machines}
    zones |= {zone for balancer in network.plan.balancers for zone in balancer.zones}
    return [zone for zone in network.zones if zone in zones]


def _places(network: Network) -> Iterator[Alike]:
    standing = _standing(network)
    for region in network.plan.regions:
        if set(region.zones) & set(standing):
            yield _one("region", Part(region=region.name))
    yield from (_one("zone", Part(zone=zone)) for zone in standing)


def _fronts(network: Network) -> Iterator[Alike]:
    for balancer in network.plan.balancers:
        for zone in balancer.zones:
            yield _one("front", Part(front=FrontRef(balancer=balancer.name, zone=zone)))


def _links(network: Network) -> Iterator[Alike]:
    standing, crossed = set(_standing(network)), _crossed(network)
    for region in network.plan.regions:
        for one, other in combinations([zone for zone in region.zones if zone in standing], 2):
            if {one, other} in crossed:
                yield _one("link", Part(link=[one, other]))
    regions = {zone: region.name for region in network.plan.regions for zone in region.zones}
    between = [{regions[zone] for zone in pair if zone in regions} for pair in crossed]
    for first, second in combinations([region.name for region in network.plan.regions], 2):
        if {first, second} in between:
            yield _one("link", Part(link=[first, second]))


def _crossed(network: Network) -> list[set[str]]:
    """The pairs of zones between which something may be sent, or probed."""
    pairs = network.pairs
    ends = np.stack([network.fronts.zone[pairs.front], network.machines.zone[pairs.machine]], axis=1)
    found = np.unique(np.sort(ends, axis=1), axis=0, return_index=True)[0].tolist() if len(ends) else []
    return [{network.zones[one], network.zones[other]} for one, other in found if one != other]


def _machine_classes(network: Network) -> list[list[int]]:
    """Machines that nothing tells apart: of the same kind, in one zone, with the same part in the same groups; but not
    where a source's key decides who serves it, as their names tell them apart there."""
    hashed = {int(network.cells.group[cell]) for cell in network.cells.by_key}
    roles: dict[int, list[tuple[object, ...]]] = {}
    for member, machine in enumerate(network.members.machine.tolist()):
        group = int(network.members.group[member])
        told_apart = network.machines.names[machine] if group in hashed else ""
        role = (group, float(network.members.weight[member]), int(network.members.port[member]), told_apart)
        roles.setdefault(machine, []).append(role)
    kinds: dict[tuple[object, ...], list[int]] = {}
    for machine, instance in enumerate(network.plan.machines):
        if machine not in roles:
            continue
        kept = instance.model_copy(update={"name": "", "address": None})
        key = (kept.model_dump_json(), tuple(roles[machine]), bool(network.machines.spare[machine]))
        kinds.setdefault(key, []).append(machine)
    return list(kinds.values())


def _machines(network: Network) -> Iterator[Alike]:
    names = network.machines.names
    for machines in _machine_classes(network):
        those = tuple(names[machine] for machine in machines)
        yield Alike("instance", Part(instance=those[0]), those, those)
        words = tuple(f"process of {name}" for name in those)
        yield Alike("process", Part(process=those[0]), words, those)


def _marks(network: Network) -> Iterator[Alike]:
    machines = network.plan.machines
    yield from (_one("fault_domain", Part(fault_domain=one)) for one in sorted(network.plan.fault_domains()))
    waves = {instance.maintenance_wave for instance in machines if instance.maintenance_wave is not None}
    yield from (_one("maintenance_wave", Part(maintenance_wave=wave)) for wave in sorted(waves))


def _rules(network: Network) -> Iterator[Alike]:
    for firewall in network.plan.firewalls:
        for number in range(len(firewall.allow_in)):
            yield _one("firewall", Part(firewall=firewall.name, rule=number))


def _pages(network: Network) -> Iterator[Alike]:
    """Health pages: on one instance, and everywhere at once."""
    groups, names = network.plan.target_groups, network.machines.names
    asked: dict[str, set[int]] = {}
    for member, machine in enumerate(network.members.machine.tolist()):
        probe = network.groups.probe[int(network.members.group[member])]
        if probe is not None and probe.protocol != "tcp" and network.machines.real[machine] and groups:
            asked.setdefault(probe.path, set()).add(machine)
    for path, machines in asked.items():
        serving = {at for at, one in enumerate(network.plan.machines) if any(path in s.pages for s in one.serves)}
        # Where others serve the page for another purpose, its loss everywhere is no loss of a health page.
        if serving <= machines:
            yield _one("page", Part(page=path, status=503))
        for those in _machine_classes(network):
            if those[0] in machines:
                called = tuple(names[machine] for machine in those)
                words = tuple(f"page {path} of {name}" for name in called)
                yield Alike("page", Part(page=path, status=503, instance=called[0]), words, called)


def _outside(network: Network) -> Iterator[Alike]:
    addresses, hosts = outside(network.plan)
    yield from (_one("address", Part(address=address)) for address in sorted(addresses))
    yield from (_one("host", Part(host=host)) for host in sorted(hosts))
