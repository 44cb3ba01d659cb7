"""What the last rounds of an iteration tell of where it leads (Anderson's rule)."""

import numpy as np

from northgate.engine.base import Bools1, Floats, Floats1, Floats2, compiled, part

# So many of the last rounds tell something.
MEMORY = 5
# Rounds whose changes are the same but for this part of them tell the same.
SAME_DIRECTION = 1e-2


class Secants:
    """How what is off has changed as the numbers did in the last few rounds of looking for a fixed point, where nothing
    is off.

    Source: D. G. Anderson, "Iterative procedures for nonlinear integral equations" (1965); with one round remembered it
    is Aitken's rule.
    """

    def __init__(self) -> None:
        # How far they have come from one round to the next, and how what is off has changed, in as many rounds: the
        # last one first; and room for work.
        self._come, self._changed, self._rounds = np.zeros((MEMORY, 0)), np.zeros((MEMORY, 0)), 0
        self._room = np.zeros((2 * MEMORY + 1, 0))

    def add(self, come: Floats, changed: Floats) -> None:
        """One more round. Of other numbers nothing is remembered."""
        if len(come) != self._come.shape[1]:
            self._come, self._changed = np.zeros((2, MEMORY, len(come)))
            self._rounds, self._room = 0, np.zeros((2 * MEMORY + 1, len(come)))
        self._rounds = min(self._rounds + 1, MEMORY)
        _remember(come, changed, self._come, self._changed)

    def forget(self) -> None:
        """What has been told was misleading."""
        self._rounds = 0

    def step(self, off: Floats) -> Floats:
        """Where all of the last rounds' changes, taken together, would leave nothing off, or as little as they can.

        Least squares by making what each round changed orthogonal to what those after it did (modified Gram-Schmidt);
        a round that tells nothing new is left out.
        """
        if not self._rounds or len(off) != self._come.shape[1]:
            return off
        made, led = off.copy(), np.zeros(1, dtype=bool)
        _find_step(self._come[: self._rounds], self._changed[: self._rounds], off, self._room, made, led)
        # Where all are left out, it is what is off itself.
        return made if led[0] else off


@compiled
def _remember(come: Floats1, changed: Floats1, all_come: Floats2, all_changed: Floats2) -> None:
    """Puts a round before all others; the last of these is forgotten."""
    for number in range(len(all_come) - 1, 0, -1):
        for place in range(len(come)):
            all_come[number, place] = all_come[number - 1, place]
            all_changed[number, place] = all_changed[number - 1, place]
    for place in range(len(come)):
        all_come[0, place], all_changed[0, place] = come[place], changed[place]


@compiled
def _find_step(
    all_come: Floats2, all_changed: Floats2, off: Floats1, room: Floats2, made: Floats1, led: Bools1
) -> None:  # fmt: skip
    """`Secants.step`: the last round first; `made` begins as what is off, `led` says whether it differs in the end, and
    `room` (2 MEMORY + 1, numbers) is for work."""
    rounds = all_come.shape[0]
    come, changed, rest = room[:rounds], room[rounds : 2 * rounds], room[2 * rounds]
    for place in range(len(off)):
        rest[place] = off[place]
    for last in range(rounds):
        for place in range(len(off)):
            changed[last, place] = all_changed[last, place]
            come[last, place] = all_come[last, place] + all_changed[last, place]
        whole = _dot(changed[last], changed[last]) ** 0.5
        for known in range(last):
            _take_off(_dot(changed[known], changed[last]), changed[known], come[known], changed[last], come[last])
        length = _dot(changed[last], changed[last]) ** 0.5
        if length > SAME_DIRECTION * whole:
            for place in range(len(off)):
                changed[last, place] /= length
                come[last, place] /= length
            _take_off(_dot(changed[last], rest), changed[last], come[last], rest, made)
        else:
            # It tells nothing new.
            changed[last] = 0.0
            come[last] = 0.0
    for place in range(len(off)):
        led[0] = led[0] or made[place] != off[place]


@part
def _dot(one: Floats1, other: Floats1) -> float:
    made = 0.0
    for place in range(len(one)):
        made += one[place] * other[place]
    return made


@part
def _take_off(part_of_it: float, direction: Floats1, leads: Floats1, along: Floats1, led: Floats1) -> None:
    """Takes so much of a direction, and of where that has led, off another."""
    for place in range(len(direction)):
        along[place] -= part_of_it * direction[place]
        led[place] -= part_of_it * leads[place]
