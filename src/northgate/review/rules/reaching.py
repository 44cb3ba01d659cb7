"""Who can reach whom: firewalls and routes between clients, fronts and targets."""

from collections.abc import Iterator

import numpy as np

from northgate.engine.base import Bools
from northgate.engine.matching import Check, passes
from northgate.engine.network import Network, Segment
from northgate.engine.truth import Paths
from northgate.review.context import Context, place
from northgate.review.registry import Found, finding


def _found(context: Context, check: Check, message: str, about: str) -> Found:
    """A check that does not pass, as a finding."""
    remedy, why = check.remedy, check.because
    transitive = _over(context, check) if check.kind == "route" else None
    if transitive:
        why += f" (both are peers of {transitive}, but peers lead no further)"
    where = check.where or place("balancers")
    words = remedy.words if remedy else "let it pass, or go another way"
    return Found(where, about, f"{message}: {why}", words, remedy.patch if remedy else ())


def _over(context: Context, check: Check) -> str | None:
    """A network of which both ends of a route that is missing are peers."""
    one, _, other = check.about.partition(" → ")
    peers: dict[str, set[str]] = {network.name: set(network.peers) for network in context.plan.networks}
    for name, some in list(peers.items()):
        for peer in some:
            peers.setdefault(peer, set()).add(name)
    between = peers.get(one, set()) & peers.get(other, set())
    return min(between, default=None)


def _first_bad(checks: list[Check]) -> Check:
    return next(check for check in checks if not check.ok)


def _kinds_of_pairs(network: Network) -> Iterator[int]:
    """One pair of every kind that firewalls and routes treat alike: by front's balancer and zone, group, and machine's
    subnet and firewall."""
    machines, seen = network.plan.machines, set()
    for pair, (front, group, machine) in enumerate(
        zip(network.pairs.front.tolist(), network.pairs.group.tolist(), network.pairs.machine.tolist(), strict=True)
    ):
        if network.members.leads_on[network.pairs.member[pair]]:
            continue
        if network.machines.real[machine]:
            key = (front, group, machines[machine].subnet, machines[machine].firewall)
        else:
            key = (front, group, network.machines.names[machine], None)
        if key not in seen:
            seen.add(key)
            yield pair


@finding("front-blocked", "stops", "flow")
def front_blocked(context: Context) -> Iterator[Found]:
    """Clients cannot reach a balancer at a port on which it listens: a firewall or a missing route is in the way."""
    assert context.network is not None
    network, paths = context.network, Paths.of(context.network)
    for entry, front in zip(network.arrivals.entry.tolist(), network.arrivals.front.tolist(), strict=True):
        client = int(network.calls.client[network.entries.call[entry]])
        if network.entries.member[entry] >= 0 or client >= len(context.plan.clients):
            continue
        checks = paths.to_front(entry, front)
        if not passes(checks):
            balancer, asked = network.balancer_of(front), network.calls.requests[int(network.entries.call[entry])]
            about = context.plan.clients[client].name
            yield _found(context, _first_bad(checks), f"{about} cannot reach {balancer} on port {asked.port}", balancer)


def _blocked(context: Context) -> Iterator[tuple[int, list[Check], list[Check]]]:
    """Per kind of pair what stands in the way of requests, and of probes."""
    assert context.network is not None
    network, paths = context.network, Paths.of(context.network)
    for pair in _kinds_of_pairs(network):
        asked = [paths.to_machine(pair, segment) for segment in _segments(network, pair, paths)]
        bad = next((checks for checks in asked if not passes(checks)), [])
        probe = network.groups.probe[int(network.pairs.group[pair])]
        probed = paths.to_probe(pair) if probe is not None else []
        yield pair, bad, [] if passes(probed) else probed


def _segments(network: Network, pair: int, paths: Paths) -> list[Segment | None]:
    """The sources by which a target's firewall may tell requests apart."""
    if not paths.sees_client(int(network.pairs.front[pair])):
        return [None]
    return [one for one in network.segments if one.client < len(network.plan.clients)]


def _called(network: Network, pair: int) -> tuple[str, str, str]:
    """A pair's front and target in words, and its group."""
    front = int(network.pairs.front[pair])
    group = network.plan.target_groups[int(network.pairs.group[pair])].name
    name = network.machines.names[int(network.pairs.machine[pair])]
    return f"{network.balancer_of(front)} in {network.front_name(front)}", name, group


@finding("target-blocked", "stops", "flow")
def target_blocked(context: Context) -> Iterator[Found]:
    """Neither requests nor probes reach a target from a front: it is never in use."""
    assert context.network is not None
    for pair, requests, probes in _blocked(context):
        if requests and (probes or context.network.groups.probe[int(context.network.pairs.group[pair])] is None):
            front, name, group = _called(context.network, pair)
            yield _found(context, _first_bad(requests), f"{front} cannot reach {name} of {group}", group)


@finding("probe-blocked", "stops", "flow")
def probe_blocked(context: Context) -> Iterator[Found]:
    """Requests would reach a target, but probes do not: it is never in use, though it would serve."""
    assert context.network is not None
    for pair, requests, probes in _blocked(context):
        if probes and not requests:
            front, name, group = _called(context.network, pair)
            message = f"the probe from {front} does not reach {name} of {group}, though requests would"
            yield _found(context, _first_bad(probes), message, group)


@finding("requests-blocked", "stops", "flow")
def requests_blocked(context: Context) -> Iterator[Found]:
    """Probes reach a target, but requests do not: it is in use, and all that is sent there vanishes."""
    assert context.network is not None
    network, paths = context.network, Paths.of(context.network)
    for pair, requests, probes in _blocked(context):
        watched = network.groups.probe[int(network.pairs.group[pair])] is not None
        if requests and watched and not probes and not paths.sees_client(int(network.pairs.front[pair])):
            front, name, group = _called(network, pair)
            message = f"requests from {front} do not reach {name} of {group}, though probes do: it is in use"
            yield _found(context, _first_bad(requests), message, group)


@finding("client-blocked-at-target", "stops", "flow")
def client_blocked_at_target(context: Context) -> Iterator[Found]:
    """A balancer passes on the client's own address, and a target's firewall knows only the balancer: probes pass and
    all requests of clients vanish."""
    assert context.network is not None
    network, paths = context.network, Paths.of(context.network)
    for pair, requests, probes in _blocked(context):
        if requests and not probes and paths.sees_client(int(network.pairs.front[pair])):
            front, name, group = _called(network, pair)
            message = f"{name} of {group} sees the addresses of clients behind {front}, and drops them"
            yield _found(context, _first_bad(requests), message, group)


@finding("nobody-in-use", "stops", "flow")
def nobody_in_use(context: Context) -> Iterator[Found]:
    """No front believes any target of a group in use though nothing has failed: whatever is sent there fails, or goes
    to the next choice."""
    assert context.flow is not None
    network, state = context.flow.network, context.flow.state
    for index, group in context.used_groups:
        mine = network.pairs.group == index
        if mine.any() and not state.in_use[mine].any():
            yield Found(
                place("target_groups", index, "targets"), group.name,
                f"no target of {group.name} is in use, though nothing has failed",
                "trace a probe: it says what it asks, and what it meets",
            )  # fmt: skip


@finding("page-missing", "stops", "flow")
def page_missing(context: Context) -> Iterator[Found]:
    """Clients ask a page that no target of the group they are led to answers well."""
    assert context.flow is not None
    flow, network = context.flow, context.flow.network
    encounter = flow.state.encounter
    for call in range(len(network.calls.client)):
        client = int(network.calls.client[call])
        if client >= len(context.plan.clients):
            continue
        fate = int(encounter.fate[network.calls.outcome[call]])
        reached = _pairs_of_call(network, call) & flow.state.in_use
        bad = encounter.bad_page[fate] & reached
        for group in np.unique(network.pairs.group[bad]).tolist():
            request = network.calls.requests[call]
            name = context.plan.target_groups[group].name
            if not (reached & (network.pairs.group == group) & ~encounter.bad_page[fate]).any():
                yield Found(
                    place("clients", client, "calls", int(network.calls.number[call]), "url"), name,
                    f"{context.plan.clients[client].name} ask {request.path}, which targets of {name} answer with an "
                    "error",
                    "let the targets serve it, or add a rule that sends it elsewhere",
                )  # fmt: skip


def _pairs_of_call(network: Network, call: int) -> Bools:
    """Per pair whether requests of a call may come there."""
    return np.asarray(network.kept.at_cells[call][network.pairs.cell])
