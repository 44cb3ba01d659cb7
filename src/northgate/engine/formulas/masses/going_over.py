"""What is held in all where sources go over from one way of opening connections to another meanwhile.

With N of all sources that open them in the newest way, of which n hold one, r more a second who have opened them in an
older way, of whom h hold one, and M(t; m) what comes of m in the time t: n comes to
N M(t; n/N) + r ∫ M(t - τ; h(τ)) dτ; each of the older ways goes on by itself.
"""

import numpy as np

from northgate.engine.base import Bools1, Floats, Floats1, Floats2, compiled, part
from northgate.engine.formulas.masses.decays import workplace
from northgate.engine.formulas.masses.loops import move
from northgate.engine.formulas.masses.occupancy import Occupancy, Openings

# Rows of `room`: of one older way, on the mean of all the time and of each half of it, and for work.
WHOLE, EARLY, LATE, THEN, HALF = range(5)
ROOM = 5


def held_in_all(
    held: Floats, older: Occupancy, newest: Openings, shares: tuple[Floats, Floats], seconds: float, few: float
) -> Floats:  # fmt: skip
    """What is held in all (places,) so many seconds (more than 0) later: `held` now, by each of some `older` ways as a
    part of those who open them so, of which `shares` of all there are now and then, and by those who open them in the
    `newest` way; of so `few` nobody asks what they hold."""
    opened, made = older.openings, np.empty(len(held))
    _find_in_all(
        held, older.held, opened.ways[0], newest.ways[0], newest.rate, newest.ends[:, 0], newest.silent[0], *shares,
        np.array([seconds, few]), workplace(), np.empty((ROOM, len(held))), made,
    )  # fmt: skip
    return made


@compiled
def _find_in_all(
    held: Floats1, older: Floats2, ways: Floats2, newest: Floats2, rate: Floats1, ends: Floats1, silent: Bools1,
    before: Floats1, shares: Floats1, asked: Floats1, work: Floats2, room: Floats2, made: Floats1,
) -> None:  # fmt: skip
    """`held_in_all`: what is held by each of the `older` ways (ways, places), whose shares are `before` and then
    `shares`; `ways` (ways, places) and `newest` (1, places): how they are opened, with `rate` (1,), `ends` (2,) and
    `silent` (places,) as of `Openings`. `asked`: the seconds, and `few`."""
    seconds, whole, opened = asked[0], 1.0, 0.0
    for place in range(len(held)):
        made[place] = held[place]
    for way in range(len(older)):
        whole -= before[way]
        for place in range(len(held)):
            made[place] -= before[way] * older[way, place]
    whole = max(whole, 0.0)
    for place in range(len(held)):
        made[place] = max(made[place], 0.0) / whole if whole > asked[1] else 0.0
        opened += made[place]
    for place in range(len(held)):
        room[THEN, place] = made[place] / max(opened, 1.0)
    move(room[THEN], newest, rate[0], ends, silent, seconds, 0.0, work, made)
    for place in range(len(held)):
        made[place] *= whole
    for way in range(len(older)):
        mine = ways[way : way + 1]
        _go_over(older[way], mine, newest, rate[0], ends, silent, seconds, before[way] - shares[way], work, room, made)
        move(older[way], mine, rate[0], ends, silent, seconds, 0.0, work, room[THEN])
        for place in range(len(held)):
            made[place] += shares[way] * room[THEN, place]


@part
def _go_over(
    held: Floats1, ways: Floats2, newest: Floats2, rate: float, ends: Floats1, silent: Bools1, seconds: float,
    often: float, work: Floats2, room: Floats2, made: Floats1,
) -> None:  # fmt: skip
    """Adds what those hold at last, so many of all (`often`), who go over evenly meanwhile: the mean of M(t - τ; h(τ)).
    With h as on the mean of all, and of each half, of the error of which a quarter is left: a third of the difference
    is still to be added (Richardson's rule)."""
    if often == 0.0:
        return
    half_s = seconds / 2
    _mean(held, ways, rate, ends, silent, seconds, work, room[WHOLE])
    _mean(held, ways, rate, ends, silent, half_s, work, room[EARLY])
    for place in range(len(held)):
        room[LATE, place] = 2 * room[WHOLE, place] - room[EARLY, place]
    # Of one go less a third; of two halves four thirds: the early one's for all of the time, and half of the change.
    _mean(room[WHOLE], newest, rate, ends, silent, seconds, work, room[THEN])
    _add(room[THEN], -often / 3, made)
    _mean(room[EARLY], newest, rate, ends, silent, seconds, work, room[THEN])
    _add(room[THEN], often * 4 / 3, made)
    _mean(room[LATE], newest, rate, ends, silent, half_s, work, room[HALF])
    _add(room[HALF], often * 2 / 3, made)
    _mean(room[EARLY], newest, rate, ends, silent, half_s, work, room[HALF])
    _add(room[HALF], -often * 2 / 3, made)


@part
def _mean(
    held: Floats1, ways: Floats2, rate: float, ends: Floats1, silent: Bools1, seconds: float, work: Floats2,
    made: Floats1,
) -> None:  # fmt: skip
    """What is held on the mean of so many seconds."""
    move(held, ways, rate, ends, silent, seconds, 1.0, work, made)
    for place in range(len(held)):
        made[place] /= seconds


@part
def _add(values: Floats1, often: float, made: Floats1) -> None:
    """Adds values so many times."""
    for place in range(len(values)):
        made[place] += often * values[place]
