"""Calls that are tried more than once: at the next address of an answer, and again when an attempt fails.

A repeat keeps the set of addresses that DNS gave, its hash key and its session, and draws the rest anew. So what fails
again is worked out per class of calls that hold the same set and are held at the same targets: `failed = Σ share x
p^(r+1)`, tried `1 + p + ... + p^r` times, p being what fails of one attempt of that class (`tries`).

The book has a row for each entry, and one for each entry and class of calls that are held at targets: what becomes of a
connect there, and how often it is made.
"""

from collections.abc import Sequence

import numpy as np

from northgate.engine.base import (
    KINDS,
    Floats,
    Ints,
    cached,
    some,
)
from northgate.engine.solver.retries.cases import Book
from northgate.engine.solver.retries.classes import Pinned
from northgate.engine.solver.retries.ends import CaseEnds
from northgate.engine.solver.retries.holding import strays_part
from northgate.engine.solver.retries.lumps import add_left
from northgate.engine.solver.retries.outcomes import ClassOutcomes
from northgate.engine.solver.retries.returning import Returning
from northgate.engine.solver.retries.setting_out import find_against_once, find_coming, find_set_out
from northgate.engine.solver.retries.spreading import Spreading
from northgate.engine.solver.state import State
from northgate.engine.solver.unloaded import Unloaded


class Repeats:
    """The calls of one state that may be tried more than once: how often they connect, and what becomes of them.

    `mult` is what is iterated: per row of the book how often calls connect, against once each; `after_one` how often
    those that have one attempt behind them do. `free` is per call the share without an open connection, `anew`
    the share whose connection has just ended under it.
    """

    def __init__(self, unloaded: Unloaded, state: State) -> None:
        self.network, self.state = unloaded.network, state
        self.returning = Returning(unloaded, state)
        self.book = Book(self.returning)
        self._ends = CaseEnds(self.book)
        self.takes = self.returning.takes
        self.pinned = self.book.pinned
        self.mult, self.after_one = np.ones(self.book.size), self.book.first_connects
        # The shares of the classes among those of their call whose connection has ended under them.
        self.weights_after_one = self.book.weights
        self.free, self.anew = np.ones(len(state.call_rps)), np.zeros(len(state.call_rps))
        self._strays: dict[int, Floats] = {}

    @cached
    def spreading(self) -> Spreading:
        """How attempts of held classes are spread."""
        return Spreading(self.returning, self.pinned)

    @cached
    def classes(self) -> ClassOutcomes:
        """What becomes of them."""
        return ClassOutcomes(self.returning, self.spreading)

    @property
    def any(self) -> bool:
        """Whether any call may be tried more than once."""
        return self.book.cases is not None

    @cached
    def goes_on(self) -> bool:
        """Whether any call that is followed by class may go on to others."""
        return any(one.spent for one in self.pinned)

    def lose_connections(self, call: int, lost: Floats) -> None:
        """Of a call's connections those through these pairs have ended (shares of its sources): the sources are held
        where their connections led, as a key or a session has led both; but those whose session has ended nowhere."""
        one = self._pinned_of.get(call)
        if one is None or not some(lost):
            return
        pairs, made = self.network.pairs, np.zeros(len(one.weights))
        add_left(
            lost, self._strays_of(call), pairs.member, pairs.cell, one.row_of_cell, one.table, one.weights,
            one.free_weights, *self._lumps, np.empty(len(made)), made,
        )  # fmt: skip
        whole = made.sum()
        # Of the smallest of all numbers a part is none.
        if whole > 0:
            self.weights_after_one = self.weights_after_one.copy()
            self.weights_after_one[one.kinds] = made / whole

    @cached
    def _pinned_of(self) -> dict[int, Pinned]:
        """The classes of each call that is followed by class."""
        return {one.call: one for one in self.pinned}

    @cached
    def _lumps(self) -> tuple[Ints, Ints, Floats]:
        return self.returning.lumps.table()

    def _strays_of(self, call: int) -> Floats:
        """Per member the part of those who are connected there for a call whom no session binds there."""
        if call not in self._strays:
            self._strays[call] = strays_part(self.network, self.state, self.network.kept.connection_of_call[call])
        return self._strays[call]

    @property
    def connects(self) -> Floats:
        """Per row of the book the connects of a call there."""
        return self.book.first_connects * self.mult

    @property
    def connects_after_one(self) -> Floats:
        """Per row of the book the connects of a call that has one attempt behind it."""
        return self.after_one

    @property
    def coming(self) -> Floats:
        """Per row of the book how often calls connect there, those whose connection has ended under them too."""
        book, made = self.book, np.empty(self.book.size)
        find_coming(book.call, book.first_connects, self.mult, self.after_one, self.free, self.anew, made)
        return made

    def setting_out(self, *, every: bool = False) -> Floats:
        """Per entry the connects per second of clients' calls there; of `every` one, as if none had a connection."""
        book, state, made = self.book, self.state, np.zeros(len(self.network.entries.call))
        free, anew = (np.ones(len(self.free)), np.zeros(len(self.free))) if every else (self.free, self.anew)
        find_set_out(
            book.entry, book.call, book.first_connects, self.mult, self.after_one, free, anew, state.call_rps,
            self.returning.frame.of_client, made,
        )  # fmt: skip
        return made

    def mix(self, share: Floats) -> None:
        """Puts into `share` (fates, pairs) how attempts of held classes are spread; it holds what is drawn anew."""
        if self.pinned:
            self.spreading.mix(share, self.coming)

    def ends(self, drawn: Floats) -> tuple[Floats, Floats]:
        """Where the attempts of classes end that are held and go on to others, by target of `Courses`: the share of the
        fate's requests at the pair's cell, and what of it comes there after 0, 1, ... silent ones. `drawn` (fates or 1,
        pairs)."""
        spreading, on = self.spreading, self.spreading.courses.on
        return spreading.ends(drawn, spreading.weights(self.coming, on), on)

    def longest_wait(self) -> int:
        """How many connects may take their time-out before one of the same attempt is taken, at most."""
        return self._ends.longest_wait()

    def connected(self, outcomes: Sequence[Floats], spent: int = 0) -> Floats:
        """Per row of the book the connects of a call there, that has `spent` attempts behind it. `outcomes` of a
        connect after 0, 1, ... others that took their time-out (the last one for all further ones)."""
        return self._ends.connected(outcomes, self._weights(spent), spent)

    def ended(self, outcomes: Sequence[Floats], spent: int = 0) -> Floats:
        """Per row of the book and by kind what of the calls ends there, each counted once by its last attempt; as
        `connected`."""
        return self._ends.ended(outcomes, self._weights(spent), spent)

    def _weights(self, spent: int) -> Floats:
        return self.weights_after_one if spent else self.book.weights

    def outcomes(self, entry: Floats, share: Floats, kinds: Ints, values: Floats, row: Floats, after: Floats) -> Floats:
        """What becomes of one connect by row of the book and kind; `share` is what is drawn anew, `values` (of these
        kinds) what becomes of it at pairs, `row` by row of `Network.arrivals` where no pool is asked."""
        if not self.pinned:
            return entry
        made = np.empty((self.book.size, KINDS))
        made[: len(entry)] = entry
        for one in self.pinned:
            self.classes.put(one, entry, share, kinds, values, row, after, made)
        return made

    def take(self, mult: Floats, after_one: Floats) -> None:
        """From now on calls connect that often, against once each; and those that have one attempt behind them."""
        self.mult, self.after_one = mult, after_one * self._once(1)

    def _once(self, spent: int) -> Floats:
        """Per row of the book the connects of a call that has `spent` attempts behind it, were each the only one."""
        if not spent or self.weights_after_one is self.book.weights:
            return self.book.first_connects
        return self.book.connects_once(self.weights_after_one)

    def against_once(self, connected: Floats, spent: int = 0) -> Floats:
        """So many connects by row of the book, of calls that have `spent` attempts behind them, against once each."""
        made = np.empty(len(connected))
        find_against_once(connected, self._once(spent), made)
        return made
