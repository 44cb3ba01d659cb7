"""The fixed point of what depends on load: the shares of targets that are chosen by how busy they are, and how often
calls are tried again, which depends on what becomes of them."""

import numpy as np

from northgate.engine.base import Floats
from northgate.engine.solver.context import Back, Forth
from northgate.engine.solver.one_pass import OnePass
from northgate.engine.solver.state import Attempts

# Shares that depend on the load that they make are settled when none changes by more than this.
SETTLED, ROUNDS, SHORTEST_STEP, LONGEST_STEP = 1e-11, 400, 1 / 64, 2.0
# Attempts are settled when none changes by more than this. They are led on by what the last few rounds have told, once
# they change by less than NEAR; what leads much further off than before is taken back.
SETTLED_TRIES, MEMORY, NEAR, WORSE = 1e-11, 5, 1e-2, 10.0
# Where an answer is just too late with the repeats that this makes, and just in time without them, nothing settles:
# given up after so many rounds in which the change has not been halved.
PATIENCE, HALVED = 40, 0.5


def fixed_point(one_pass: OnePass) -> tuple[Forth, Back]:
    """The fixed point of the shares that depend on load and of the attempts that depend on failures, from the state
    before on: for every number of attempts the shares that go with them."""
    share, lead, settling = _first(one_pass), _Lead(one_pass), _Settling(SETTLED_TRIES)
    while True:
        forth = _with_shares(one_pass, share)
        back = one_pass.back(forth)
        if not one_pass.again or settling.ends(lead.look(back)):
            return forth, back
        lead.go_on()
        share = forth.share


def _with_shares(one_pass: OnePass, share: Floats) -> Forth:
    """One way forth, with the shares that follow from the load that they make."""
    forth, settling = one_pass.forth(share), _Settling(SETTLED)
    step, before = 1.0, np.zeros(0)
    while one_pass.unloaded.frame.busy:
        wanted = one_pass.busy_shares(forth)
        off = (wanted - share).ravel()
        if settling.ends(float(np.abs(off).max(initial=0.0))):
            break
        if len(before):
            step = _next_step(step, before, off)
        share, before = share + step * (wanted - share), off
        forth = one_pass.forth(share)
    return forth


class _Settling:
    """Whether an iteration has come to its end: nothing changes by more than `settled`, or it does not get there."""

    def __init__(self, settled: float) -> None:
        self.settled, self.rounds, self.least, self.since = settled, 0, np.inf, 0

    def ends(self, change: float) -> bool:
        """Whether to stop after one more round that has changed so much."""
        if change < self.least * HALVED:
            self.least, self.since = change, self.rounds
        self.rounds += 1
        return change <= self.settled or self.rounds >= ROUNDS or self.rounds - self.since > PATIENCE


def _first(one_pass: OnePass) -> Floats:
    """The shares to begin with: those of the state before, where as many as now were sent anywhere."""
    by_weight, before = one_pass.unloaded.first_shares, one_pass.state.shares
    if before is None or before.shape != by_weight.shape or not one_pass.unloaded.frame.busy:
        return by_weight
    return before if ((before > 0) == (by_weight > 0)).all() else by_weight


class _Lead:
    """Iterates attempts to their fixed point, led on by the last few rounds (Anderson's rule); a step that raised the
    residual is undone.

    Source: D. G. Anderson, "Iterative procedures for nonlinear integral equations" (1965); with one round remembered it
    is Aitken's rule.
    """

    def __init__(self, one_pass: OnePass) -> None:
        self.one_pass = one_pass
        # Of the last rounds: how far attempts had come from where they began, and how far off they were.
        self._rounds: list[tuple[Floats, Floats]] = []
        self._come = np.zeros(0)
        # What was wanted before the last step that led on, and how far off attempts were then.
        self._fallback: tuple[Attempts, Floats, float] | None = None

    def look(self, back: Back) -> float:
        """How far attempts are from what is wanted now."""
        self.wanted = self.one_pass.attempts_wanted(back)
        self.off = self.one_pass.attempts.off(self.wanted)
        self.change = float(np.abs(self.off).max(initial=0.0))
        return self.change

    def go_on(self) -> None:
        """To the next attempts."""
        if len(self._come) != len(self.off):
            self._come, self._rounds, self._fallback = np.zeros(len(self.off)), [], None
        if self._fallback and self.change > WORSE * self._fallback[2]:
            self.one_pass.take(self._fallback[0])
            self._come, self._rounds, self._fallback = self._fallback[1], [], None
            return
        self._rounds = [*self._rounds[1 - MEMORY :], (self._come, self.off)]
        step = self._step() if self.change < NEAR else self.off
        self._fallback = (self.wanted, self._come + self.off, self.change) if step is not self.off else None
        before = self.one_pass.attempts
        self.one_pass.take(self.wanted if step is self.off else before.moved(step))
        self._come = self._come + before.off(self.one_pass.attempts)

    def _step(self) -> Floats:
        """Where all of the last rounds' changes, taken together, would leave nothing off."""
        if len(self._rounds) < 2:
            return self.off
        come, off = (np.array(rows) for rows in zip(*self._rounds, strict=True))
        more, less = np.diff(come, axis=0), np.diff(off, axis=0)
        parts = np.linalg.lstsq(less.T, self.off, rcond=1e-10)[0]
        return np.asarray(self.off - parts @ (more + less))


def _next_step(step: float, before: Floats, off: Floats) -> float:
    """How far to go towards what is wanted: Aitken's rule, by what the last step has changed of what is off.

    Source: B. M. Irons and R. C. Tuck, "A version of the Aitken accelerator for computer iteration" (1969).
    """
    moved = off - before
    size = float(moved @ moved)
    wanted = -step * float(before @ moved) / size if size > 0 else step
    return min(max(wanted, SHORTEST_STEP), LONGEST_STEP)
