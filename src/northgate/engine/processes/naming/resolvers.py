"""What clients' resolvers hold: caches are always warm, their ages spread evenly.

Who keeps answers for D seconds uses the record of a name that was valid in [a, b) at time t with the share |[a, b) ∩ (t
- D, t]| / D. Between events that is linear in time; an alias multiplies its own record's share by that of the name to
which it leads, each over its own D.
"""

from collections.abc import Callable, Hashable, Sequence
from typing import Any, TypeVar

import numpy as np
from msgspec import Struct

from northgate.engine.base import DIGITS, NEVER, Bools, Floats, Ints, cached, where_true
from northgate.engine.network import Answers, Asker, NameBook, Network, Record, Sets
from northgate.engine.processes.naming.holders import TOGETHER_S, Holders, Tails

# Shares below this are rounding errors of nothing.
ROUNDING = 1e-14
# What everyone holds is kept for so many seconds that were asked for: half-way is asked for twice, and more often where
# something is looked for.
ANSWERED = 32

T = TypeVar("T")


def mixed(parts: Sequence[tuple[float, Sets]]) -> Sets:
    """Sets with their shares added up, each part with its weight."""
    made: Sets = {}
    for weight, sets in (one for one in parts if one[0] > 0):
        for leaves, share in sets.items():
            made[leaves] = made.get(leaves, 0.0) + weight * share
    return made


# Per name and time for which records are kept instead of the name's own (None: that): the records that are held.
HeldAt = Callable[[int, float | None], Sequence[tuple[float, Record]]]


def held_records(
    times: Sequence[float], records: Sequence[Record], hold_s: float, now: float
) -> list[tuple[float, Record]]:  # fmt: skip
    """The records, each valid from its time on, that those who keep them for `hold_s` hold at a second, with their
    shares."""
    if hold_s <= 0:
        return [(1.0, records[-1])]
    starts = [-np.inf, *times[1:]]
    found = []
    for record, start, end in zip(records, starts, [*starts[1:], np.inf], strict=True):
        part = max(min(end, now) - max(start, now - hold_s), 0.0) / hold_s
        if part > 0:
            found.append((part, record))
    return found


def held_sets(names: NameBook, who: Asker, over_share: float, over_s: float, held: HeldAt) -> Sets:
    """The sets that an asker's clients hold, of whom `over_share` keep all records for `over_s`."""
    by_ttl = names.sets(who, lambda name: held(name, None))
    if over_share <= 0:
        return by_ttl
    longer = names.sets(who, lambda name: held(name, over_s))
    return mixed([(1 - over_share, by_ttl), (over_share, longer)])


class AnswerHistory(Struct, frozen=True, eq=False):
    """What names have answered in a drill: per name every record with the second from which on it was valid."""

    network: Network
    records: tuple[tuple[tuple[float, Record], ...], ...]

    def sets(self, who: Asker, over_share: float, over_s: float, now: float) -> Sets:
        """The sets that an asker's clients hold at a second, of whom `over_share` keep all records for `over_s`."""
        return held_sets(self.network.names, who, over_share, over_s, self.held_at(now))

    def held_at(self, now: float) -> HeldAt:
        """The records that are held at a second."""

        def held(name: int, kept_s: float | None) -> list[tuple[float, Record]]:
            until_now = [one for one in self.records[name] if one[0] <= now] or [self.records[name][0]]
            hold_s = self.network.plan.names[name].ttl_s if kept_s is None else kept_s
            return held_records([at for at, _ in until_now], [one for _, one in until_now], hold_s, now)

        return held


class Between(Struct, frozen=True):
    """Sets that are held between two seconds, as polynomials in time through those at some times (Lagrange's form)."""

    begins_s: float
    ends_s: float
    times: tuple[float, ...]
    sets: tuple[Sets, ...]

    def at(self, second: float) -> Sets:
        """The sets that are held at a second."""
        if second == self.times[0]:
            return self.sets[0]
        made: Sets = {}
        for time, sets in zip(self.times, self.sets, strict=True):
            weight = 1.0
            for other in self.times:
                if other != time:
                    weight *= (second - other) / (time - other)
            for leaves, share in sets.items():
                made[leaves] = made.get(leaves, 0.0) + weight * share
        return {leaves: share for leaves, share in made.items() if share > ROUNDING}


class _Lately:
    """What everyone holds at the few seconds that were asked for last, since answers changed, and what else follows
    from that; who holds one thing alone; what nobody would be told otherwise, and when how many are told comes to that,
    by the tail before whose end this is."""

    def __init__(self) -> None:
        self._known: dict[Hashable, Any] = {}
        self._steady: dict[int, bool] = {}
        self._fresh: Floats | None = None
        self._meets: dict[float, list[float]] = {}

    def known(self, what: Hashable, make: Callable[[], T]) -> T:
        """Something that follows from answers, by what tells it apart."""
        if what not in self._known:
            if len(self._known) >= ANSWERED:
                self._known.clear()
            self._known[what] = make()
        found: T = self._known[what]
        return found

    def fresh(self, make: Callable[[], Floats]) -> Floats:
        """What entries would be told if nobody held old answers."""
        if self._fresh is None:
            self._fresh = make()
        return self._fresh

    def meets(self, bend_s: float, find: Callable[[], list[float]]) -> list[float]:
        """The seconds before a tail bends at which as many are told an entry as if nobody held old answers."""
        if bend_s not in self._meets:
            self._meets[bend_s] = find()
        return self._meets[bend_s]

    def steady(self, holder: int, find: Callable[[], bool]) -> bool:
        """Whether a holder has held one thing alone for long."""
        if holder not in self._steady:
            self._steady[holder] = find()
        return self._steady[holder]

    def forget(self) -> None:
        """Answers have changed."""
        self._known.clear()
        self._steady.clear()
        self._meets.clear()
        self._fresh = None


class Resolvers(Tails):
    """The records of the recent past, and what follows from them for everyone who asks."""

    def __init__(
        self, network: Network, healthy: Sequence[Bools], present: Bools, given: Sequence[Bools] | None = None
    ) -> None:  # fmt: skip
        self._network, self._names = network, network.names
        super().__init__(Holders(network), self._now(healthy, present, given))
        # What nobody holds any more.
        self._past: list[list[tuple[float, Record]]] = [[] for _ in network.plan.names]
        # What holders hold until a tail bends, as far as it was asked for since answers changed.
        self._between: dict[int, Between] = {}
        self._lately = _Lately()
        self._settled: dict[int, tuple[tuple[tuple[bytes, bytes, bytes], ...], Sets]] = {}

    def _now(self, healthy: Sequence[Bools], present: Bools, given: Sequence[Bools] | None) -> list[Record]:
        return [self._names.record(name, well, present, given) for name, well in enumerate(healthy)]

    def change(
        self, now: float, healthy: Sequence[Bools], present: Bools, given: Sequence[Bools] | None = None
    ) -> bool:  # fmt: skip
        """From now on names go by these beliefs, addresses and answers; returns whether any answers otherwise than
        before."""
        changed = False
        for name, record in enumerate(self._now(healthy, present, given)):
            times, records = self._times[name], self._records[name]
            if record.key == records[-1].key:
                continue
            self._between.clear()
            self._lately.forget()
            if self._alike(name, record, records[-1]):
                records[-1] = record
                continue
            changed = True
            if now - times[-1] <= TOGETHER_S:
                records[-1] = record
            else:
                times.append(now)
                records.append(record)
                self._changes[name].append(now)
            if len(records) > 1 and self._alike(name, records[-1], records[-2]):
                del times[-1], records[-1], self._changes[name][-1:]
            while len(times) > 1 and times[1] <= now - self.who.longest_s[name]:
                self._past[name].append((times.pop(0), records.pop(0)))
        return changed

    def _alike(self, name: int, one: Record, other: Record) -> bool:
        """Whether two records of a name tell everyone who goes by it the same."""
        return all(
            self._names.lists(name, area, one) == self._names.lists(name, area, other) for area in self.who.areas
        )

    def meets_s(self, now: float) -> float:
        """The next second at which as many are told an entry as if nobody held old answers: what fails there beyond
        that fails by old answers, and what does not, by something else. Where an alias makes their share bend, about
        then."""
        bend_s = self.bends_s(now)
        if bend_s == NEVER:
            return NEVER
        return min(
            (at for at in self._lately.meets(bend_s, lambda: self._meet(now, bend_s)) if at > now), default=NEVER
        )

    def _meet(self, now: float, bend_s: float) -> list[float]:
        """`meets_s`, all of them until a tail bends."""
        shares = self.answers(now), self._answers([self._sets(number, now, bend_s) for number in self.who.every])
        first, last = (one.dns_share - self.fresh() for one in shares)
        mine = (first * last < 0) & (np.minimum(np.abs(first), np.abs(last)) > ROUNDING)
        at_s = now + (bend_s - now) * (first[mine] / (first - last)[mine])
        return [round(one, DIGITS) for one in at_s.tolist()]

    def answers(self, now: float) -> Answers:
        """What everyone holds at a second."""
        return self.lately(now, lambda: self._answers([self._sets(number, now) for number in self.who.every]))

    def lately(self, what: Hashable, make: Callable[[], T]) -> T:
        """Something that follows from the records, by what tells it apart; kept for a while, until these change."""
        return self._lately.known(what, make)

    def answers_at(self, history: "AnswerHistory", now: float) -> Answers:
        """What everyone held at any second of the past."""
        return self._answers(
            [
                history.sets(self._asker(number), one.over_share, one.over_s, now)
                for number, one in enumerate(self.who.holders)
            ]
        )

    def fresh(self) -> Floats:
        """What entries would be told if nobody held old answers."""
        return self._lately.fresh(lambda: self._answers([self.fresh_sets(one) for one in self.who.every]).dns_share)

    def mean_answers(self, now: float, second: float) -> Answers:
        """What everyone holds on the mean until a second, before which no tail bends: the share of a record is linear,
        an alias multiplies two of them or more, and Simpson's rule is exact for both."""
        parts = [(now, 1 / 6), ((now + second) / 2, 4 / 6), (second, 1 / 6)]
        made: list[Sets] = []
        for number in self.who.every:
            if self.steady(number):
                made.append(self._sets(number, now))
                continue
            made.append(mixed([(weight, self._sets(number, at)) for at, weight in parts]))
        return self._answers(made)

    def _answers(self, sets: Sequence[Sets]) -> Answers:
        starts, asks, at = self._places
        shares = [0.0] * starts[-1]
        for start, mine in zip(starts, sets, strict=False):
            for leaves, part in mine.items():
                for leaf in leaves:
                    shares[start + leaf] += part / len(leaves)
        dns_share = np.ones(len(self._network.entries.call))
        dns_share[asks] = np.array(shares)[at]
        return Answers(dns_share, self.who.of_call, tuple(sets))

    @cached
    def _places(self) -> tuple[list[int], Ints, Ints]:
        """Where each holder's addresses begin in one list of all; which entries ask a name, and where they look."""
        sizes = [len(self._names.leaves_for(self._asker(number))) for number in self.who.every]
        starts = np.cumsum([0, *sizes])
        asks = where_true(self.who.of_entry >= 0)
        return starts.tolist(), asks, starts[self.who.of_entry[asks]] + self._network.entries.leaf[asks]

    def steady(self, number: int) -> bool:
        """Whether those names have had no other record for as long as anyone holds one."""
        below, records = self.who.below[number], self._records
        return self._lately.steady(number, lambda: all(len(records[name]) == 1 for name in below))

    def fresh_sets(self, number: int) -> Sets:
        """What a holder would be told now; worked out once for the same records."""
        key = tuple(self._records[name][-1].key for name in self.who.below[number])
        if number not in self._settled or self._settled[number][0] != key:
            told = self._names.sets(self._asker(number), lambda name: [(1.0, self._records[name][-1])])
            self._settled[number] = key, told
        return self._settled[number][1]

    def _sets(self, number: int, now: float, then_s: float | None = None) -> Sets:
        """What a holder holds now, or then, before or when a tail bends."""
        if self.steady(number):
            return self.fresh_sets(number)
        known = self._between.get(number)
        if known is None or not known.begins_s <= now < known.ends_s:
            known = self._between[number] = self._until_bend(number, now)
        return known.at(now if then_s is None else then_s)

    def _until_bend(self, number: int, now: float) -> "Between":
        """The sets of a holder from now until a tail bends: a power of time for each name on the way."""
        bend_s, holder, degree = self.bends_s(now), self.who.holders[number], len(self.who.below[number])
        ends_s = bend_s if bend_s < NEVER else now
        times = [now + (ends_s - now) * place / degree for place in range(degree + 1)] if ends_s > now else [now]
        asker = self._asker(number)
        sets = [held_sets(self._names, asker, holder.over_share, holder.over_s, self.held_at(time)) for time in times]
        return Between(now, bend_s, tuple(times), tuple(sets))

    def _asker(self, number: int) -> Asker:
        return self._names.askers[self.who.holders[number].asker]

    def held_at(self, now: float) -> "HeldAt":
        """The records that are held at a second."""
        ttl_s = [entry.ttl_s for entry in self._network.plan.names]
        return lambda name, over_s: held_records(
            self._times[name], self._records[name], ttl_s[name] if over_s is None else over_s, now
        )

    @property
    def history(self) -> "AnswerHistory":
        """All records so far."""
        whole = [
            (*past, *zip(times, records, strict=True))
            for past, times, records in zip(self._past, self._times, self._records, strict=True)
        ]
        return AnswerHistory(self._network, tuple(tuple(some) for some in whole))

    def stale_shares(self, now: float, call_rps: Floats) -> Floats:
        """Per name the share of its clients' requests whose answer is not the one that they would get now."""
        made = np.zeros(len(self.who.followers))
        known: dict[int, float] = {}
        for name, followers in enumerate(self.who.followers):
            moving = [one for one in followers if not self.steady(one[1])]
            whole = sum(call_rps[call] for call, _ in followers) if moving else 0.0
            for call, holder in moving if whole > 0 else ():
                if holder not in known:
                    fresh = self.fresh_sets(holder)
                    held = self._sets(holder, now).items()
                    known[holder] = sum(max(share - fresh.get(leaves, 0.0), 0.0) for leaves, share in held)
                made[name] += call_rps[call] * known[holder] / whole
        return made
