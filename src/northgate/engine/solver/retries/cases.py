"""The book of calls that may be tried more than once: cases of calls that hold the same set of addresses."""

import operator

import numpy as np
from msgspec import Struct

from northgate.engine.base import (
    Floats,
    Ints,
    cached,
)
from northgate.engine.network import Sets
from northgate.engine.solver.retries.classes import ClassMaker, Pinned, Placed
from northgate.engine.solver.retries.loops import add_once
from northgate.engine.solver.retries.returning import Returning
from northgate.engine.solver.unloaded import Unloaded


class Cases(Struct, frozen=True, dict=True):
    """Calls of one class that hold one set of addresses. Per case its call, the `share` of the call's sources that hold
    the set, the place of the class among those of all calls (`kind`; 0: the one class of calls that nothing holds), how
    many connects of one attempt may take their time-out, whether the client takes the next address, how often he
    repeats, and his time-outs (s). A case's addresses are those from `begin` on: the row of the book of each, and the
    entry that this belongs to."""

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

    @cached
    def most(self) -> int:
        """How many addresses a case has at most."""
        return int(np.diff(self.begin).max())

    @cached
    def longest_wait(self) -> int:
        """How many connects may take their time-out before one of the same attempt is taken, at most."""
        waits = np.minimum(np.diff(self.begin), self.most_waits) - 1
        return int(waits[self.goes_on > 0].max(initial=0))


# Some cases with as many addresses: call, share, kind (cases,), row and entry (cases, n).
_Part = tuple[Ints, Floats, Ints, Ints, Ints]


class _Last(Struct):
    """The cases that were found last; what sources held then, and where the classes stood."""

    sets: tuple[Sets, ...] = ()
    placed: list[dict[int, Placed]] = []
    cases: Cases | None = None

    def holds(self, sets: tuple[Sets, ...], placed: list[dict[int, Placed]]) -> bool:
        """Whether the cases are the same now."""
        alike = len(placed) == len(self.placed) and all(map(operator.is_, placed, self.placed))
        return self.cases is not None and alike and sets == self.sets


def _last(_: Unloaded) -> _Last:
    return _Last()


class Book:
    """All cases of one state, and the rows by which their outcomes are kept: one for each entry, then one for each
    entry and class of calls that are held at targets.

    `size` rows; `weights` are the shares of the classes among their call's (the first: of calls that nothing holds).
    """

    def __init__(self, returning: Returning) -> None:
        self.returning, self.network, self.state = returning, returning.network, returning.state
        self.pinned: list[Pinned] = []
        self.cases: Cases | None = None
        self.size, self.kinds = len(self.network.entries.call), 1
        self.weights = np.ones(1)
        if returning.calls.any():
            self._find_cases()

    def _find_cases(self) -> None:
        """The classes of those who are held, and every case: the last ones, where these are the same."""
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
        last, sets = returning.unloaded.derived(_last), self.state.answers.sets
        placed = [one.placed for one in self.pinned]
        if not last.holds(sets, placed):
            last.sets, last.placed, last.cases = sets, placed, self._cases()
        self.cases = last.cases

    def _cases(self) -> Cases | None:
        """Every case with the addresses that it holds; None where there is none."""
        pinned = {one.call for one in self.pinned}
        some = [self._of_free(call) for call in np.flatnonzero(self.returning.calls).tolist() if call not in pinned]
        some += [self._of_classes(one) for one in self.pinned]
        parts = [part for of_call in some for part in of_call]
        if not parts:
            return None
        calls, shares, kinds, rows, entries = zip(*parts, strict=True)
        call, returning, of = np.concatenate(calls), self.returning, self.network.calls
        addresses = [np.full(len(row), row.shape[1]) for row in rows]
        begin = np.cumsum(np.concatenate([np.zeros(1, dtype=np.int64), *addresses]))
        return Cases(
            call, np.concatenate(shares), np.concatenate(kinds), returning.most_waits(call),
            returning.goes_on[call].astype(np.float64), returning.of_client[of.client[call]],
            of.connect_timeout_s[call], of.timeout_s[call], begin, np.concatenate([row.ravel() for row in rows]),
            np.concatenate([entry.ravel() for entry in entries]),
        )  # fmt: skip

    def _sets_of(self, call: int) -> list[tuple[tuple[int, ...], float]]:
        """The sets of addresses that a call's sources hold, as places among its entries, and their shares."""
        holder = int(self.state.answers.holder[call])
        sets = self.state.answers.sets[holder] if holder >= 0 else {(0,): 1.0}
        return [(leaves, share) for leaves, share in sets.items() if leaves and share > 0]

    def _of_free(self, call: int) -> list[_Part]:
        """The cases of a call that nothing holds, one for each set."""
        mine, once = self.network.entries.of_call[call], np.zeros(1, dtype=np.int64)
        sets = [(mine[list(leaves)][None, :], share) for leaves, share in self._sets_of(call)]
        return [(np.array([call]), np.array([share]), once, rows, rows) for rows, share in sets]

    def _of_classes(self, one: Pinned) -> list[_Part]:
        """The cases of a held call's classes, for each set."""
        made, every = [], np.arange(len(one.weights)) + one.first_kind
        for leaves, share in self._sets_of(one.call):
            places = list(leaves)
            entry = np.broadcast_to(self.network.entries.of_call[one.call][places], (len(every), len(places)))
            rows = one.rows[places].T
            made.append((np.full(len(every), one.call), np.full(len(every), share), every, rows, entry))
        return made

    @cached
    def call(self) -> Ints:
        """The call of each row."""
        made = np.empty(self.size, dtype=np.int64)
        made[: len(self.network.entries.call)] = self.network.entries.call
        for one in self.pinned:
            made[one.rows] = one.call
        return made

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
        """Sums a value per row of the book by entry; the first axis may be followed by others."""
        made = book[: len(self.state.dns_share)].copy()
        for one in self.pinned:
            made[one.entries] += book[one.rows].sum(axis=1)
        return made
