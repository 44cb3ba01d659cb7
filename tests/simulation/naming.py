"""Names of a simulated plan: what they answer to whom, as it stood when the asker last asked."""

from collections.abc import Callable
from itertools import chain
from typing import NamedTuple

from northgate.plan import Plan
from northgate.plan.models.balancers import Balancer
from northgate.plan.models.traffic import Answer, DnsEntry, LastResort
from tests.simulation.places import Front


class Address(NamedTuple):
    """Where an answer leads: to a balancer's shared address, or to one of its fronts; outside the plan (no balancer)
    to an address or a host."""

    balancer: str
    front: Front | None
    outside: str = ""


class Given(NamedTuple):
    """What a name goes by from a second on: which answers its probers believe in, which fronts are in addresses, and
    the answers, if those have been changed by hand."""

    since_s: float
    healthy: tuple[bool, ...]
    present: frozenset[Front]
    answers: tuple[Answer, ...] | None = None


# The ways one may be led, each a list of addresses to try, with the share of askers led so.
Ways = list[tuple[float, list[Address]]]


class Names:
    """All names and their answers over time."""

    def __init__(self, plan: Plan, fronts: list[Front]) -> None:
        self.plan = plan
        self._balancers = {one.name: one for one in plan.balancers}
        self._latency = {one.name: one.latency_ms for one in plan.areas}
        self._region = {zone: region.name for region in plan.regions for zone in region.zones}
        self._entries = {one.name: one for one in plan.names}
        self._given = {one.name: [Given(0.0, (True,) * len(one.answers), frozenset(fronts))] for one in plan.names}
        self._below: dict[str, list[str]] = {}
        self._by_hand: dict[str, tuple[Answer, ...]] = {}
        self._ways: dict[tuple[str, str | None, tuple[int, ...]], Ways] = {}

    def ttl_s(self, name: str) -> float:
        """How long a name's answers may be kept."""
        return self._entries[name].ttl_s

    def change(self, name: str, now: float, healthy: tuple[bool, ...], present: frozenset[Front]) -> None:
        """From now on a name goes by these beliefs and addresses."""
        answers = self._by_hand.get(name)
        known = healthy if answers is None else (True,) * len(answers)
        self._given[name].append(Given(now, known, present, answers))

    def answer(self, name: str, answers: tuple[Answer, ...]) -> None:
        """A record that nobody watches is changed by hand, from the next change on."""
        self._by_hand[name] = answers

    def below(self, name: str) -> list[str]:
        """A name and those that it is an alias of, each of which has a record of its own."""
        if name not in self._below:
            under = [self.below(one.host) for one in self._entries[name].answers if one.host in self._entries]
            self._below[name] = [name, *chain(*under)]
        return self._below[name]

    def ways(self, name: str, area: str | None, asked_s: Callable[[str], float]) -> Ways:
        """How somebody is led who asked each name at a second of its own."""
        numbers = tuple(self._number(one, asked_s(one)) for one in self.below(name))
        key = (name, area, numbers)
        if key not in self._ways:
            self._ways[key] = self._led(name, area, dict(zip(self.below(name), numbers, strict=True)))
        return self._ways[key]

    def _number(self, name: str, asked_s: float) -> int:
        given = self._given[name]
        return next(number for number in reversed(range(len(given))) if given[number].since_s <= asked_s or not number)

    def _led(self, name: str, area: str | None, numbers: dict[str, int]) -> Ways:
        entry, given = self._entries[name], self._given[name][numbers[name]]
        if given.answers is not None:
            entry = entry.model_copy(update={"answers": list(given.answers)})
        healthy = [number for number, well in enumerate(given.healthy) if well]
        if not healthy and entry.when_none_healthy:
            return self._behind(entry.when_none_healthy, area, given, numbers)
        if not entry.answers:
            return [(1.0, [])]
        shares = self._chosen(entry, area, healthy or list(range(len(entry.answers))))
        some = [(share, self._behind(entry.answers[number], area, given, numbers), number) for number, share in shares]
        if entry.choose in ("all", "area"):
            together: Ways = [(1.0, [])]
            for _, ways, _ in some:
                together = [(one * other, [*head, *tail]) for one, head in together for other, tail in ways]
            left = [address for _, _, number in some for address in self._left(entry.answers[number])]
            return [(share, addresses or left) for share, addresses in together]
        return [
            (share * other, addresses or self._left(entry.answers[number]))
            for share, ways, number in some
            for other, addresses in ways
        ]

    def _behind(self, answer: LastResort, area: str | None, given: Given, numbers: dict[str, int]) -> Ways:
        """What an answer leads to: another name's ways, addresses of a balancer, or something outside."""
        if answer.host in self._entries:
            return self._led(answer.host, area, numbers)
        return [(1.0, self._addresses(answer.balancer, given) if answer.balancer else [_away(answer)])]

    def _chosen(self, entry: DnsEntry, area: str | None, usable: list[int]) -> list[tuple[int, float]]:
        answers = entry.answers
        if entry.choose == "order":
            kept = entry.standby_share if len(usable) > 1 else 0.0
            return [(usable[0], 1 - kept), *((number, kept) for number in usable[1:2])]
        if entry.choose == "share":
            whole = sum(answers[number].weight for number in usable)
            return [(number, answers[number].weight / whole) for number in usable]
        if entry.choose == "nearest":
            return [(min(usable, key=lambda number: self._trip_ms(answers[number].balancer or "", area)), 1.0)]
        if entry.choose == "area":
            own = [number for number in usable if area in answers[number].areas]
            usable = own or [number for number in usable if not answers[number].areas] or usable
        return [(number, 1.0) for number in usable]

    def _trip_ms(self, balancer: str, area: str | None) -> float:
        latency = self._latency.get(area or "", {})
        return min(latency.get(self._region[zone], 0.0) for zone in self._balancers[balancer].zones)

    def _addresses(self, name: str, given: Given) -> list[Address]:
        balancer = self._balancers[name]
        if balancer.address_kind != "per-zone":
            return [Address(name, None)]
        return [Address(name, front) for front in self._fronts(balancer) if front in given.present]

    def _left(self, answer: Answer) -> list[Address]:
        """What is tried where an answer has no address: those that its fronts had."""
        balancer = self._balancers.get(answer.balancer or "")
        return [Address(one.balancer, one) for one in self._fronts(balancer)] if balancer else []

    def _fronts(self, balancer: Balancer) -> list[Front]:
        return [Front(balancer.name, zone) for zone in balancer.zones]


def _away(answer: LastResort) -> Address:
    return Address("", None, answer.address or answer.host or "")
