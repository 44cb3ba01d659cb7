"""What names answer: how one is chosen, and to which balancers it leads.

A leaf is one place to which a name may lead: a balancer (one front of it, where each front has its own address) or
something outside the plan. An option is one leaf for those who ask from one area; its share says how many are told it.
"""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

import numpy as np

from northgate.engine.errors import CannotRun
from northgate.engine.routing import plain_host
from northgate.engine.types import Bools, Floats
from northgate.plan import Plan, Problem
from northgate.plan.addressing import AddressBook
from northgate.plan.groups import Target
from northgate.plan.problems import pointer
from northgate.plan.traffic import DnsEntry, LastResort


@dataclass(frozen=True)
class Leaf:
    """Where a name leads: `path` are the names and answers (place in the list; one past it: the last resort) that lead
    there. `balancer` -1: outside the plan. `front` -1: any front of the balancer."""

    path: tuple[tuple[int, int], ...]
    balancer: int
    front: int


def answer_shares(entry: DnsEntry, healthy: Bools, latency_s: Floats, area: str | None, addresses: Floats) -> Floats:
    """The share of those who ask that is told each answer, the last resort being one past the last; sums to 1.

    `healthy` per answer; `latency_s` per answer from the area of those who ask; `addresses`: how many addresses each
    answer consists of now. With none healthy the last resort answers, without one all are taken for healthy.
    """
    count = len(entry.answers)
    share = np.zeros(count + 1)
    usable = healthy.copy()
    if not usable.any():
        if entry.when_none_healthy or not count:
            share[count] = 1.0
            return share
        usable[:] = True
    share[:count] = _chosen(entry, np.flatnonzero(usable), latency_s, area, addresses)
    return share


def _chosen(entry: DnsEntry, usable: np.ndarray, latency_s: Floats, area: str | None, addresses: Floats) -> Floats:
    share = np.zeros(len(entry.answers))
    if entry.choose == "order":
        share[usable[0]] = 1.0
        if len(usable) > 1:
            share[usable[:2]] = 1 - entry.standby_share, entry.standby_share
    elif entry.choose == "nearest":
        share[usable[int(latency_s[usable].argmin())]] = 1.0
    elif entry.choose == "share":
        weight = np.array([entry.answers[index].weight for index in usable], dtype=np.float64)
        share[usable] = weight / weight.sum() if weight.sum() > 0 else 1 / len(usable)
    else:
        told = usable
        if entry.choose == "area":
            meant = [i for i in usable if area is not None and area in entry.answers[i].areas]
            told = np.array(meant or [i for i in usable if not entry.answers[i].areas] or usable, dtype=np.int64)
        many = addresses[told]
        share[told] = many / many.sum() if many.sum() > 0 else 1 / len(told)
    return share


class NameBook:
    """The names of a plan, compiled: their leaves, and for each area that asks the options among them."""

    def __init__(self, plan: Plan, book: AddressBook) -> None:
        self.plan = plan
        self._book = book
        self._names = {plain_host(entry.name): index for index, entry in enumerate(plan.names)}
        self._balancers = {balancer.name: index for index, balancer in enumerate(plan.balancers)}
        starts = np.cumsum([0, *(len(balancer.zones) for balancer in plan.balancers)])
        self._fronts = [
            range(int(start), int(end)) if balancer.address_kind == "per-zone" else None
            for balancer, start, end in zip(plan.balancers, starts[:-1], starts[1:], strict=True)
        ]
        self._regions = {zone: region.name for region in plan.regions for zone in region.zones}
        self.leaves = [tuple(self._leaves(index, ())) for index in range(len(plan.names))]
        self.asked: list[tuple[int, int, Leaf]] = []
        """Every option: name, area and leaf."""
        self.checks: tuple[tuple[int, int, int, int], ...] = ()
        # What was worked out last, by what it depends on.
        self._shares: dict[tuple[bytes, ...], Floats] = {}
        self._option_at: dict[tuple[int, int], int] = {}

    def index(self, host: str) -> int | None:
        """The name that a host is."""
        return self._names.get(host)

    def add_check(self, name: int, answer: int, area: int, call: int) -> None:
        """Notes that a call is the probe of an answer from an area."""
        self.checks = (*self.checks, (name, answer, area, call))

    def leaf_of_address(self, address: str) -> Leaf:
        """Where an address leads."""
        owner, place = self._book.owner_balancer.get(address, (None, 0))
        if owner is None:
            return Leaf((), -1, -1)
        fronts = self._fronts[self._balancers[owner]]
        return Leaf((), self._balancers[owner], fronts[place] if fronts else -1)

    def leaves_of_target(self, target: Target, balancer_at: dict[str, int]) -> Sequence[Leaf]:
        """Where a target leads that is no machine."""
        if target.balancer in balancer_at:
            return [Leaf((), balancer_at[target.balancer or ""], -1)]
        if target.address in self._book.owner_balancer:
            return [self.leaf_of_address(target.address or "")]
        name = self.index(plain_host(target.host)) if target.host else None
        return self.leaves[name] if name is not None else []

    def _leaves(self, name: int, above: tuple[tuple[int, int], ...]) -> Iterator[Leaf]:
        if name in [one for one, _ in above]:
            around = " → ".join(self.plan.names[one].name for one in [*(one for one, _ in above), name])
            raise CannotRun([Problem(pointer(("names", name, "answers")), f"the name leads back to itself: {around}")])
        entry = self.plan.names[name]
        answers: list[LastResort] = [*entry.answers, *([entry.when_none_healthy] if entry.when_none_healthy else [])]
        for number, answer in enumerate(answers):
            path = (*above, (name, number))
            inner = self.index(plain_host(answer.host)) if answer.host else None
            if inner is not None:
                yield from self._leaves(inner, path)
                continue
            leaf = self.leaf_of_address(answer.address) if answer.address else Leaf((), -1, -1)
            if answer.balancer:
                leaf = Leaf((), self._balancers.get(answer.balancer, -1), -1)
            fronts = self._fronts[leaf.balancer] if leaf.balancer >= 0 and leaf.front < 0 else None
            for front in fronts or [leaf.front]:
                yield Leaf(path, leaf.balancer, front)

    def options(self, name: int, area: int) -> list[tuple[int, Leaf]]:
        """The leaves of a name for those who ask from an area, with their places among all options."""
        key = (name, area)
        if key not in self._option_at:
            self._option_at[key] = len(self.asked)
            self.asked += [(name, area, leaf) for leaf in self.leaves[name]]
        start = self._option_at[key]
        return [(start + place, leaf) for place, leaf in enumerate(self.leaves[name])]

    def options_of_answer(self, name: int, answer: int, area: int) -> list[tuple[int, Leaf]]:
        """The leaves of one answer, as if it were all that the name answers: one for each address of it."""
        key = (-1 - name * 1000 - answer, area)
        mine = [leaf for leaf in self.leaves[name] if leaf.path[0] == (name, answer)]
        if key not in self._option_at:
            self._option_at[key] = len(self.asked)
            self.asked += [(key[0], area, leaf) for leaf in mine]
        return [(self._option_at[key] + place, leaf) for place, leaf in enumerate(mine)]

    def latency_s(self, name: int, area: int) -> Floats:
        """The round trip from an area to each answer's nearest region; inf where none is known."""
        table = self.plan.areas[area].latency_ms if area >= 0 else {}
        found = []
        for answer in self.plan.names[name].answers:
            zones = self.plan.balancers[self._balancers[answer.balancer]].zones if answer.balancer else ()
            trips = [table[self._regions[zone]] / 1000 for zone in zones if self._regions[zone] in table]
            found.append(min(trips, default=np.inf))
        return np.array(found)

    def shares(self, healthy: Sequence[Bools], present: Bools) -> Floats:
        """The share of each option; `healthy[n]` per answer of name n, `present` per front: in its address.

        Sums to 1 over the options of a name and area, unless nobody has an address there any more.
        """
        key = (present.tobytes(), *(one.tobytes() for one in healthy))
        if key not in self._shares:
            made = np.zeros(len(self.asked))
            known: dict[tuple[int, int], Floats] = {}
            for place, (name, area, leaf) in enumerate(self.asked):
                made[place] = self._share(leaf, area, healthy, present, known, skip=int(name < 0))
            self._shares = {key: made}
        return self._shares[key]

    def leaf_shares(self, name: int, area: int, healthy: Sequence[Bools], present: Bools) -> Floats:
        """The share of each leaf of a name for those who ask from an area."""
        return np.array([self._share(leaf, area, healthy, present, {}) for leaf in self.leaves[name]])

    def _share(
        self, leaf: Leaf, area: int, healthy: Sequence[Bools], present: Bools,
        known: dict[tuple[int, int], Floats], skip: int = 0,
    ) -> float:  # fmt: skip
        """The share of one leaf; `skip` of its steps are taken for granted."""
        share = 1.0
        for name, answer in leaf.path[skip:]:
            if (name, area) not in known:
                known[name, area] = self._answers(name, area, healthy[name], present)
            share *= float(known[name, area][answer])
        if leaf.front >= 0:
            siblings = self._fronts[leaf.balancer] or [leaf.front]
            living = present[list(siblings)].sum()
            share *= float(present[leaf.front]) / living if living else 1 / len(siblings)
        return share

    def _answers(self, name: int, area: int, healthy: Bools, present: Bools) -> Floats:
        entry = self.plan.names[name]
        word = self.plan.areas[area].name if area >= 0 else None
        return answer_shares(entry, healthy, self.latency_s(name, area), word, self._addresses(name, present))

    def _addresses(self, name: int, present: Bools) -> Floats:
        """How many addresses each answer of a name consists of now."""
        counts = []
        for answer in self.plan.names[name].answers:
            fronts = self._fronts[self._balancers[answer.balancer]] if answer.balancer else None
            counts.append(float(present[list(fronts)].sum()) if fronts else 1.0)
        return np.array(counts)
