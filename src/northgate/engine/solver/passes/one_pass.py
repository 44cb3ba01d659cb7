"""One pass over a state: forward, through the queues, and back."""

import numpy as np
from msgspec.structs import replace

from northgate.engine.base import (
    QUIET,
    SERVED,
    UNMET,
    Bools,
    Floats,
    cached,
    ints,
    some,
)
from northgate.engine.formulas import Queue
from northgate.engine.solver.connections import OpenConnections
from northgate.engine.solver.context import Back, Context, Forth, Sent, Stop
from northgate.engine.solver.passes.backward import Backward
from northgate.engine.solver.passes.forward import Forward
from northgate.engine.solver.passes.sending import Sending
from northgate.engine.solver.passes.trying import GoingOn
from northgate.engine.solver.retries.attempts import Repeats
from northgate.engine.solver.state import Attempts, State
from northgate.engine.solver.unloaded import Unloaded

# The kinds of a connect that takes its time-out.
UNMET_QUIET = ints(UNMET + cause for cause in QUIET)
# So few of a call's connects are none.
NOBODY = 1e-12


class OnePass:
    """Passes over one state: forward to targets, through their queues, and back."""

    def __init__(self, unloaded: Unloaded, state: State) -> None:
        repeats = Repeats(unloaded, state)
        connected = OpenConnections(unloaded, state)
        repeats.free = connected.free
        self.context = Context(unloaded, repeats, connected)
        self.state, self.unloaded, self.repeats, self.connected = state, unloaded, repeats, connected
        self.sending, self.going_on = Sending(self.context), GoingOn(self.context)
        self.forward, self.backward = Forward(self.context), Backward(self.context)
        self.attempts = self._each_once
        # Where nobody is tried more than once nothing is left of a storm before.
        before = state.attempts if self.again else None
        self.take(before if before is not None and before.fits(self.attempts) else self.attempts)

    @property
    def _each_once(self) -> Attempts:
        """Everything is tried once; where nothing may be tried again, the same for all states."""
        if not self.again:
            return self.unloaded.derived(_once)
        mult, connected = self.repeats.mult, self.connected
        return Attempts.of(mult, mult, connected.tries, np.zeros(connected.held.shape))

    @property
    def again(self) -> bool:
        """Whether any call may be tried more than once."""
        return self.repeats.any

    def forth(self, share: Floats) -> Forth:
        """With these shares of those who are free to be sent anywhere, of shape (fates or 1, pairs): forward to
        targets, and through their queues."""
        ends, stops = self.going_on.trying(self.sending.mixed(share), share)
        sent = self.forward.run(ends)
        return Forth(share, ends, stops, sent, self.forward.queues(ends, sent))

    def back(self, forth: Forth) -> Back:
        """What becomes of what has been sent forth."""
        share, ends, stops, sent, queue = forth.share, forth.ends, forth.stops, forth.sent, forth.queue
        back = self.backward.run(ends, share, sent, queue, stops)
        return replace(back, later=self._later(ends, share, sent, queue, stops, back))

    def busy_shares(self, forth: Forth) -> Floats:
        """The shares that would follow from the load that these shares make; only of what targets pass on is it asked
        what becomes."""
        leads_on = len(self.unloaded.frame.onward) > 0
        back = self.backward.run(forth.ends, forth.share, forth.sent, forth.queue, forth.stops) if leads_on else None
        return self.sending.busy_shares(forth.share, forth.sent, forth.queue, back)

    def _later(
        self, ends: Floats, share: Floats, sent: Sent, queue: Queue, stops: list[Stop], back: Back
    ) -> tuple[Floats, ...]:  # fmt: skip
        """The book after one, two, ... connects that took their time-out."""
        waits = self.repeats.longest_wait() if self.again else 0
        if not waits or not self._quiet(back):
            return ()
        late = self.backward.waits.late(queue, 0)
        if not self.unloaded.frame.with_others and all(
            (self.backward.waits.late(queue, number) == late).all() for number in range(1, waits + 1)
        ):
            return ()
        made = tuple(self.backward.run(ends, share, sent, queue, stops, number).book for number in range(1, waits + 1))
        self.backward.waits.follow(queue, back.values, 0)
        return made

    def _quiet(self, back: Back) -> bool:
        """Whether any connect takes its time-out."""
        return some(back.book.take(UNMET_QUIET, axis=1))

    @cached
    def attempts_made(self) -> Bools:
        """What of the attempts, all in a row, anybody makes: calls go to such an entry, a source holds such a
        connection."""
        book, held = self.repeats.book.first_connects > NOBODY, self.connected.held.ravel() > 0
        return np.concatenate([book, np.full(book.shape, self.connected.any), held, held])

    def attempts_wanted(self, back: Back) -> Attempts:
        """How often calls would connect, given what becomes of one."""
        repeats, connected = self.repeats, self.connected
        mult = repeats.against_once(repeats.connected(back.books))
        tries, lost = connected.wanted(back.pair[SERVED])
        after_one = self.attempts.after_one
        if connected.any and some(self._lose(lost)):
            after_one = repeats.against_once(repeats.connected(back.books, 1), 1)
        return Attempts.of(mult, after_one, tries, lost)

    def _lose(self, lost: Floats) -> Floats:
        """Such shares of the calls over connections end them, whose sources go on without: by kind and pair the share
        of all sources."""
        ended = self.connected.ended_under_calls(lost)
        if self.repeats.pinned and some(ended):
            for kind, mine in zip(self.connected.kinds, ended, strict=True):
                self.repeats.lose_connections(kind.call, mine)
        return ended

    def take(self, attempts: Attempts) -> None:
        """From now on calls connect that often."""
        self.attempts, self.connected.tries = attempts, attempts.over_open
        if self.connected.any:
            self.connected.anew = self.repeats.anew = self.connected.by_call(self._lose(attempts.lost))
        self.repeats.take(attempts.book, attempts.after_one)


def _once(unloaded: Unloaded) -> Attempts:
    """Every entry, and every connection, is tried once."""
    entries, connections = np.ones(len(unloaded.network.entries.call)), unloaded.open_ways.trip_s.shape
    return Attempts.of(entries, entries, np.ones(connections), np.zeros(connections))
