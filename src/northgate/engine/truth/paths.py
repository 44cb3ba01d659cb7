"""Which requests and probes never arrive: reach, asked once for each kind of way that a network has.

Fronts, machines and sources that firewalls and routes treat alike are asked about together.
"""

import numpy as np
from msgspec import Struct

from northgate.engine.base import Bools, Ints
from northgate.engine.matching import Check, End, GoneRules, Range, checks, passes, seen_source, span_of, within
from northgate.engine.network import Network, Segment
from northgate.plan.problems import pointer


class Blocked(Struct, frozen=True):
    """What does not arrive: rows of `Network.arrivals`; pairs by segment (one row where the source does not matter);
    probes by pair."""

    rows: Bools
    pairs: Bools
    probes: Bools


class Paths:
    """The ends of a network's connections, and which of these are blocked. `Paths.of(network)` works them out once."""

    @staticmethod
    def of(network: Network) -> "Paths":
        """The paths of a network, the same for all who ask."""
        return network.derived(Paths)

    def __init__(self, network: Network) -> None:
        self.network, self.plan = network, network.plan
        self._subnets = {subnet.name: (net.name, subnet) for net in self.plan.networks for subnet in net.subnets}
        self._open = not self.plan.networks and not self.plan.firewalls
        self._known: dict[GoneRules, Blocked] = {}
        self._machines: dict[int, End] = {}
        self._fronts = [self._front_end(front) for front in range(len(network.fronts.zone))]
        self._seen_client = np.array(
            [seen_source(balancer) == "client" for balancer in self.plan.balancers], dtype=bool
        )

    # Ends

    def source(self, segment: Segment) -> End:
        """A client group's sources, or the probers of names, who sit on the public Internet."""
        if segment.client >= len(self.plan.clients):
            return End("a prober on the public Internet", outside=True)
        name = self.plan.clients[segment.client].name
        return self.end_of_source(name, segment.span)

    def end_of_source(self, label: str, span: Range | None) -> End:
        """A source by its address: inside one of the plan's networks, or on the public Internet."""
        home = next((net for net in self.plan.networks if span and within(span, net.cidr)), None)
        group = next((client.cidr for client in self.plan.clients if client.name == label), None)
        whole = group or (home.cidr if home else None)
        return End(label, home.name if home else None, outside=home is None, span=span, whole=whole)

    def front(self, front: int) -> End:
        """A front as an end."""
        return self._fronts[front]

    def machine(self, machine: int) -> End:
        """A machine as an end; one outside the plan is on the public Internet."""
        if machine not in self._machines:
            self._machines[machine] = self._machine_end(machine)
        return self._machines[machine]

    def _machine_end(self, machine: int) -> End:
        name = self.network.machines.names[machine]
        if not self.network.machines.real[machine]:
            return End(name, outside=bool(self.network.machines.outside[machine]))
        instance = self.plan.machines[machine]
        network, subnet = self._subnets.get(instance.subnet or "", (None, None))
        address = self.network.book.instances.get(name)
        return End(
            name,
            network,
            public=bool(subnet and subnet.public),
            span=span_of(address) if address else None,
            firewall=instance.firewall,
            whole=subnet.cidr if subnet else None,
        )

    def _front_end(self, front: int) -> End:
        index = int(self.network.fronts.balancer[front])
        balancer, zone = self.plan.balancers[index], self.network.front_name(front)
        network, subnet = self._subnets.get(balancer.zones[zone] or "", (None, None))
        return End(
            f"{balancer.name} in {zone}",
            network,
            public=balancer.exposure == "public",
            span=span_of(subnet.cidr) if subnet else None,
            firewall=balancer.firewall,
            balancer=balancer.name,
            where=pointer(("balancers", index, "exposure")),
        )

    # Questions

    def to_front(self, entry: int, front: int, gone: GoneRules = ()) -> list[Check]:
        """What stands between those who ask and a front."""
        network = self.network
        call, member = int(network.entries.call[entry]), int(network.entries.member[entry])
        listener = int(network.entries.listener[entry])
        balancer = self.plan.balancers[int(network.fronts.balancer[front])]
        port = balancer.listeners[listener].port if listener >= 0 else network.calls.requests[call].port
        protocol = "udp" if listener >= 0 and balancer.listeners[listener].protocol == "udp" else "tcp"
        if member < 0:
            source = self.source(network.segments[int(network.calls.segment[call])])
        else:
            upstream = np.flatnonzero(network.pairs.member == member)
            source = self._fronts[int(network.pairs.front[upstream[0]])] if len(upstream) else End("nobody")
        return checks(self.plan, source, self._fronts[front], protocol, port, gone=gone)

    def to_machine(self, pair: int, segment: Segment | None, gone: GoneRules = ()) -> list[Check]:
        """What stands between a front and a target, for requests of a segment."""
        return self._to_machine(pair, self.source(segment) if segment is not None else None, gone)

    def _to_machine(self, pair: int, client: End | None, gone: GoneRules) -> list[Check]:
        network = self.network
        member, front = int(network.pairs.member[pair]), int(network.pairs.front[pair])
        group = self.plan.target_groups[int(network.members.group[member])]
        protocol = "udp" if group.protocol == "udp" else "tcp"
        seen = client if client is not None and self.sees_client(front) else None
        to, asked = self.machine(int(network.members.machine[member])), int(network.members.port[member])
        also = [(self._fronts[front], "tcp", int(network.members.probe_port[member]))] if group.probe else []
        return checks(self.plan, self._fronts[front], to, protocol, asked, seen=seen, gone=gone, also=also)

    def sees_client(self, front: int) -> bool:
        """Whether targets see the client's address as the source of what this front sends."""
        return bool(self._seen_client[int(self.network.fronts.balancer[front])])

    def to_machine_from(self, pair: int, client: End, gone: GoneRules = ()) -> list[Check]:
        """What stands between a front and a target, for one client."""
        return self._to_machine(pair, client, gone)

    def to_probe(self, pair: int, gone: GoneRules = ()) -> list[Check]:
        """What stands between a front and the port that its probe asks."""
        network = self.network
        member, front = int(network.pairs.member[pair]), int(network.pairs.front[pair])
        to = self.machine(int(network.members.machine[member]))
        return checks(self.plan, self._fronts[front], to, "tcp", int(network.members.probe_port[member]), gone=gone)

    def under(self, gone: GoneRules = frozenset()) -> Blocked:
        """What is blocked while these rules are gone."""
        if gone not in self._known:
            self._known[gone] = self._blocked(gone)
        return self._known[gone]

    # Classes

    def _blocked(self, gone: GoneRules) -> Blocked:
        entry, front = self.network.arrivals.entry, self.network.arrivals.front
        pairs = len(self.network.pairs.front)
        if self._open:
            return Blocked(np.zeros(len(entry), bool), np.zeros((1, pairs), bool), np.zeros(pairs, bool))
        rows = np.array(
            [not passes(self.to_front(int(e), int(f), gone)) for e, f in zip(entry, front, strict=True)], dtype=bool
        )
        by_client = (
            self._seen_client[self.network.fronts.balancer[self.network.pairs.front]] if pairs else np.zeros(0, bool)
        )
        segments: list[Segment | None] = list(self.network.segments) if by_client.any() else [None]
        blocked = np.zeros((len(segments), pairs), dtype=bool)
        for kind, mine in self._pair_kinds(self.network.members.port):
            for number, segment in enumerate(segments):
                if number == 0 or by_client[mine[0]]:
                    blocked[number, mine] = not passes(self.to_machine(kind, segment, gone))
                else:
                    blocked[number, mine] = blocked[0, mine]
        probes = np.zeros(pairs, dtype=bool)
        for kind, mine in self._pair_kinds(self.network.members.probe_port):
            probes[mine] = not passes(self.to_probe(kind, gone))
        return Blocked(rows, blocked, probes)

    def _pair_kinds(self, port: Ints) -> list[tuple[int, Ints]]:
        """Pairs that are asked alike: one of each kind, and all of them. What leads on is asked at the next front."""
        network = self.network
        here = np.flatnonzero(~network.members.leads_on[network.pairs.member])
        member = network.pairs.member[here]
        table = np.stack(
            [
                network.pairs.front[here],
                self._machine_kinds[network.pairs.machine[here]],
                port[member],
                network.members.group[member],
            ],
            axis=1,
        )
        if not len(table):
            return []
        _, first, kind = np.unique(table, axis=0, return_index=True, return_inverse=True)
        order = np.argsort(kind.ravel(), kind="stable")
        parts = np.split(here[order], np.cumsum(np.bincount(kind.ravel()))[:-1])
        return [(int(here[one]), part) for one, part in zip(first, parts, strict=True)]

    @property
    def _machine_kinds(self) -> Ints:
        """Machines that no rule or route tells apart have the same number."""
        cidrs = [
            rule.to
            for firewall in self.plan.firewalls
            if firewall.allow_out != "any"
            for rule in firewall.allow_out
            if "/" in rule.to
        ]
        kinds: dict[tuple[object, ...], int] = {}
        found = []
        for machine in range(len(self.network.machines.names)):
            if self.network.machines.real[machine]:
                instance = self.plan.machines[machine]
                key: tuple[object, ...] = (instance.subnet, instance.firewall)
            else:
                key = (self.network.machines.names[machine],)
            if cidrs:
                span = self.machine(machine).span
                key += tuple(bool(span and within(span, cidr)) for cidr in cidrs)
            found.append(kinds.setdefault(key, len(kinds)))
        return np.array(found, dtype=np.int64)
