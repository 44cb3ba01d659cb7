"""The book of calls that may be tried more than once: cases of calls that hold the same set of addresses."""

import operator
from collections.abc import Sequence

import numpy as np
from msgspec import Struct
from msgspec.structs import replace

from northgate.engine.base import (
    Floats,
    Ints,
    cached,
    floats,
    some,
    where_true,
)
from northgate.engine.solver.retries.classes import ClassMaker, Pinned, Placed
from northgate.engine.solver.retries.loops import add_once
from northgate.engine.solver.retries.returning import Returning
from northgate.engine.solver.retries.setting_out import add_by_entry
from northgate.engine.solver.unloaded import Unloaded


class Cases(Struct, frozen=True):
    """Calls of one class that hold one set of addresses. Per case its call, the `share` of the call's sources that hold
    the set, the place of the class among those of all calls (`kind`; 0: the one class of calls that nothing holds), how
    many connects of one attempt may take their time-out, whether the client takes the next address, how often he
    repeats, and his time-outs (s). A case's addresses are those from `begin` on: the row of the book of each, and the
    entry that this belongs to. `most`: how many addresses a case has at most; `longest_wait`: how many connects may
    take their time-out before one of the same attempt is taken, at most."""

    call: Ints
    share: Floats
    kind: Ints
    most_waits: Floats
    goes_on: Floats
    repeats: Floats
    wait_s: Floats
    timeout_s: Floats
    begin: Ints
    row: Ints
    entry: Ints
    most: int
    longest_wait: int


# Some cases with as many addresses: call, kind (cases,), row and entry (cases, n).
_Part = tuple[Ints, Ints, Ints, Ints]


class _Last(Struct):
    """The cases that were found last, whose they are, which sets those had, and where the classes stood; of which set
    each has its share; and the call and the entry of each row of the book."""

    calls: list[int] = []
    held: list[tuple[tuple[int, ...], ...]] = []
    placed: list[dict[int, Placed]] = []
    cases: Cases | None = None
    of_set: Ints | None = None
    rows: tuple[Ints, Ints] | None = None

    def holds(
        self, calls: list[int], held: list[tuple[tuple[int, ...], ...]], placed: list[dict[int, Placed]]
    ) -> bool:  # fmt: skip
        """Whether the cases are the same now, but for how many hold each set."""
        alike = len(placed) == len(self.placed) and all(map(operator.is_, placed, self.placed))
        return alike and calls == self.calls and held == self.held


def _last(_: Unloaded) -> _Last:
    return _Last()


class Book:
    """All cases of one state, and the rows by which their outcomes are kept: one for each entry, then one for each
    entry and class of calls that are held at targets.

    `size` rows, of each its `call` and its `entry`; `weights` are the shares of the classes among their call's (the
    first: of calls that nothing holds).
    """

    def __init__(self, returning: Returning) -> None:
        self.returning, self.network, self.state = returning, returning.network, returning.state
        self.pinned: list[Pinned] = []
        self.cases: Cases | None = None
        self.size, self.kinds = len(self.network.entries.call), 1
        self.weights = np.ones(1)
        rows = self._find_cases() if some(returning.calls) else None
        self.call, self.entry = rows or self._rows()

    def _find_cases(self) -> tuple[Ints, Ints] | None:
        """The classes of those who are held, and every case: the last ones, where these are the same; the call and the
        entry of each row."""
        returning = self.returning
        maker = ClassMaker(returning)
        for call in maker.sticky_calls():
            one = maker.classes(int(call))
            if one is not None:
                one.first, one.first_kind = self.size, self.kinds
                self.size += len(one.entries) * len(one.weights)
                self.kinds += len(one.weights)
                self.pinned.append(one)
        self.weights = np.concatenate([np.ones(1), *(one.weights for one in self.pinned)])
        last, placed = returning.unloaded.derived(_last), [one.placed for one in self.pinned]
        pinned = {one.call for one in self.pinned}
        calls = [call for call in where_true(returning.calls).tolist() if call not in pinned]
        sets = [self._sets_of(call) for call in [*calls, *(one.call for one in self.pinned)]]
        held = [tuple([leaves for leaves, _ in mine]) for mine in sets]
        if not last.holds(calls, held, placed):
            last.calls, last.held, last.placed = calls, held, placed
            last.of_set, last.cases = self._cases(calls, held)
            last.rows = self._rows()
        if last.cases is not None:
            shares = floats(share for mine in sets for _, share in mine)
            self.cases = replace(last.cases, share=shares[last.of_set])
        return last.rows

    def _cases(self, calls: Sequence[int], held: Sequence[tuple[tuple[int, ...], ...]]) -> tuple[Ints, Cases | None]:
        """Every case with the addresses that it holds, without their shares: of these calls, that nothing holds, then
        of those that are followed by class, of which each has so many sets. None where there is none; first, of which
        set each is."""
        parts = [self._of_free(call, leaves) for call, mine in zip(calls, held, strict=False) for leaves in mine]
        for one, mine in zip(self.pinned, held[len(calls) :], strict=True):
            parts += [self._of_classes(one, leaves) for leaves in mine]
        if not parts:
            return np.zeros(0, dtype=np.int64), None
        of_calls, kinds, rows, entries = zip(*parts, strict=True)
        call, returning, of = np.concatenate(of_calls), self.returning, self.network.calls
        addresses = np.concatenate([np.full(len(row), row.shape[1]) for row in rows])
        begin = np.cumsum(np.append(0, addresses))
        of_set = np.repeat(np.arange(len(parts)), [len(row) for row in rows])
        most_waits, goes_on = returning.most_waits(call), returning.goes_on[call]
        waits = np.minimum(addresses, most_waits)[goes_on] - 1
        return of_set, Cases(
            call, np.zeros(len(call)), np.concatenate(kinds), most_waits, goes_on.astype(np.float64),
            returning.of_client[of.client[call]],
            of.connect_timeout_s[call], of.timeout_s[call], begin, np.concatenate([row.ravel() for row in rows]),
            np.concatenate([entry.ravel() for entry in entries]), int(addresses.max()), int(waits.max(initial=0)),
        )  # fmt: skip

    def _sets_of(self, call: int) -> list[tuple[tuple[int, ...], float]]:
        """The sets of addresses that a call's sources hold, as places among its entries, and their shares."""
        holder = int(self.state.answers.holder[call])
        sets = self.state.answers.sets[holder] if holder >= 0 else {(0,): 1.0}
        return [(leaves, share) for leaves, share in sets.items() if leaves and share > 0]

    def _of_free(self, call: int, leaves: tuple[int, ...]) -> _Part:
        """The case of a call that nothing holds, with a set."""
        mine = self.network.entries.of_call[call][list(leaves)][None, :]
        return np.array([call]), np.zeros(1, dtype=np.int64), mine, mine

    def _of_classes(self, one: Pinned, leaves: tuple[int, ...]) -> _Part:
        """The cases of a held call's classes, with a set."""
        every, places = np.arange(len(one.weights)) + one.first_kind, list(leaves)
        entry = np.broadcast_to(self.network.entries.of_call[one.call][places], (len(every), len(places)))
        return np.full(len(every), one.call), every, one.rows[places].T, entry

    def _rows(self) -> tuple[Ints, Ints]:
        """The call and the entry of each row."""
        entries, mine = self.network.entries.call, self.pinned
        calls = (np.full(len(one.entries) * len(one.weights), one.call) for one in mine)
        held = (one.entries.repeat(len(one.weights)) for one in mine)
        return np.concatenate([entries, *calls]), np.concatenate([np.arange(len(entries)), *held])

    @cached
    def first_connects(self) -> Floats:
        """Per row of the book: the connects of a call there if each attempt connected once, and was the only one."""
        return self.connects_once(self.weights)

    def connects_once(self, weights: Floats) -> Floats:
        """Per row of the book: `first_connects` of calls that are in the classes with these weights."""
        made, cases = self.sent_once.copy(), self.cases
        if cases is not None:
            add_once(cases.begin, cases.row, cases.share, cases.kind, weights, made)
        return made

    @cached
    def sent_once(self) -> Floats:
        """Per row of the book the connects there of calls that are tried once."""
        made = np.zeros(self.size)
        made[: len(self.state.dns_share)] = self.state.dns_share
        if self.cases is not None:
            made[self.cases.entry] = 0.0
        return made

    def by_entry(self, book: Floats) -> Floats:
        """Sums a value per row of the book by entry."""
        made = np.zeros(len(self.network.entries.call))
        add_by_entry(self.entry, book, made)
        return made
