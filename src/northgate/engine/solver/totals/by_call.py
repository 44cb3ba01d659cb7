"""What becomes of calls, each counted once, by its last attempt."""

import numpy as np

from northgate.engine.base import (
    KINDS,
    SERVED,
    Floats,
    cached,
    some,
)
from northgate.engine.solver.totals.loops import add_becomes, add_rows
from northgate.engine.solver.totals.solved import Solved


class ByCall:
    """What becomes of calls in the end, by entry and kind (calls/s)."""

    def __init__(self, solved: Solved) -> None:
        self.network, self.state = solved.context.network, solved.context.state
        self.frame = solved.context.unloaded.frame
        self.repeats, self.connected = solved.context.repeats, solved.context.connected
        self.sent, self.back, self.bound = solved.sent, solved.back, solved.bound
        self.becomes = self._becomes()

    def _becomes(self) -> Floats:
        """What becomes of the calls/s by entry that go no way that is open already, by kind; of what targets pass on,
        what becomes of attempts."""
        repeats, state, back, connected = self.repeats, self.state, self.back, self.connected
        ends, spent_s = repeats.ended(back.books), connected.anew
        then = ends
        if some(connected.anew):
            # Those whose connection has ended under them have one attempt behind them.
            then, spent_s = repeats.ended(back.books, spent=1), connected.spent_before(back.pair[SERVED])
        made, book = np.zeros(back.entry.shape), repeats.book
        add_becomes(
            book.entry, book.call, ends, then, state.call_rps, connected.free, connected.anew, spent_s,
            self.frame.of_client, back.entry, self.sent.entry, made,
        )  # fmt: skip
        return made

    @cached
    def ended(self) -> Floats:
        """Per entry and kind what becomes of calls in the end, those over open connections too (calls/s)."""
        if self.bound is None:
            return self.becomes
        made = self.becomes.copy()
        add_rows(self.frame.entry, self.bound.row, self.frame.every_row, made)
        return made

    @cached
    def by_call(self) -> Floats:
        """What becomes of each call in the end, per call and kind (calls/s)."""
        made = np.zeros((len(self.state.call_rps), KINDS))
        add_rows(self.network.entries.call, self.ended, self.frame.of_client, made)
        return made
