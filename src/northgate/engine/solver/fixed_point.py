"""The fixed point of what depends on load: the shares of targets that are chosen by how busy they are, and how often
calls are tried again, which depends on what becomes of them."""

import numpy as np

from northgate.engine.base import Floats
from northgate.engine.formulas import Queue
from northgate.engine.solver.context import Back, Sent
from northgate.engine.solver.one_pass import OnePass
from northgate.engine.solver.state import Attempts

# Shares that depend on the load that they make are settled when none changes by more than this.
SETTLED, ROUNDS, SHORTEST_STEP, LONGEST_STEP = 1e-13, 400, 1 / 64, 2.0
# Attempts are settled when none changes by more than this. They are led on every so many rounds, once they change by
# less than NEAR, where their changes shrink steadily; and taken back where they are then further off than before.
SETTLED_TRIES, EVERY, NEAR, STEADY = 1e-12, 4, 1e-2, 1 - 1e-7
# Where an answer is just too late with the repeats that this makes, and just in time without them, nothing settles:
# given up after so many rounds in which the change has not been halved.
PATIENCE, HALVED = 40, 0.5


def fixed_point(one_pass: OnePass) -> tuple[Floats, Sent, Queue, Back]:
    """The fixed point of the shares that depend on load and of the attempts that depend on failures, from the state
    before on."""
    share = one_pass.unloaded.first_shares
    step, before, lead = 1.0, np.zeros(0), _Lead(one_pass)
    least, since = np.inf, 0
    for number in range(ROUNDS):
        sent, queue, back = one_pass.go(share)
        wanted = one_pass.sending.busy_shares(share, sent, queue, back) if one_pass.unloaded.frame.busy else share
        off = (wanted - share).ravel()
        change = float(np.abs(off).max(initial=0.0))
        tries = lead.look(back) if one_pass.again else 0.0
        if max(change, tries) < least * HALVED:
            least, since = max(change, tries), number
        if (change <= SETTLED and tries <= SETTLED_TRIES) or number == ROUNDS - 1 or number - since > PATIENCE:
            break
        if len(before) and change > SETTLED:
            step = _next_step(step, before, off)
        share, before = (wanted if change <= SETTLED else share + step * (wanted - share)), off
        if one_pass.again:
            lead.go_on()
    return share, sent, queue, back


class _Lead:
    """Iterates attempts to their fixed point; every fourth round may extrapolate (Aitken), undoing a step that raised
    the residual."""

    def __init__(self, one_pass: OnePass) -> None:
        self.one_pass = one_pass
        self.rounds = 0
        self.moved, self.last = np.zeros(0), np.zeros(0)
        # What was wanted before the last stretch, and how much attempts changed then.
        self.fallback: tuple[Attempts, float] | None = None

    def look(self, back: Back) -> float:
        """How far attempts are from what is wanted now."""
        self.wanted = self.one_pass.attempts_wanted(back)
        self.last, self.moved = self.moved, self.one_pass.attempts.off(self.wanted)
        self.change = float(np.abs(self.moved).max(initial=0.0))
        return self.change

    def go_on(self) -> None:
        """To the next attempts."""
        self.rounds += 1
        if self.fallback and self.change > self.fallback[1]:
            self.one_pass.take(self.fallback[0])
            self.fallback, self.moved = None, np.zeros(0)
            return
        stretch = self._stretch()
        self.fallback = (self.wanted, self.change) if stretch > 1 else None
        self.one_pass.take(self.one_pass.attempts.towards(self.wanted, stretch))

    def _stretch(self) -> float:
        size = float(self.last @ self.last)
        if self.rounds % EVERY or size <= 0 or self.change > NEAR or len(self.last) != len(self.moved):
            return 1.0
        ratio = float(self.moved @ self.last) / size
        return 1 / (1 - ratio) if 0 < ratio < STEADY else 1.0


def _next_step(step: float, before: Floats, off: Floats) -> float:
    """How far to go towards what is wanted: Aitken's rule, by what the last step has changed of what is off.

    Source: B. M. Irons and R. C. Tuck, "A version of the Aitken accelerator for computer iteration" (1969).
    """
    moved = off - before
    size = float(moved @ moved)
    wanted = -step * float(before @ moved) / size if size > 0 else step
    return min(max(wanted, SHORTEST_STEP), LONGEST_STEP)
