"""The sources of client groups, in segments that every rule and firewall of the plan treats alike."""

import ipaddress
from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property, lru_cache

import numpy as np

from northgate.engine.base import Bools
from northgate.engine.formulas import Keys, address_keys
from northgate.engine.matching import Range, span_of
from northgate.plan import Plan
from northgate.plan.traffic import ClientGroup


@dataclass(frozen=True)
class Segment:
    """Sources of one client group (one past the last: the probers of names): their share, and their numbers.

    `span` is the first of them: all of them are in the same of the plan's networks, rules and firewalls.
    """

    client: int
    share: float
    version: int
    numbers: tuple[int, ...]

    @property
    def span(self) -> Range | None:
        """The first source as a span of one address; None for those whose address is not known."""
        return (self.version, self.numbers[0], self.numbers[0]) if self.numbers else None

    @cached_property
    def digest(self) -> int:
        """Equal for segments of the same sources."""
        return hash(self.numbers)

    @cached_property
    def keys(self) -> Keys:
        """The sources as keys of the hash."""
        return address_keys(self.numbers)


def source_numbers(client: ClientGroup) -> tuple[int, ...]:
    """The addresses of a client group's sources as numbers: spread evenly over its network, or over and over it."""
    return _spread_over(client.cidr, client.sources)


@lru_cache(maxsize=256)
def _spread_over(cidr: str, count: int) -> tuple[int, ...]:
    """Kept, for most edits of a plan leave its sources as they are."""
    network = ipaddress.ip_network(cidr)
    base, size = int(network.network_address), network.num_addresses
    if count > size:
        return tuple(base + index % size for index in range(count))
    return tuple(base + index * size // count for index in range(count))


def address_text(version: int, number: int) -> str:
    """A source's number as an address."""
    return str(ipaddress.IPv4Address(number) if version == 4 else ipaddress.IPv6Address(number))


def segments_of(plan: Plan) -> tuple[Segment, ...]:
    """Every client group's segments, in plan order; last the segment of those who probe names."""
    cidrs = _cidrs(plan)
    found: list[Segment] = []
    for index, client in enumerate(plan.clients):
        found += _split(index, client, cidrs)
    return (*found, Segment(len(plan.clients), 0.0, 4, ()))


def _cidrs(plan: Plan) -> list[str]:
    """Every network that a rule, a firewall or the plan itself names."""
    rules = [rule for balancer in plan.balancers for listener in balancer.listeners for rule in listener.rules]
    named = [cidr for rule in rules for cidr in rule.when.source or ()]
    for firewall in plan.firewalls:
        named += [rule.source for rule in firewall.allow_in]
        named += [rule.to for rule in firewall.allow_out] if firewall.allow_out != "any" else []
    named += [network.cidr for network in plan.networks]
    return sorted({one for one in named if one != "any" and not one.startswith(("balancer:", "firewall:"))})


def _split(index: int, client: ClientGroup, cidrs: Sequence[str]) -> list[Segment]:
    numbers, version = source_numbers(client), ipaddress.ip_network(client.cidr).version
    cutting = [span for span in map(span_of, cidrs) if _cuts(span, client.cidr)]
    if not cutting:
        return [Segment(index, 1.0, version, numbers)]
    inside = np.array([[low <= number <= high for _, low, high in cutting] for number in numbers], dtype=bool)
    return [
        Segment(index, float(mine.mean()), version, tuple(n for n, one in zip(numbers, mine, strict=True) if one))
        for mine in _kinds(inside)
    ]


def _kinds(inside: Bools) -> list[Bools]:
    """The rows that are alike, as masks, in order of their first row."""
    _, first, kind = np.unique(inside, axis=0, return_index=True, return_inverse=True)
    return [kind.ravel() == number for number in np.argsort(first)]


def _cuts(span: Range, cidr: str) -> bool:
    """Whether a span holds some, but not all, of a network."""
    version, low, high = span_of(cidr)
    apart = span[2] < low or span[1] > high
    whole = span[1] <= low and high <= span[2]
    return span[0] == version and not apart and not whole
