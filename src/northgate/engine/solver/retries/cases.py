"""The book of calls that may be tried more than once: cases of calls that hold the same set of addresses."""

import numpy as np
from msgspec import Struct

from northgate.engine.base import (
    Floats,
    Ints,
    cached,
)
from northgate.engine.solver.retries.classes import ClassMaker, Pinned
from northgate.engine.solver.retries.loops import add_once
from northgate.engine.solver.retries.returning import Returning


class Cases(Struct, frozen=True):
    """Calls of one class that hold one set of n addresses: (cases,) arrays, and per address its row of the book and the
    entry that this belongs to, (cases, n). `share` is the set's of the call's, `kind` the place of the class among
    those of all calls (0: the one class of calls that nothing holds)."""

    call: Ints
    share: Floats
    kind: Ints
    row: Ints
    entry: Ints


class Book:
    """All cases of one state, and the rows by which their outcomes are kept: one for each entry, then one for each
    entry and class of calls that are held at targets.

    `size` rows; `weights` are the shares of the classes among their call's (the first: of calls that nothing holds).
    """

    def __init__(self, returning: Returning) -> None:
        self.returning, self.network, self.state = returning, returning.network, returning.state
        self.pinned: list[Pinned] = []
        self.cases: list[Cases] = []
        self.size, self.kinds = len(self.network.entries.call), 1
        self.weights = np.ones(1)
        if returning.calls.any():
            self._find_cases()

    def _find_cases(self) -> None:
        """The classes of those who are held, and every case with the addresses that it holds."""
        network, maker = self.network, ClassMaker(self.returning)
        for call in maker.sticky_calls():
            one = maker.classes(int(call))
            if one is not None:
                one.first, one.first_kind = self.size, self.kinds
                self.size += len(one.entries) * len(one.weights)
                self.kinds += len(one.weights)
                self.pinned.append(one)
        self.weights = np.concatenate([np.ones(1), *(one.weights for one in self.pinned)])
        pinned = {one.call: one for one in self.pinned}
        by_size: dict[int, list[Cases]] = {}
        for call in np.flatnonzero(self.returning.calls):
            mine = network.entries.of_call[call]
            holder = int(self.state.answers.holder[call])
            sets = self.state.answers.sets[holder] if holder >= 0 else {(0,): 1.0}
            for leaves, share in sets.items():
                if leaves and share > 0:
                    by_size.setdefault(len(leaves), []).append(
                        self._case(int(call), mine, np.array(leaves), share, pinned.get(int(call)))
                    )
        for some in by_size.values():
            parts = (np.concatenate([getattr(one, name) for one in some]) for name in Cases.__annotations__)
            self.cases.append(Cases(*map(np.ascontiguousarray, parts)))

    def _case(self, call: int, mine: Ints, leaves: Ints, share: float, one: Pinned | None) -> Cases:
        """The cases of a call that hold one set: one, or one for each class."""
        if one is None:
            own = mine[leaves][None, :]
            return Cases(np.array([call]), np.array([share]), np.zeros(1, dtype=np.int64), own, own)
        rows = one.rows[leaves].T
        entry = np.broadcast_to(mine[leaves], rows.shape)
        every = np.arange(len(rows)) + one.first_kind
        return Cases(np.full(len(rows), call), np.full(len(rows), share), every, rows, entry)

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
