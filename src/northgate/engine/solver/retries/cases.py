"""The book of calls that may be tried more than once: cases of calls that hold the same set of addresses."""

import operator
from collections.abc import Iterator

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


class Cases(Struct, frozen=True):
    """Calls of one class that hold one set of n addresses: (cases,) arrays, and per address its row of the book and the
    entry that this belongs to, (cases, n). `share` is the set's of the call's, `kind` the place of the class among
    those of all calls (0: the one class of calls that nothing holds)."""

    call: Ints
    share: Floats
    kind: Ints
    row: Ints
    entry: Ints


class Facts(Struct, frozen=True):
    """What of cases depends neither on load nor on who is held, each of shape (cases,): connects of one attempt that
    may take their time-out, whether a client takes the next address, how often he repeats, and his time-outs (s)."""

    most_waits: Floats
    goes_on: Floats
    repeats: Floats
    wait_s: Floats
    timeout_s: Floats


class _Last(Struct):
    """The cases that were found last, with their facts; what sources held then, and where the classes stood."""

    sets: tuple[Sets, ...] = ()
    placed: list[dict[int, Placed]] = []
    cases: list[Cases] = []
    facts: list[Facts] = []

    def holds(self, sets: tuple[Sets, ...], placed: list[dict[int, Placed]]) -> bool:
        """Whether the cases are the same now."""
        alike = len(placed) == len(self.placed) and all(map(operator.is_, placed, self.placed))
        return bool(self.cases) and alike and sets == self.sets


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
        self.cases: list[Cases] = []
        self.facts: list[Facts] = []
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
            last.facts = [_facts(returning, cases) for cases in last.cases]
        self.cases, self.facts = last.cases, last.facts

    def _cases(self) -> list[Cases]:
        """Every case with the addresses that it holds."""
        pinned = {one.call: one for one in self.pinned}
        by_size: dict[int, list[Cases]] = {}
        for some in self._of_free(set(pinned)):
            by_size[some.row.shape[1]] = [some]
        for call, one in pinned.items():
            for leaves, share in self._sets_of(call):
                by_size.setdefault(len(leaves), []).append(self._of_classes(one, np.array(leaves), share))
        return [_together(some) for some in by_size.values()]

    def _sets_of(self, call: int) -> list[tuple[tuple[int, ...], float]]:
        """The sets of addresses that a call's sources hold, as places among its entries, and their shares."""
        holder = int(self.state.answers.holder[call])
        sets = self.state.answers.sets[holder] if holder >= 0 else {(0,): 1.0}
        return [(leaves, share) for leaves, share in sets.items() if leaves and share > 0]

    def _of_free(self, pinned: set[int]) -> Iterator[Cases]:
        """The cases of calls that nothing holds, one for each set, by the size of these."""
        found: dict[int, tuple[list[int], list[float], list[list[int]]]] = {}
        for call in np.flatnonzero(self.returning.calls).tolist():
            if call not in pinned:
                mine = self.network.entries.of_call[call].tolist()
                for leaves, share in self._sets_of(call):
                    calls, shares, rows = found.setdefault(len(leaves), ([], [], []))
                    calls.append(call)
                    shares.append(share)
                    rows.append([mine[leaf] for leaf in leaves])
        for calls, shares, rows in found.values():
            own = np.array(rows)
            yield Cases(np.array(calls), np.array(shares), np.zeros(len(calls), dtype=np.int64), own, own)

    def _of_classes(self, one: Pinned, leaves: Ints, share: float) -> Cases:
        """The cases of a held call's classes that hold one set."""
        rows = np.ascontiguousarray(one.rows[leaves].T)
        entry = np.repeat(self.network.entries.of_call[one.call][leaves][None, :], len(rows), axis=0)
        every = np.arange(len(rows)) + one.first_kind
        return Cases(np.full(len(rows), one.call), np.full(len(rows), share), every, rows, entry)

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
        made = self.sent_once.copy()
        for cases in self.cases:
            add_once(cases.row, cases.share, cases.kind, weights, made)
        return made

    @cached
    def sent_once(self) -> Floats:
        """Per row of the book the connects there of calls that are tried once."""
        made = np.zeros(self.size)
        made[: len(self.state.dns_share)] = self.state.dns_share
        for cases in self.cases:
            made[cases.entry] = 0.0
        return made

    def by_entry(self, book: Floats) -> Floats:
        """Sums a value per row of the book by entry; the first axis may be followed by others."""
        made = book[: len(self.state.dns_share)].copy()
        for one in self.pinned:
            made[one.entries] += book[one.rows].sum(axis=1)
        return made


def _together(some: list[Cases]) -> Cases:
    parts = (np.concatenate([getattr(one, name) for one in some]) for name in Cases.__annotations__)
    return some[0] if len(some) == 1 else Cases(*parts)


def _facts(returning: Returning, cases: Cases) -> Facts:
    calls, client = returning.network.calls, returning.network.calls.client[cases.call]
    return Facts(
        returning.most_waits(cases.call), returning.goes_on[cases.call].astype(np.float64), returning.of_client[client],
        calls.connect_timeout_s[cases.call], calls.timeout_s[cases.call],
    )  # fmt: skip
