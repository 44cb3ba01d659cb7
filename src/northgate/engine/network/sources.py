"""The sources of client groups, in segments that every rule and firewall of the plan treats alike."""

import ipaddress
from collections.abc import Sequence
from hashlib import blake2b

import numpy as np
from msgspec import Struct

from northgate.engine.base import Bools, cached
from northgate.engine.formulas import Keys, mix64
from northgate.engine.matching import Range, span_of
from northgate.plan import Plan
from northgate.plan.models.traffic import ClientGroup

LOW_BITS = (1 << 64) - 1
# Networks up to this size times as many sources stay within 64 bits.
MOST_OF_64 = 1 << 40


class Numbers(Struct, frozen=True, eq=False):
    """Addresses as numbers: the lower 64 bits of each, and the upper ones (None where all are 0, as with IPv4)."""

    low: Keys
    high: Keys | None = None

    def __len__(self) -> int:
        return len(self.low)

    def __getitem__(self, place: int) -> int:
        """One address as a whole number."""
        return int(self.low[place]) + (int(self.high[place]) << 64 if self.high is not None else 0)

    def where(self, mine: Bools) -> "Numbers":
        """Some of them."""
        return Numbers(self.low[mine], None if self.high is None else self.high[mine])

    def within(self, first: int, last: int) -> Bools:
        """Which lie between two addresses, both included."""
        return self._at_least(first) & ~self._at_least(last + 1)

    def _at_least(self, number: int) -> Bools:
        if number >> 128 or (self.high is None and number >> 64):
            return np.zeros(len(self.low), dtype=bool)
        above = self.low >= np.uint64(number & LOW_BITS)
        if self.high is None:
            return above
        high = np.uint64(number >> 64)
        return np.asarray((self.high > high) | ((self.high == high) & above))


class Segment(Struct, frozen=True, eq=False, dict=True):
    """Sources of one client group (one past the last: the probers of names): their share, and their numbers.

    `span` is the first of them: all of them are in the same of the plan's networks, rules and firewalls.
    """

    client: int
    share: float
    version: int
    numbers: Numbers

    @property
    def span(self) -> Range | None:
        """The first source as a span of one address; None for those whose address is not known."""
        return (self.version, self.numbers[0], self.numbers[0]) if len(self.numbers) else None

    @cached
    def digest(self) -> bytes:
        """Equal for segments of the same sources."""
        whole = blake2b(self.numbers.low.tobytes(), digest_size=16)
        whole.update(b"" if self.numbers.high is None else self.numbers.high.tobytes())
        return whole.digest()

    @cached
    def keys(self) -> Keys:
        """The sources as keys of the hash."""
        low, high = self.numbers.low, self.numbers.high
        # Of an IPv6 address both halves are mixed into one.
        return low if high is None else np.where(high == 0, low, low ^ mix64(high))


def source_numbers(client: ClientGroup) -> Numbers:
    """The addresses of a client group's sources: spread evenly over its network, or over and over it.

    Source i is `base + floor(i * size / sources)`, or `base + i mod size` if there are more sources than addresses.
    """
    network = ipaddress.ip_network(client.cidr)
    base, size, count = int(network.network_address), network.num_addresses, client.sources
    place = np.arange(count, dtype=np.uint64)
    if count > size:
        low = np.uint64(base & LOW_BITS) + place % np.uint64(size)
        return Numbers(low) if not base >> 64 else Numbers(low, np.full(count, base >> 64, dtype=np.uint64))
    if size <= MOST_OF_64:
        low = np.uint64(base & LOW_BITS) + place * np.uint64(size) // np.uint64(count)
        return Numbers(low) if not base >> 64 else Numbers(low, np.full(count, base >> 64, dtype=np.uint64))
    numbers = [base + index * size // count for index in range(count)]
    high = np.array([number >> 64 for number in numbers], dtype=np.uint64)
    return Numbers(np.array([number & LOW_BITS for number in numbers], dtype=np.uint64), high)


def address_text(version: int, number: int) -> str:
    """A source's number as an address."""
    return str(ipaddress.IPv4Address(number) if version == 4 else ipaddress.IPv6Address(number))


def segments_of(plan: Plan) -> tuple[Segment, ...]:
    """Every client group's segments, in plan order; last the segment of those who probe names."""
    cidrs = _cidrs(plan)
    found: list[Segment] = []
    for index, client in enumerate(plan.clients):
        found += _split(index, client, cidrs)
    return (*found, Segment(len(plan.clients), 0.0, 4, Numbers(np.zeros(0, dtype=np.uint64))))


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
    inside = np.stack([numbers.within(low, high) for _, low, high in cutting], axis=1)
    return [Segment(index, float(mine.mean()), version, numbers.where(mine)) for mine in _kinds(inside)]


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
