"""The firewall rules that a plan needs, beside those that it has."""

import re
from collections.abc import Iterator

from msgspec import Struct

from northgate.engine.matching import Check
from northgate.engine.network import Network
from northgate.engine.truth import Paths

NO_FIREWALL = "no firewall"


class Needed(Struct, frozen=True):
    """A connection that the plan needs: what for, from whom to whom, by which protocol and port, and which rule lets it
    in (`app 2`: the second of that firewall), empty where none does."""

    needed_by: str
    source: str
    destination: str
    protocol: str
    port: int
    has: str


COLUMNS = ("needed_by", "source", "destination", "protocol", "port", "has")


def needed_rules(network: Network) -> list[Needed]:
    """Every connection that clients, balancers and probes make, each once."""
    return list(dict.fromkeys([*_to_fronts(network), *_to_targets(network)]))


def needless_rules(network: Network) -> list[str]:
    """The rules that let in nothing that is needed."""
    used = {one.has for one in needed_rules(network)}
    every = [
        f"{firewall.name} {number + 1}"
        for firewall in network.plan.firewalls
        for number in range(len(firewall.allow_in))
    ]
    return [one for one in every if one not in used]


def _to_fronts(network: Network) -> Iterator[Needed]:
    plan, paths = network.plan, Paths.of(network)
    for entry, front in zip(network.arrivals.entry.tolist(), network.arrivals.front.tolist(), strict=True):
        call, member = int(network.entries.call[entry]), int(network.entries.member[entry])
        if member >= 0:
            continue
        client = int(network.calls.client[call])
        by = plan.clients[client].name if client < len(plan.clients) else "probes of names"
        source = paths.source(network.segments[int(network.calls.segment[call])])
        from_ = "any" if source.outside else source.whole or source.label
        request = network.calls.requests[call]
        listener = int(network.entries.listener[entry])
        balancer = plan.balancers[int(network.fronts.balancer[front])]
        port = balancer.listeners[listener].port if listener >= 0 else request.port
        protocol = "udp" if request.scheme == "udp" else "tcp"
        yield Needed(by, from_, f"balancer:{balancer.name}", protocol, port, _has(paths.to_front(entry, front)))


def _to_targets(network: Network) -> Iterator[Needed]:
    plan, paths = network.plan, Paths.of(network)
    for pair in range(len(network.pairs.front)):
        member, front = int(network.pairs.member[pair]), int(network.pairs.front[pair])
        if network.members.leads_on[member]:
            continue
        group = plan.target_groups[int(network.members.group[member])]
        machine = paths.machine(int(network.members.machine[member]))
        to = machine.whole or machine.label
        balancer = f"balancer:{network.balancer_of(front)}"
        protocol, port = "udp" if group.protocol == "udp" else "tcp", int(network.members.port[member])
        clients = (
            [one for one in network.segments if one.client < len(plan.clients)] if paths.sees_client(front) else []
        )
        for segment in clients:
            client = plan.clients[segment.client]
            source = paths.source(segment)
            from_ = client.cidr if not source.outside or client.cidr else "any"
            yield Needed(group.name, from_ or "any", to, protocol, port, _has(paths.to_machine(pair, segment)))
        if not clients:
            yield Needed(group.name, balancer, to, protocol, port, _has(paths.to_machine(pair, None)))
        if group.probe:
            probe_port = int(network.members.probe_port[member])
            by = f"probe {group.probe} of {group.name}"
            yield Needed(by, balancer, to, "tcp", probe_port, _has(paths.to_probe(pair)))


def _has(found: list[Check]) -> str:
    """The rule that lets a connection in; empty where none does."""
    inward = [one for one in found if one.kind == "firewall" and "/allow_in" in one.where]
    if not inward:
        return NO_FIREWALL
    last = inward[-1]
    number = re.search(r"/allow_in/(\d+)$", last.where)
    return f"{last.about} {int(number[1]) + 1}" if last.ok and number else ""
