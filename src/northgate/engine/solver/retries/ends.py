"""How often calls connect, and where they end."""

from collections.abc import Sequence

import numpy as np

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
    Ints,
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


class CaseEnds:
    """What calls come to, by their last attempt."""

    def __init__(self, returning: Returning, book: Book) -> None:
        self.returning, self.book, self.network, self.state = returning, book, returning.network, returning.state
        # What was found last, by how many attempts calls had behind them: asked for again by whoever adds up.
        self._found: dict[int, tuple[tuple[Floats, ...], tuple[Floats, Floats]]] = {}

    def longest_wait(self) -> int:
        """How many connects may take their time-out before one of the same attempt is taken, at most."""
        most = [
            min(cases.row.shape[1], int(self.returning.most_waits(cases.call).max())) - 1 for cases in self.book.cases
        ]
        goes_on = [self.returning.goes_on[cases.call].any() for cases in self.book.cases]
        return max([waits for waits, on in zip(most, goes_on, strict=True) if on], default=0)

    def ended(self, outcomes: Sequence[Floats], weights: Floats, spent: int = 0) -> tuple[Floats, Floats]:
        """Per row of the book the connects of a call there, and by kind what of the calls ends there, each counted once
        by its last attempt; of calls that have `spent` attempts behind them. `outcomes` of a connect after 0, 1, ...
        others that took their time-out (the last one for all further ones)."""
        asked = (*outcomes, weights)
        before, found = self._found.get(spent, ((), None))
        if found is None or len(before) != len(asked) or any(a is not b for a, b in zip(before, asked, strict=True)):
            found = self._ended(outcomes, weights, spent)
            self._found[spent] = asked, found
        return found

    def _ended(self, outcomes: Sequence[Floats], weights: Floats, spent: int) -> tuple[Floats, Floats]:
        connected = np.zeros(self.book.size)
        connected[: len(self.state.dns_share)] = self.state.dns_share
        ends = np.zeros((self.book.size, KINDS))
        ends[: len(self.state.dns_share)] = outcomes[0][: len(self.state.dns_share)] * self.state.dns_share[:, None]
        for cases in self.book.cases:
            mine = np.unique(cases.entry)
            connected[mine], ends[mine] = 0.0, 0.0
        for cases in self.book.cases:
            tried, ended = self._case_ends(cases, outcomes, spent)
            weight = cases.share * weights[cases.kind]
            np.add.at(connected, cases.row, tried * weight[:, None])
            np.add.at(ends, cases.row, ended * weight[:, None, None])
        return connected, ends

    def _case_ends(self, cases: Cases, outcomes: Sequence[Floats], spent: int) -> tuple[Floats, Floats]:
        """Per case and address: connects, and what ends there by kind."""
        calls = self.network.calls
        outcome = [one[cases.row] for one in outcomes]
        quiet, away = (outcome[0][:, :, kinds].sum(axis=2) for kinds in (UNMET_QUIET, UNMET_AWAY))
        most = self.returning.most_waits(cases.call)
        made = connects(away, quiet, most, self.returning.goes_on[cases.call].astype(np.float64))
        wait_s, timeout_s = calls.connect_timeout_s[cases.call], calls.timeout_s[cases.call]
        ends = self._attempt_ends(made, outcome, wait_s, timeout_s, most, cases.call)
        served = ends[:, :, SERVED].sum(axis=1)
        fails = np.clip(1 - served, 0.0, 1.0)
        left = np.maximum(self.returning.of_client[calls.client[cases.call]] - spent, 0)
        tries = attempts(fails, left)
        lost_s = ends[:, :, SPENT].sum(axis=1) * attempts_before(fails, left)
        worked, well = ends[:, :, WORK] * tries[:, None], ends[:, :, SERVED]
        ends = ends * (fails**left)[:, None, None]
        ends[:, :, SERVED] = well * tries[:, None]
        ends[:, :, WORK] = worked + well * lost_s[:, None]
        return made.tried.sum(axis=2) * tries[:, None], ends

    def _attempt_ends(
        self, made: Connects, outcome: Sequence[Floats], wait_s: Floats, timeout_s: Floats, most: Floats, call: Ints
    ) -> Floats:
        """What one attempt comes to, by case, address and kind."""
        cases, count, waits = made.tried.shape
        ends = np.zeros((cases, count, KINDS))
        moves = self.returning.goes_on[call][:, None]
        for number in range(waits):
            found = outcome[min(number, len(outcome) - 1)]
            before_s, patience_s = (number * wait_s)[:, None], timeout_s[:, None]
            tried, last = made.tried[:, :, number], made.last[:, :, number]
            met = met_of(found) if found[:, :, UNMET:].any() else found.copy()
            fails = met[:, :, FAILS].sum(axis=2)
            met[:, :, WORK] += met[:, :, SERVED] * before_s
            met[:, :, SPENT] = np.minimum(met[:, :, SPENT] + fails * before_s, fails * patience_s)
            ends += met * tried[:, :, None]
            # The time-out that uses up what is left is the last, whatever addresses there are.
            quiet_last = np.where(moves & (number + 1 >= most)[:, None], tried, last)
            for kinds, causes, weight, more_s in (
                (UNMET_QUIET, QUIET_CAUSES, quiet_last, 1.0), (UNMET_AWAY, AWAY_CAUSES, last, 0.0)
            ):  # fmt: skip
                part = found[:, :, kinds] * weight[:, :, None]
                ends[:, :, causes] += part
                ends[:, :, SPENT] += part.sum(axis=2) * np.minimum(before_s + more_s * wait_s[:, None], patience_s)
        return ends
