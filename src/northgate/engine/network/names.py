"""What names answer: how one is chosen, and to which balancers it leads.

A leaf is one place to which a name may lead: a balancer (one front of it, where each front has its own address) or
something outside the plan. An asker is a name (or one answer of it, which a probe watches) and an area that asks it.
What it is told is a set of leaves: the addresses that one answer lists together. A name that leads on by host name to
another one of the plan is an alias: its record and the other's are kept apart, each by its own time to live (RFC 1034,
3.6.2).
"""

from collections.abc import Callable, Iterator, Sequence

import numpy as np
from msgspec import Struct

from northgate.engine.base import Bools, CannotRun, Floats, cached
from northgate.engine.matching import plain_host
from northgate.engine.network.answers import Sets, answer_shares
from northgate.plan import Plan, Problem
from northgate.plan.models.addressing import AddressBook
from northgate.plan.models.groups import Target
from northgate.plan.models.traffic import LastResort
from northgate.plan.problems import pointer

NOWHERE = -2
# What a name answers that has no answer left, and no last resort.
NOTHING = LastResort.model_construct(balancer=None, instance=None, address=None, host=None)


class Leaf(Struct, frozen=True):
    """Where a name leads: `path` are the names and answers (place in the list; one past it: the last resort) that lead
    there. `balancer` -1: outside the plan; NOWHERE: to nothing, as no answer is left. `front` -1: any front of the
    balancer."""

    path: tuple[tuple[int, int], ...]
    balancer: int
    front: int


# Leaves that are told together, with the share of those who are told them.
_Way = tuple[float, tuple[Leaf, ...]]


class Asker(Struct, frozen=True):
    """Who asks: a name, or only one `answer` of it (-1: all of them), from an area (-1: none)."""

    name: int
    answer: int
    area: int


class Record(Struct, frozen=True, eq=False, dict=True):
    """What a name goes by from some second on: `healthy` per answer, `present` per front: in its address; `given` per
    answer: in the record at all (None: all of them)."""

    healthy: Bools
    present: Bools
    given: Bools | None = None

    @cached
    def key(self) -> tuple[bytes, bytes, bytes]:
        """Equal for records that answer alike."""
        return self.healthy.tobytes(), self.present.tobytes(), b"" if self.given is None else self.given.tobytes()


# Per name: the records of it that are held, each with the share of those who hold it.
HeldRecords = Callable[[int], Sequence[tuple[float, Record]]]
# So many of the answers that have been worked out are remembered.
MOST_TOLD = 4096


class LeafBook:
    """The names of a plan and where they lead: their leaves. `emptied`: names that may come to have no answer left."""

    def __init__(self, plan: Plan, book: AddressBook, emptied: frozenset[str]) -> None:
        self.plan, self._emptied = plan, emptied
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
        self._own_fronts = [self._fronts_named(index) for index in range(len(plan.names))]

    def index(self, host: str) -> int | None:
        """The name that a host is."""
        return self._names.get(host)

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

    def _given(self, name: int) -> list[LastResort]:
        """A name's answers, and after them its last resort, or nothing, if it may come to that."""
        entry = self.plan.names[name]
        last = entry.when_none_healthy or (NOTHING if entry.name in self._emptied else None)
        return [*entry.answers, *([last] if last else [])]

    def _leaves(self, name: int, above: tuple[tuple[int, int], ...]) -> Iterator[Leaf]:
        if name in [one for one, _ in above]:
            around = " → ".join(self.plan.names[one].name for one in [*(one for one, _ in above), name])
            raise CannotRun([Problem(pointer(("names", name, "answers")), f"the name leads back to itself: {around}")])
        for number, answer in enumerate(self._given(name)):
            path = (*above, (name, number))
            inner = self._alias(answer)
            if inner is not None:
                yield from self._leaves(inner, path)
            else:
                leaf = self._leaf(answer)
                yield from (Leaf(path, leaf.balancer, front) for front in self._listed(answer) or [leaf.front])

    def end(self, leaf: Leaf) -> str:
        """The address or host of the answer that a leaf is; empty where no name leads there."""
        if not leaf.path:
            return ""
        name, number = leaf.path[-1]
        answer = self._given(name)[number]
        return answer.address or answer.host or ""

    def _alias(self, answer: LastResort) -> int | None:
        return self.index(plain_host(answer.host)) if answer.host else None

    def _leaf(self, answer: LastResort) -> Leaf:
        if answer.balancer:
            return Leaf((), self._balancers.get(answer.balancer, -1), -1)
        if answer is NOTHING:
            return Leaf((), NOWHERE, -1)
        return self.leaf_of_address(answer.address) if answer.address else Leaf((), -1, -1)

    def _listed(self, answer: LastResort) -> list[int]:
        """The fronts of which an answer lists every own address."""
        leaf = self._leaf(answer)
        return list(self._fronts[leaf.balancer] or ()) if leaf.balancer >= 0 and leaf.front < 0 else []

    def _fronts_named(self, name: int) -> Bools:
        """The fronts whose own addresses a name's record lists."""
        made = np.zeros(sum(len(balancer.zones) for balancer in self.plan.balancers), dtype=bool)
        for answer in self._given(name):
            if self._alias(answer) is None:
                made[self._listed(answer)] = True
        return made

    def names_below(self, name: int) -> tuple[int, ...]:
        """A name and those that it is an alias of."""
        return tuple(dict.fromkeys([name, *(one for leaf in self.leaves[name] for one, _ in leaf.path)]))

    def most_together(self, name: int) -> int:
        """How many addresses one answer of a name lists at most."""
        sizes = [
            self.most_together(inner) if (inner := self._alias(answer)) is not None else len(self._listed(answer)) or 1
            for answer in self._given(name)
        ]
        together = self.plan.names[name].choose in ("all", "area")
        return max(sum(sizes) if together else max(sizes, default=1), 1)

    def latency_s(self, name: int, area: int) -> Floats:
        """The round trip from an area to each answer's nearest region; inf where none is known."""
        table = self.plan.areas[area].latency_ms if area >= 0 else {}
        found = []
        for answer in self.plan.names[name].answers:
            zones = self.plan.balancers[self._balancers[answer.balancer]].zones if answer.balancer else ()
            trips = [table[self._regions[zone]] / 1000 for zone in zones if self._regions[zone] in table]
            found.append(min(trips, default=np.inf))
        return np.array(found)

    def _addresses(self, name: int, present: Bools) -> Floats:
        """How many addresses each answer of a name consists of now."""
        counts = []
        for answer in self.plan.names[name].answers:
            fronts = self._fronts[self._balancers[answer.balancer]] if answer.balancer else None
            counts.append(float(present[list(fronts)].sum()) if fronts else 1.0)
        return np.array(counts)


class NameBook(LeafBook):
    """Who asks the names of a plan, and what these are told."""

    def __init__(self, plan: Plan, book: AddressBook, emptied: frozenset[str] = frozenset()) -> None:
        super().__init__(plan, book, emptied)
        self.askers: list[Asker] = []
        self.checks: tuple[tuple[int, int, int, int], ...] = ()
        self._asker_at: dict[Asker, int] = {}
        self._told: dict[tuple[int, int, tuple[bytes, bytes, bytes]], list[tuple[float, tuple[int, ...]]]] = {}

    def add_check(self, name: int, answer: int, area: int, call: int) -> None:
        """Notes that a call is the probe of an answer from an area."""
        self.checks = (*self.checks, (name, answer, area, call))

    def asker(self, name: int, area: int, answer: int = -1) -> int:
        """The number of an asker."""
        key = Asker(name, answer, area)
        if key not in self._asker_at:
            self._asker_at[key] = len(self.askers)
            self.askers.append(key)
        return self._asker_at[key]

    def leaves_for(self, who: Asker) -> tuple[Leaf, ...]:
        """The leaves to which an asker may be led, in order: its places."""
        every = self.leaves[who.name]
        return every if who.answer < 0 else tuple(leaf for leaf in every if leaf.path[0] == (who.name, who.answer))

    def record(self, name: int, healthy: Bools, present: Bools, given: Sequence[Bools] | None = None) -> Record:
        """What a name goes by: the beliefs in its answers, which of the fronts that it lists are present, and, of all
        names, which answers are given."""
        return Record(healthy, present & self._own_fronts[name], given[name] if given is not None else None)

    def sets(self, who: Asker, held: HeldRecords) -> Sets:
        """The sets that an asker is told, by the records that are held; shares sum to 1 where there is any answer."""
        made: Sets = {}
        if who.answer < 0:
            ways = self._ways(who.name, who.area, held, ())
        else:
            ways = [way for part, record in held(who.name) for way in self._of_answer(who, part, record, held)]
        place = {leaf: number for number, leaf in enumerate(self.leaves_for(who))}
        for share, leaves in ways:
            # Of several addresses a client takes one that there is.
            there = [leaf for leaf in leaves if leaf.balancer != NOWHERE]
            key = tuple(place[leaf] for leaf in there or leaves)
            made[key] = made.get(key, 0.0) + share
        return made

    def _of_answer(self, who: Asker, part: float, record: Record, held: HeldRecords) -> list[_Way]:
        path = ((who.name, who.answer),)
        return [(part * share, leaves) for share, leaves in self._behind(who.name, path, who.area, record, held)]

    def _ways(self, name: int, area: int, held: HeldRecords, above: tuple[tuple[int, int], ...]) -> list[_Way]:
        """The leaves that are told together, with the share of those who are told them."""
        made: list[_Way] = []
        for part, record in held(name):
            for share, answers in self.told(name, area, record):
                together: list[_Way] = [(part * share, ())]
                for answer in answers:
                    behind = self._behind(name, (*above, (name, answer)), area, record, held)
                    together = [(one * other, (*head, *tail)) for one, head in together for other, tail in behind]
                made += together
        return made

    def _behind(
        self, name: int, path: tuple[tuple[int, int], ...], area: int, record: Record, held: HeldRecords
    ) -> list[_Way]:
        """Where the last answer of a path leads: the sets of an alias, or its own addresses, all together."""
        answer = self._given(name)[path[-1][1]]
        inner = self._alias(answer)
        if inner is not None:
            return self._ways(inner, area, held, path)
        leaf, fronts = self._leaf(answer), self._listed(answer)
        if not fronts:
            return [(1.0, (Leaf(path, leaf.balancer, leaf.front),))]
        # With none of its fronts in an address a balancer is still listed with all of them.
        there = [front for front in fronts if record.present[front]] or fronts
        return [(1.0, tuple(Leaf(path, leaf.balancer, front) for front in there))]

    def told(self, name: int, area: int, record: Record) -> list[tuple[float, tuple[int, ...]]]:
        """Which answers of a name those who ask from an area are told together (the last resort being one past the
        last), and what share of them."""
        if not self._given(name):
            return []
        key = (name, area, record.key)
        found = self._told.get(key)
        if found is None:
            entry = self.plan.names[name]
            word = self.plan.areas[area].name if area >= 0 else None
            many = self._addresses(name, record.present)
            shares = answer_shares(entry, record.healthy, self.latency_s(name, area), word, many, record.given)
            given = [number for number, share in enumerate(shares) if share > 0]
            together = entry.choose in ("all", "area") and given != [len(entry.answers)]
            found = [(1.0, tuple(given))] if together else [(float(shares[one]), (one,)) for one in given]
            if len(self._told) >= MOST_TOLD:
                self._told.clear()
            self._told[key] = found
        return found

    def lists(self, name: int, area: int, record: Record) -> list[tuple[float, tuple[tuple[int, bytes], ...]]]:
        """What those who ask from an area are told: shares, and answers with the fronts that these list."""
        given = self._given(name)
        return [
            (share, tuple((one, record.present[self._listed(given[one])].tobytes()) for one in answers))
            for share, answers in self.told(name, area, record)
        ]
