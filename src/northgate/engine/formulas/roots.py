"""When a quadratic comes to a bound."""

import math

import numpy as np

from northgate.engine.base import NEVER, Floats, Floats1, compiled, part
from northgate.engine.formulas.queues import AT_BOUND_S


@part
def meets_s(off: float, slope: float, bend: float) -> float:
    """The first time after now at which `off + slope t + bend t^2 / 2` is 0; never where it is not.

    The roots by the way that loses no digits: q = -(s + sign(s) sqrt(s^2 - 2 b off)) / 2, then 2 q / b and off / q.
    """
    # What is infinitely far off is never met; at a bound already, within what counts as at it, is no meeting.
    inside = slope**2 - 2 * bend * off
    if not AT_BOUND_S < abs(off) < NEVER or inside < 0:
        return NEVER
    root, soonest = -(slope + math.copysign(math.sqrt(inside), slope)) / 2, NEVER
    if bend != 0 and 2 * root / bend > AT_BOUND_S:
        soonest = 2 * root / bend
    if root != 0 and off / root > AT_BOUND_S:
        soonest = min(soonest, off / root)
    return soonest


def first_meeting(off: Floats, slope: Floats, bend: Floats) -> Floats:
    """`meets_s` of each of some, in arrays of one shape (n,)."""
    made = np.empty(len(off))
    _find_meetings(off, slope, bend, made)
    return made


@compiled
def _find_meetings(off: Floats1, slope: Floats1, bend: Floats1, made: Floats1) -> None:
    for place in range(len(off)):
        made[place] = meets_s(off[place], slope[place], bend[place])
