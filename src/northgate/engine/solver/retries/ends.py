"""How often calls connect, and where they end."""

from collections.abc import Iterator, Sequence

import numpy as np
from msgspec import Struct

from northgate.engine.base import (
    FAILS,
    KINDS,
    QUIET,
    SERVED,
    SPENT,
    TURNED_AWAY,
    UNMET,
    WORK,
    Floats,
    cached,
)
from northgate.engine.formulas import (
    Connects,
    attempts,
    attempts_before,
    connects,
)
from northgate.engine.solver.retries.cases import Book, Cases
from northgate.engine.solver.retries.kinds import met_of
from northgate.engine.solver.retries.returning import Returning

# Failed connects of the two sorts, and the causes that they are counted under.
QUIET_CAUSES, AWAY_CAUSES = np.array(QUIET), np.array(TURNED_AWAY)
UNMET_QUIET, UNMET_AWAY = QUIET_CAUSES + UNMET, AWAY_CAUSES + UNMET


class Facts(Struct, frozen=True):
    """What of cases does not depend on load, each of shape (cases,): connects of one attempt that may take their
    time-out, whether a client takes the next address, how often he repeats, and his time-outs (s)."""

    most_waits: Floats
    goes_on: Floats
    repeats: Floats
    wait_s: Floats
    timeout_s: Floats


class Attempt(Struct, frozen=True, dict=True):
    """What one attempt of cases comes to, by what becomes of a connect after 0, 1, ... others that took their time-out.
    What ends there by kind is worked out for who asks, once rates are known."""

    facts: Facts
    made: Connects
    outcome: Sequence[Floats]

    @cached
    def connects(self) -> Floats:
        """The connects by case and address."""
        return np.asarray(self.made.tried.sum(axis=2))

    @cached
    def fails(self) -> Floats:
        """How often it fails, by case."""
        served = np.zeros(len(self.made.tried))
        for number in range(self.made.tried.shape[2]):
            served += (self.after(number)[:, :, SERVED] * self.made.tried[:, :, number]).sum(axis=1)
        return np.clip(1 - served, 0.0, 1.0)

    @cached
    def ends(self) -> Floats:
        """What ends there, by case, address and kind."""
        return _attempt_ends(self)

    @cached
    def spent_s(self) -> Floats:
        """How long it takes where it fails, times how often (s), by case."""
        return np.asarray(self.ends[:, :, SPENT].sum(axis=1))

    def after(self, number: int) -> Floats:
        """What becomes of a connect, by case, address and kind, after so many others that took their time-out."""
        return self.outcome[min(number, len(self.outcome) - 1)]


class CaseEnds:
    """What calls come to, by their last attempt."""

    def __init__(self, returning: Returning, book: Book) -> None:
        self.returning, self.book, self.network, self.state = returning, book, returning.network, returning.state
        # Single attempts, as they were found last: asked for again by whoever adds up.
        self._attempts: tuple[tuple[Floats, ...], list[Attempt]] = ((), [])

    @cached
    def _facts(self) -> list[Facts]:
        returning, calls = self.returning, self.network.calls
        return [
            Facts(
                returning.most_waits(cases.call),
                returning.goes_on[cases.call].astype(np.float64),
                returning.of_client[calls.client[cases.call]],
                calls.connect_timeout_s[cases.call],
                calls.timeout_s[cases.call],
            )
            for cases in self.book.cases
        ]

    def longest_wait(self) -> int:
        """How many connects may take their time-out before one of the same attempt is taken, at most."""
        pairs = zip(self.book.cases, self._facts, strict=True)
        return max(
            [min(cases.row.shape[1], int(facts.most_waits.max())) - 1 for cases, facts in pairs if facts.goes_on.any()],
            default=0,
        )

    def connected(self, outcomes: Sequence[Floats], weights: Floats, spent: int = 0) -> Floats:
        """Per row of the book the connects of a call there, that has `spent` attempts behind it. `outcomes` of a
        connect after 0, 1, ... others that took their time-out (the last one for all further ones)."""
        made = self._sent_once.copy()
        for cases, attempt, left in self._attempts_left(outcomes, spent):
            tries = attempts(attempt.fails, left) * cases.share * weights[cases.kind]
            np.add.at(made, cases.row, attempt.connects * tries[:, None])
        return made

    def ended(self, outcomes: Sequence[Floats], weights: Floats, spent: int = 0) -> Floats:
        """Per row of the book and by kind what of the calls ends there, each counted once by its last attempt; as
        `connected`."""
        made = outcomes[0] * self._sent_once[:, None]
        for cases, attempt, left in self._attempts_left(outcomes, spent):
            weight = cases.share * weights[cases.kind]
            np.add.at(made, cases.row, _last_of(attempt, left) * weight[:, None, None])
        return made

    @cached
    def _sent_once(self) -> Floats:
        """Per row of the book the connects there of calls that are tried once."""
        made = np.zeros(self.book.size)
        made[: len(self.state.dns_share)] = self.state.dns_share
        for cases in self.book.cases:
            made[cases.entry] = 0.0
        return made

    def _attempts_left(self, outcomes: Sequence[Floats], spent: int) -> Iterator[tuple[Cases, Attempt, Floats]]:
        """Cases, what one attempt of them comes to, and how often it may be repeated."""
        for cases, attempt in zip(self.book.cases, self._of_one_attempt(outcomes), strict=True):
            yield cases, attempt, np.maximum(attempt.facts.repeats - spent, 0)

    def _of_one_attempt(self, outcomes: Sequence[Floats]) -> list[Attempt]:
        asked = tuple(outcomes)
        if not _same(self._attempts[0], asked):
            pairs = zip(self.book.cases, self._facts, strict=True)
            self._attempts = asked, [_attempt(cases, facts, outcomes) for cases, facts in pairs]
        return self._attempts[1]


def _same(before: Sequence[Floats], asked: Sequence[Floats]) -> bool:
    return len(before) == len(asked) and all(a is b for a, b in zip(before, asked, strict=True))


def _attempt(cases: Cases, facts: Facts, outcomes: Sequence[Floats]) -> Attempt:
    """What one attempt of cases comes to."""
    outcome = [one[cases.row] for one in outcomes]
    quiet, away = (outcome[0][:, :, kinds].sum(axis=2) for kinds in (UNMET_QUIET, UNMET_AWAY))
    return Attempt(facts, connects(away, quiet, facts.most_waits, facts.goes_on), outcome)


def _attempt_ends(attempt: Attempt) -> Floats:
    """What one attempt comes to, by case, address and kind."""
    facts, (cases, count, waits) = attempt.facts, attempt.made.tried.shape
    ends = np.zeros((cases, count, KINDS))
    moves, wait_s, patience_s = facts.goes_on[:, None] > 0, facts.wait_s[:, None], facts.timeout_s[:, None]
    for number in range(waits):
        found, before_s = attempt.after(number), number * wait_s
        tried, last = attempt.made.tried[:, :, number], attempt.made.last[:, :, number]
        unmet = found[:, :, UNMET:].any()
        met = met_of(found) if unmet else found.copy()
        fails = met[:, :, FAILS].sum(axis=2)
        met[:, :, WORK] += met[:, :, SERVED] * before_s
        met[:, :, SPENT] = np.minimum(met[:, :, SPENT] + fails * before_s, fails * patience_s)
        ends += met * tried[:, :, None]
        if not unmet:
            continue
        # The time-out that uses up what is left is the last, whatever addresses there are.
        quiet_last = np.where(moves & (number + 1 >= facts.most_waits)[:, None], tried, last)
        for kinds, causes, weight, more_s in (
            (UNMET_QUIET, QUIET_CAUSES, quiet_last, wait_s), (UNMET_AWAY, AWAY_CAUSES, last, 0.0)
        ):  # fmt: skip
            part = found[:, :, kinds] * weight[:, :, None]
            ends[:, :, causes] += part
            ends[:, :, SPENT] += part.sum(axis=2) * np.minimum(before_s + more_s, patience_s)
    return ends


def _last_of(attempt: Attempt, left: Floats) -> Floats:
    """Per case, address and kind what of a call that may be repeated so often ends there, counted by its last
    attempt."""
    tries = attempts(attempt.fails, left)
    lost_s = attempt.spent_s * attempts_before(attempt.fails, left)
    ends = attempt.ends * (attempt.fails**left)[:, None, None]
    well = attempt.ends[:, :, SERVED]
    ends[:, :, SERVED] = well * tries[:, None]
    ends[:, :, WORK] = attempt.ends[:, :, WORK] * tries[:, None] + well * lost_s[:, None]
    return ends
