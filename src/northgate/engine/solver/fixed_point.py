"""The fixed point of what depends on load: the shares of targets that are chosen by how busy they are, and how often
calls are tried again, which depends on what becomes of them."""

import numpy as np
from msgspec import Struct, field

from northgate.engine.base import Bools1, Floats, Floats1, compiled
from northgate.engine.formulas import Secants
from northgate.engine.solver.context import Back, Forth
from northgate.engine.solver.passes.one_pass import OnePass
from northgate.engine.solver.state import Attempts

# Shares that depend on the load that they make are settled when none changes by more than this.
SETTLED, ROUNDS, SHORTEST_STEP, LONGEST_STEP = 1e-11, 400, 1 / 64, 2.0
# Attempts are settled when none changes by more than this. They are led on by what the last few rounds have told, once
# they change by less than NEAR; what leads much further off than before is taken back.
SETTLED_TRIES, NEAR, WORSE = 1e-11, 1e-1, 10.0
# What has not been halved in so many rounds does not settle. Where an answer is just too late with the repeats that
# this makes, and just in time without them, who is too late is then held while attempts settle; FREE: until that.
# What is so many times as far off as it has been jumps.
PATIENCE, FREE, HALVED, JUMPS = 40, 12, 0.5, 1e3
# While attempts are off by so much, shares that depend on load need not be nearer than this part of it.
CLOSER = 1e-3


def _largest(values: Floats) -> float:
    """How far a row of values is from 0 at most; 0 where there are none, NaN where any is."""
    made = np.zeros(1)
    _find_largest(values, made)
    return float(made[0])


@compiled
def _find_largest(values: Floats1, made: Floats1) -> None:
    """`_largest`."""
    for place in range(len(values)):
        # What is not a number is not smaller than any.
        if not abs(values[place]) <= made[0] and made[0] == made[0]:
            made[0] = abs(values[place])


class Memory(Struct, frozen=True):
    """What a solver remembers from one state for the next: of attempts, and of shares that depend on load."""

    attempts: Secants = field(default_factory=Secants)
    shares: Secants = field(default_factory=Secants)


def fixed_point(one_pass: OnePass, memory: Memory) -> tuple[Forth, Back]:
    """The fixed point of the shares that depend on load and of the attempts that depend on failures, from the state
    before on: for every number of attempts the shares that go with them."""
    share, lead, settling = _first(one_pass), _Lead(one_pass, memory.attempts), _Settling(SETTLED_TRIES, FREE)
    lateness, enough = one_pass.backward.waits.lateness, SETTLED
    while True:
        forth = _with_shares(one_pass, share, enough, memory.shares)
        back = one_pass.back(forth)
        if not one_pass.again:
            return forth, back
        change = lead.look(back)
        enough = max(SETTLED, CLOSER * change)
        if settling.ends(change):
            if lateness.holds and not (settling.settles and lateness.goes_on()):
                return forth, back
            if settling.settles and not lateness.holds:
                return forth, back
            lateness.hold()
            settling = _Settling(SETTLED_TRIES)
        lead.go_on()
        share = forth.share


def _with_shares(one_pass: OnePass, share: Floats, enough: float, secants: Secants) -> Forth:
    """One way forth, with the shares that follow from the load that they make, `enough` being what they may be off."""
    forth, settling = one_pass.forth(share), _Settling(enough)
    step, come, before = 1.0, np.zeros(0), np.zeros(0)
    while one_pass.unloaded.frame.busy:
        wanted = one_pass.busy_shares(forth)
        off = (wanted - share).ravel()
        change = _largest(off)
        if settling.ends(change):
            break
        if len(before):
            step = _next_step(step, before, off)
            secants.add(come, off - before)
        to = _led_on(share, off, step, secants, near=change < NEAR)
        share, come, before = to, (to - share).ravel(), off
        forth = one_pass.forth(share)
    return forth


def _led_on(share: Floats, off: Floats, step: float, secants: Secants, *, near: bool) -> Floats:
    """Shares that are led on by what the last rounds have told, once they are near; where that would send anybody
    nothing who is sent something, so far towards what is wanted."""
    if near:
        made, otherwise = np.empty(share.shape), np.zeros(1, dtype=bool)
        _find_led_on(share.ravel(), secants.step(off), made.ravel(), otherwise)
        if not otherwise[0]:
            return made
        secants.forget()
    return share + step * off.reshape(share.shape)


@compiled
def _find_led_on(share: Floats1, step: Floats1, made: Floats1, otherwise: Bools1) -> None:
    """Shares after a step, and whether others than before are sent anything."""
    for place in range(len(share)):
        made[place] = max(share[place] + step[place], 0.0)
        otherwise[0] = otherwise[0] or (made[place] > 0) != (share[place] > 0)


class _Settling:
    """Whether an iteration has come to its end: nothing changes by more than `settled` (it `settles`), or it does not
    get there."""

    def __init__(self, settled: float, patience: int = PATIENCE) -> None:
        self.settled, self.patience, self.rounds, self.least, self.since = settled, patience, 0, np.inf, 0
        self.settles = False

    def ends(self, change: float) -> bool:
        """Whether to stop after one more round that has changed so much."""
        jumps = change > self.least * JUMPS
        if change < self.least * HALVED:
            self.least, self.since = change, self.rounds
        self.rounds += 1
        self.settles = change <= self.settled
        if jumps and self.patience == FREE:
            return True
        return self.settles or self.rounds >= ROUNDS or self.rounds - self.since > self.patience


def _first(one_pass: OnePass) -> Floats:
    """The shares to begin with: those of the state before, where as many as now were sent anywhere."""
    by_weight, before = one_pass.unloaded.first_shares, one_pass.state.shares
    if before is None or before.shape != by_weight.shape or not one_pass.unloaded.frame.busy:
        return by_weight
    return before if ((before > 0) == (by_weight > 0)).all() else by_weight


class _Lead:
    """Iterates attempts to their fixed point, led on by the last few rounds (see `Secants`); a step that raised the
    residual is undone."""

    def __init__(self, one_pass: OnePass, secants: Secants) -> None:
        self.one_pass, self.secants = one_pass, secants
        self._made = one_pass.attempts_made
        # Where the last round began, and how far off that was.
        self._last: tuple[Attempts, Floats] | None = None
        # What was wanted before the last step that led on, and how far off attempts were then.
        self._fallback: tuple[Attempts, float] | None = None

    def look(self, back: Back) -> float:
        """How far attempts are from what is wanted now."""
        now, wanted = self.one_pass.attempts, self.one_pass.attempts_wanted(back)
        self.wanted, self.off, untried = wanted, np.empty(len(self._made)), np.zeros(1, dtype=bool)
        moved = np.empty(len(self._made))
        _find_off(now.numbers, wanted.numbers, self._made, self.off, moved, untried)
        # What nobody tries is as it is wanted at once: no rate follows from it.
        if untried[0]:
            self.one_pass.take(Attempts(moved, now.shapes))
        self.change = _largest(self.off)
        return self.change

    def go_on(self) -> None:
        """To the next attempts."""
        if self._fallback and self.change > WORSE * self._fallback[1]:
            self.one_pass.take(self._fallback[0])
            self._last = self._fallback = None
            self.secants.forget()
            return
        now = self.one_pass.attempts
        if self._last and self._last[0].fits(now):
            self.secants.add(np.where(self._made, self._last[0].off(now), 0.0), self.off - self._last[1])
        step = self.secants.step(self.off) if self.change < NEAR else self.off
        self._last = now, self.off
        self._fallback = (self.wanted, self.change) if step is not self.off else None
        self.one_pass.take(self.wanted if step is self.off else now.moved(step))


@compiled
def _find_off(
    now: Floats1, wanted: Floats1, made: Bools1, off: Floats1, moved: Floats1, untried: Bools1
) -> None:  # fmt: skip
    """How far off attempts are that are `made`; the same where those that nobody makes have become what is wanted, and
    whether any of them were not."""
    for place in range(len(now)):
        moved[place], off[place] = now[place], 0.0
        if made[place]:
            off[place] = wanted[place] - now[place]
        elif wanted[place] != now[place]:
            moved[place], untried[0] = max(wanted[place], 0.0), True


def _next_step(step: float, before: Floats, off: Floats) -> float:
    """How far to go towards what is wanted: Aitken's rule, by what the last step has changed of what is off.

    Source: B. M. Irons and R. C. Tuck, "A version of the Aitken accelerator for computer iteration" (1969).
    """
    moved = off - before
    size = float(moved @ moved)
    wanted = -step * float(before @ moved) / size if size > 0 else step
    return min(max(wanted, SHORTEST_STEP), LONGEST_STEP)
