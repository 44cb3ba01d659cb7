"""Who can reach whom: the route between two networks, and the stateful firewalls at both ends.

One function serves requests, probes and the probes of names. A connection passes if there is a route, the firewall at
its source lets it out and the one at its destination lets it in; its answers then pass by themselves.
"""

from collections.abc import Callable, Collection, Sequence
from functools import cached_property, lru_cache, partial
from typing import Any, Literal

from msgspec import Struct

from northgate.engine.matching.spans import Range, narrowest, within
from northgate.plan import Plan
from northgate.plan.models.balancers import Balancer
from northgate.plan.models.places import AllowIn, AllowOut, Firewall
from northgate.plan.problems import pointer

GoneRules = Collection[tuple[str, int]]
"""Allow rules that a fault has taken away: firewall and index."""


class End(Struct, frozen=True):
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


class Remedy(Struct, frozen=True):
    """One edit that would help: in words, and as a JSON Patch."""

    words: str
    patch: tuple[dict[str, Any], ...]


class Told(Struct, frozen=True):
    """What is told of something that a connection passes or not: what it is about, why, where in the plan that stands,
    and what would let it pass."""

    about: str
    because: str
    where: str
    remedy: Remedy | None = None


class Check:
    """One thing that a connection passes or not; what is told of it is worked out when somebody asks, as mostly it only
    matters whether it is passed."""

    def __init__(self, kind: Literal["route", "firewall"], ok: bool, tell: Callable[[], Told]) -> None:
        self.kind, self.ok, self._tell = kind, ok, tell

    @cached_property
    def _told(self) -> Told:
        return self._tell()

    @property
    def about(self) -> str:
        """The networks at both ends, or the firewall."""
        return self._told.about

    @property
    def because(self) -> str:
        """Why it is passed, or not."""
        return self._told.because

    @property
    def where(self) -> str:
        """Where in the plan that stands (JSON Pointer)."""
        return self._told.where

    @property
    def remedy(self) -> Remedy | None:
        """What would let it pass; None where it does, or nothing would."""
        return self._told.remedy


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
    way = _open_way(plan, source, to)
    if way is not None:
        return Check("route", True, lambda: Told(*_route_place(plan, source, to, because=_open_words(way, source, to))))
    return Check("route", False, lambda: _no_route(plan, source, to))


def _route_place(plan: Plan, source: End, to: End, because: str) -> tuple[str, str, str]:
    """What a route is about, why it is there or not, and the place of the network to which it leads."""
    about = " → ".join(dict.fromkeys(end.network or "the public Internet" for end in (source, to)))
    place = {network.name: index for index, network in enumerate(plan.networks)}
    return about, because, pointer(("networks", place[to.network])) if to.network in place else ""


def _no_route(plan: Plan, source: End, to: End) -> Told:
    if source.outside:
        about, because, at = _route_place(
            plan, source, to, f"{to.label} is internal: no route from the public Internet"
        )
        return Told(about, because, to.where or at)
    about, because, at = _route_place(plan, source, to, f"{source.network} and {to.network} are not peers")
    patch = {"op": "add", "path": f"{at}/peers/-", "value": source.network}
    return Told(about, because, f"{at}/peers", Remedy(f"peer {to.network} with {source.network}", (patch,)))


OpenWay = Literal["undrawn", "outside", "same", "peers", "public"]


def _open_way(plan: Plan, source: End, to: End) -> OpenWay | None:
    """Why there is a route; None when there is none."""
    if _undrawn(source, to) is not None:
        return "undrawn"
    if to.outside:
        return "outside"
    if not source.outside and source.network == to.network:
        return "same"
    if _peers(plan, source.network or "", to.network or ""):
        return "peers"
    return "public" if to.public else None


def _open_words(way: OpenWay, source: End, to: End) -> str:
    undrawn = _undrawn(source, to)
    return {
        "undrawn": f"no network is drawn for {undrawn and undrawn.label}: nothing stands in its way",
        "outside": f"{to.label} is on the public Internet",
        "same": f"both stand in {to.network}",
        "peers": f"{source.network} and {to.network} are peers",
        "public": f"{to.label} can be reached from the public Internet",
    }[way]


def _undrawn(source: End, to: End) -> End | None:
    """The end for which no network is drawn."""
    return next((end for end in (source, to) if not end.outside and end.network is None), None)


def _peers(plan: Plan, one: str, other: str) -> bool:
    wanted = {one: other, other: one}
    return any(wanted.get(network.name) in network.peers for network in plan.networks if network.name in wanted)


def _lets_out(index: int, firewall: Firewall, to: End, protocol: str, port: int) -> Check:
    if firewall.allow_out == "any":
        at = pointer(("firewalls", index, "allow_out"))
        return Check("firewall", True, lambda: Told(firewall.name, "lets everything out", at))
    for number, rule in enumerate(firewall.allow_out):
        if _fits(rule, protocol, port) and _names(rule.to, to):
            return Check("firewall", True, partial(_rule_told, index, firewall, number, rule))
    return Check("firewall", False, lambda: _kept_in(index, firewall, to, protocol, port))


def _rule_told(index: int, firewall: Firewall, number: int, rule: AllowIn | AllowOut) -> Told:
    """Of a rule that lets something pass."""
    field, does = ("allow_in", "allows") if isinstance(rule, AllowIn) else ("allow_out", "lets out")
    at = pointer(("firewalls", index, field, number))
    return Told(firewall.name, f"rule {number + 1} {does} {_words(rule)}", at)


def _kept_in(index: int, firewall: Firewall, to: End, protocol: str, port: int) -> Told:
    at, wanted = pointer(("firewalls", index, "allow_out")), _peer_of(to, to)
    value = {"protocol": protocol, "ports": [str(port)], "to": wanted}
    remedy = Remedy(
        f"let {firewall.name} send {protocol} {port} to {wanted}",
        ({"op": "add", "path": f"{at}/-", "value": value},),
    )
    because = f"no rule of {firewall.name} lets out {protocol} {port} to {to.label}"
    return Told(firewall.name, because, at, remedy)


def _lets_in(index: int, firewall: Firewall, to: End, needs: Sequence[Need], gone: GoneRules) -> Check:
    """Whether a firewall takes the first of what is needed; where it does not, the remedy lets it take all."""
    number = _allowing(firewall, needs[0], gone)
    if number is not None:
        return Check("firewall", True, lambda: _rule_told(index, firewall, number, firewall.allow_in[number]))
    return Check("firewall", False, lambda: _kept_out(index, firewall, to, needs, gone))


def _kept_out(index: int, firewall: Firewall, to: End, needs: Sequence[Need], gone: GoneRules) -> Told:
    at = pointer(("firewalls", index, "allow_in"))
    seen, protocol, port = needs[0]
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
    return Told(firewall.name, because, at, None if lost else remedy)


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
    return any(low <= port <= high for low, high in map(_ports, rule.ports))


@lru_cache(10_000)
def _ports(text: str) -> tuple[int, int]:
    """The first and the last of some ports: `80`, or `8000-8099`."""
    low, _, high = text.partition("-")
    return int(low), int(high or low)


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
