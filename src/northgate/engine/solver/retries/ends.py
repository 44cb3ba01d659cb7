"""How often calls connect, and where they end."""

from collections.abc import Sequence

import numpy as np
from msgspec import Struct

from northgate.engine.base import KINDS, Floats
from northgate.engine.solver.retries.cases import Book, Cases
from northgate.engine.solver.retries.loops import add_connects, add_ends, find_attempts

# How many attempts a call may have behind it, as loops ask for that.
SPENT_BEFORE = np.array([0]), np.array([1])


class Attempt(Struct, frozen=True):
    """What one attempt of each case comes to: the connects by address, how often it fails, by case, and what ends
    there, by address and kind."""

    connects: Floats
    fails: Floats
    ends: Floats


class CaseEnds:
    """What calls come to, by their last attempt."""

    def __init__(self, book: Book) -> None:
        self.book = book
        # Single attempts, as they were found last: asked for again by whoever adds up.
        self._found: tuple[tuple[Floats, ...], Attempt] | None = None

    def longest_wait(self) -> int:
        """How many connects may take their time-out before one of the same attempt is taken, at most."""
        return self.book.cases.longest_wait if self.book.cases else 0

    def connected(self, outcomes: Sequence[Floats], weights: Floats, spent: int = 0) -> Floats:
        """Per row of the book the connects of a call there, that has `spent` attempts behind it. `outcomes` of a
        connect after 0, 1, ... others that took their time-out (the last one for all further ones)."""
        made, cases = self.book.sent_once.copy(), self.book.cases
        if cases is not None:
            one = self._attempt(cases, outcomes)
            add_connects(
                cases.begin, cases.row, cases.share, cases.kind, cases.repeats, one.connects, one.fails, weights,
                SPENT_BEFORE[spent], made,
            )  # fmt: skip
        return made

    def ended(self, outcomes: Sequence[Floats], weights: Floats, spent: int = 0) -> Floats:
        """Per row of the book and by kind what of the calls ends there, each counted once by its last attempt; as
        `connected`."""
        made, cases = outcomes[0] * self.book.sent_once[:, None], self.book.cases
        if cases is not None:
            one = self._attempt(cases, outcomes)
            add_ends(
                cases.begin, cases.row, cases.share, cases.kind, cases.repeats, one.ends, one.fails, weights,
                SPENT_BEFORE[spent], made,
            )  # fmt: skip
        return made

    def _attempt(self, cases: Cases, outcomes: Sequence[Floats]) -> Attempt:
        """What one attempt of each case comes to."""
        asked = tuple(outcomes)
        if self._found is None or not _same(self._found[0], asked):
            self._found = asked, _attempt(cases, asked[0][None] if len(asked) == 1 else np.array(asked))
        return self._found[1]


def _same(before: Sequence[Floats], asked: Sequence[Floats]) -> bool:
    return [*map(id, before)] == [*map(id, asked)]


def _attempt(cases: Cases, books: Floats) -> Attempt:
    """What one attempt of cases comes to; `books` (waits, rows, kinds)."""
    places, most = len(cases.row), cases.most
    made = Attempt(np.empty(places), np.empty(len(cases.call)), np.empty((places, KINDS)))
    find_attempts(
        cases.begin, cases.row, cases.most_waits, cases.goes_on, cases.wait_s, cases.timeout_s, books,
        np.empty((2, most)), np.empty((most, most)), made.connects, made.fails, made.ends,
    )  # fmt: skip
    return made
