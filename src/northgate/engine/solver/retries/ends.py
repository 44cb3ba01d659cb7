"""How often calls connect, and where they end."""

from collections.abc import Iterator, Sequence

import numpy as np
from msgspec import Struct

from northgate.engine.base import KINDS, Floats
from northgate.engine.solver.retries.cases import Book, Cases, Facts
from northgate.engine.solver.retries.loops import add_connects, add_ends, find_attempts


class Attempt(Struct, frozen=True):
    """What one attempt of cases comes to: the connects by case and address, how often it fails, by case, and what ends
    there, by case, address and kind."""

    facts: Facts
    connects: Floats
    fails: Floats
    ends: Floats


class CaseEnds:
    """What calls come to, by their last attempt."""

    def __init__(self, book: Book) -> None:
        self.book = book
        # Single attempts, as they were found last: asked for again by whoever adds up.
        self._attempts: tuple[tuple[Floats, ...], list[Attempt]] = ((), [])

    def longest_wait(self) -> int:
        """How many connects may take their time-out before one of the same attempt is taken, at most."""
        pairs = zip(self.book.cases, self.book.facts, strict=True)
        return max(
            [min(cases.row.shape[1], int(facts.most_waits.max())) - 1 for cases, facts in pairs if facts.goes_on.any()],
            default=0,
        )

    def connected(self, outcomes: Sequence[Floats], weights: Floats, spent: int = 0) -> Floats:
        """Per row of the book the connects of a call there, that has `spent` attempts behind it. `outcomes` of a
        connect after 0, 1, ... others that took their time-out (the last one for all further ones)."""
        made = self.book.sent_once.copy()
        for cases, attempt, left in self._attempts_left(outcomes, spent):
            add_connects(cases.row, attempt.connects, attempt.fails, left, cases.share * weights[cases.kind], made)
        return made

    def ended(self, outcomes: Sequence[Floats], weights: Floats, spent: int = 0) -> Floats:
        """Per row of the book and by kind what of the calls ends there, each counted once by its last attempt; as
        `connected`."""
        made = outcomes[0] * self.book.sent_once[:, None]
        for cases, attempt, left in self._attempts_left(outcomes, spent):
            add_ends(cases.row, attempt.ends, attempt.fails, left, cases.share * weights[cases.kind], made)
        return made

    def _attempts_left(self, outcomes: Sequence[Floats], spent: int) -> Iterator[tuple[Cases, Attempt, Floats]]:
        """Cases, what one attempt of them comes to, and how often it may be repeated."""
        for cases, attempt in zip(self.book.cases, self._of_one_attempt(outcomes), strict=True):
            yield cases, attempt, np.maximum(attempt.facts.repeats - spent, 0)

    def _of_one_attempt(self, outcomes: Sequence[Floats]) -> list[Attempt]:
        asked = tuple(outcomes)
        if not _same(self._attempts[0], asked):
            pairs = zip(self.book.cases, self.book.facts, strict=True)
            books = np.array(asked)
            self._attempts = asked, [_attempt(cases, facts, books) for cases, facts in pairs]
        return self._attempts[1]


def _same(before: Sequence[Floats], asked: Sequence[Floats]) -> bool:
    return len(before) == len(asked) and all(a is b for a, b in zip(before, asked, strict=True))


def _attempt(cases: Cases, facts: Facts, books: Floats) -> Attempt:
    """What one attempt of cases comes to; `books` (waits, rows, kinds)."""
    some, count = cases.row.shape
    made = Attempt(facts, np.empty((some, count)), np.empty(some), np.empty((some, count, KINDS)))
    find_attempts(
        cases.row, facts.most_waits, facts.goes_on, facts.wait_s, facts.timeout_s, books, np.empty((2, count)),
        np.empty((count, count)), made.connects, made.fails, made.ends,
    )  # fmt: skip
    return made
