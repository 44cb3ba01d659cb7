"""Who can reach whom: the route between two networks, and the stateful firewalls at both ends.

One function serves requests, probes and the probes of names. A connection passes if there is a route, the firewall at
its source lets it out and the one at its destination lets it in; its answers then pass by themselves.
"""

from collections.abc import Collection, Sequence
from dataclasses import dataclass
from typing import Any, Literal

from northgate.engine.matching.spans import Range, narrowest, within
from northgate.plan import Plan
from northgate.plan.models.balancers import Balancer
from northgate.plan.models.places import AllowIn, AllowOut, Firewall
from northgate.plan.problems import pointer

GoneRules = Collection[tuple[str, int]]
"""Allow rules that a fault has taken away: firewall and index."""


@dataclass(frozen=True)
class End:
    """One end of a connection.

    `network` is None where none is drawn; `outside` is the public Internet. `span` are the addresses that it may have,
    None when they are not known. `balancer` and `firewall` are its names in rules; `whole` is the range of all that are
    like it, as a client group's sources or the machines of a subnet.
    """

    label: str
    network: str | None = None
    outside: bool = False
    public: bool = False
    span: Range | None = None
    firewall: str | None = None
    balancer: str | None = None
    whole: str | None = None
    where: str = ""


Need = tuple[End, str, int]
"""Something that must come through: from whom, by which protocol, to which port."""


@dataclass(frozen=True)
class Remedy:
    """One edit that would help: in words, and as a JSON Patch."""

    words: str
    patch: tuple[dict[str, Any], ...]


@dataclass(frozen=True)
class Check:
    """One thing that a connection passes or not: why, where in the plan that stands, and what would let it pass."""

    kind: Literal["route", "firewall"]
    about: str
    ok: bool
    because: str
    where: str
    remedy: Remedy | None = None


def checks(
    plan: Plan,
    source: End,
    to: End,
    protocol: str,
    port: int,
    *,
    seen: End | None = None,
    gone: GoneRules = (),
    also: Sequence[Need] = (),
) -> list[Check]:
    """Everything on the way from `source` to `to`; `seen` is whom the destination's firewall sees as the source. What
    else the destination needs is allowed along with what would help (`also`)."""
    found = [_route(plan, source, to)]
    firewalls = {firewall.name: (index, firewall) for index, firewall in enumerate(plan.firewalls)}
    if source.firewall in firewalls:
        found.append(_lets_out(*firewalls[source.firewall], to, protocol, port))
    if to.firewall in firewalls:
        found.append(_lets_in(*firewalls[to.firewall], to, [(seen or source, protocol, port), *also], gone))
    return found


def passes(found: Sequence[Check]) -> bool:
    """Whether a connection passes all of them."""
    return all(one.ok for one in found)


def _route(plan: Plan, source: End, to: End) -> Check:
    ends = dict.fromkeys(end.network or "the public Internet" for end in (source, to))
    both = " → ".join(ends)
    place = {network.name: index for index, network in enumerate(plan.networks)}
    at = pointer(("networks", place[to.network])) if to.network in place else ""
    why = _open_way(plan, source, to)
    if why:
        return Check("route", both, True, why, at)
    if source.outside:
        return Check("route", both, False, f"{to.label} is internal: no route from the public Internet", to.where or at)
    patch = {"op": "add", "path": f"{at}/peers/-", "value": source.network}
    remedy = Remedy(f"peer {to.network} with {source.network}", (patch,))
    return Check("route", both, False, f"{source.network} and {to.network} are not peers", f"{at}/peers", remedy)


def _open_way(plan: Plan, source: End, to: End) -> str | None:
    """Why there is a route; None when there is none."""
    undrawn = next((end for end in (source, to) if not end.outside and end.network is None), None)
    ways = (
        (undrawn is not None, f"no network is drawn for {undrawn and undrawn.label}: nothing stands in its way"),
        (to.outside, f"{to.label} is on the public Internet"),
        (not source.outside and source.network == to.network, f"both stand in {to.network}"),
        (_peers(plan, source.network or "", to.network or ""), f"{source.network} and {to.network} are peers"),
        (to.public, f"{to.label} can be reached from the public Internet"),
    )
    return next((why for open_, why in ways if open_), None)


def _peers(plan: Plan, one: str, other: str) -> bool:
    declared = {(network.name, peer) for network in plan.networks for peer in network.peers}
    return (one, other) in declared or (other, one) in declared


def _lets_out(index: int, firewall: Firewall, to: End, protocol: str, port: int) -> Check:
    at = pointer(("firewalls", index, "allow_out"))
    if firewall.allow_out == "any":
        return Check("firewall", firewall.name, True, "lets everything out", at)
    for number, rule in enumerate(firewall.allow_out):
        if _fits(rule, protocol, port) and _names(rule.to, to):
            return Check(
                "firewall", firewall.name, True, f"rule {number + 1} lets out {_words(rule)}", f"{at}/{number}"
            )
    wanted = _peer_of(to, to)
    value = {"protocol": protocol, "ports": [str(port)], "to": wanted}
    remedy = Remedy(
        f"let {firewall.name} send {protocol} {port} to {wanted}",
        ({"op": "add", "path": f"{at}/-", "value": value},),
    )
    because = f"no rule of {firewall.name} lets out {protocol} {port} to {to.label}"
    return Check("firewall", firewall.name, False, because, at, remedy)


def _lets_in(index: int, firewall: Firewall, to: End, needs: Sequence[Need], gone: GoneRules) -> Check:
    """Whether a firewall takes the first of what is needed; where it does not, the remedy lets it take all."""
    at = pointer(("firewalls", index, "allow_in"))
    seen, protocol, port = needs[0]
    number = _allowing(firewall, needs[0], gone)
    if number is not None:
        words = _words(firewall.allow_in[number])
        return Check("firewall", firewall.name, True, f"rule {number + 1} allows {words}", f"{at}/{number}")
    lost = [number for number in range(len(firewall.allow_in)) if (firewall.name, number) in gone]
    standing = "" if not lost else f" (rule {', '.join(str(number + 1) for number in lost)} is gone)"
    lacking = [need for need in needs if _allowing(firewall, need, gone) is None]
    wanted = dict.fromkeys((spoken, asked, _peer_of(end, to)) for end, spoken, asked in lacking)
    remedy = Remedy(
        f"let {firewall.name} take " + " and ".join(f"{spoken} {asked} from {peer}" for spoken, asked, peer in wanted),
        tuple(
            {"op": "add", "path": f"{at}/-", "value": {"protocol": spoken, "ports": [str(asked)], "from": peer}}
            for spoken, asked, peer in wanted
        ),
    )
    because = f"no rule of {firewall.name} allows {protocol} {port} from {seen.label}{standing}"
    return Check("firewall", firewall.name, False, because, at, None if lost else remedy)


def _allowing(firewall: Firewall, need: Need, gone: GoneRules) -> int | None:
    """The rule that lets a firewall take something; None without one."""
    end, protocol, port = need
    rules = enumerate(firewall.allow_in)
    fitting = (
        number
        for number, rule in rules
        if (firewall.name, number) not in gone and _fits(rule, protocol, port) and _names(rule.source, end)
    )
    return next(fitting, None)


def _words(rule: AllowIn | AllowOut) -> str:
    way = f"from {rule.source}" if isinstance(rule, AllowIn) else f"to {rule.to}"
    return f"{rule.protocol} {', '.join(rule.ports)} {way}"


def _fits(rule: AllowIn | AllowOut, protocol: str, port: int) -> bool:
    if rule.protocol not in ("any", protocol):
        return False
    spans = (text.partition("-") for text in rule.ports)
    return any(int(low) <= port <= int(high or low) for low, _, high in spans)


def _names(peer: str, end: End) -> bool:
    """Whether `any`, a CIDR, `balancer:NAME` or `firewall:NAME` means this end."""
    if peer == "any":
        return True
    kind, colon, name = peer.partition(":")
    if colon and kind == "balancer":
        return end.balancer == name
    if colon and kind == "firewall":
        return end.firewall == name
    return end.span is not None and within(end.span, peer)


def _peer_of(end: End, to: End) -> str:
    """The narrowest word in a rule at `to` for an end and all that are like it: never a single one of many."""
    if end.balancer:
        return f"balancer:{end.balancer}"
    if end.firewall:
        return f"firewall:{end.firewall}"
    if end.span is None or (end.outside and to.public and to.balancer):
        return "any"
    if end.whole:
        return end.whole
    return "any" if end.outside else narrowest(end.span)


def seen_source(balancer: Balancer) -> str:
    """Whom targets see as the source: the balancer (by default at layer 7), or the client (at layer 4)."""
    return balancer.source_seen or ("balancer" if balancer.layer == 7 else "client")
