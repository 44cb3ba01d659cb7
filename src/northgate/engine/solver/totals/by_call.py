"""What becomes of calls, each counted once, by its last attempt."""

import numpy as np

from northgate.engine.base import (
    KINDS,
    SERVED,
    WORK,
    Floats,
    cached,
)
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
        network, repeats, state, back = self.network, self.repeats, self.state, self.back
        call = network.entries.call
        calls = np.where(self.frame.of_client, state.call_rps[call] * self.connected.free[call], 0.0)
        ends = repeats.book.by_entry(repeats.ended(back.books))
        becomes = ends * calls[:, None]
        if self.connected.anew.any():
            # Those whose connection has ended under them have one attempt behind them.
            then = repeats.book.by_entry(repeats.ended(back.books, spent=1))
            spent_s = self.connected.spent_before(back.pair[SERVED])
            then[:, WORK] += then[:, SERVED] * spent_s[call]
            more = np.where(self.frame.of_client, state.call_rps[call] * self.connected.anew[call], 0.0)
            becomes = becomes + then * more[:, None]
        inner = self.frame.inner
        becomes[inner] = back.entry[inner] * self.sent.entry[inner, None]
        return becomes

    @cached
    def over_open(self) -> Floats:
        """Per entry and kind what becomes of calls over open connections (calls/s)."""
        made = np.zeros_like(self.becomes)
        if self.bound is not None:
            np.add.at(made, self.frame.entry, self.bound.row)
        return made

    @cached
    def ended(self) -> Floats:
        """Per entry and kind what becomes of calls in the end (calls/s)."""
        return self.becomes if self.bound is None else self.becomes + self.over_open

    @cached
    def by_call(self) -> Floats:
        """What becomes of each call in the end, per call and kind (calls/s)."""
        made, mine = np.zeros((len(self.state.call_rps), KINDS)), self.frame.of_client
        np.add.at(made, self.network.entries.call[mine], self.ended[mine])
        return made
