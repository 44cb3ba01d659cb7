"""When a quadratic, or a cubic, comes to a bound."""

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


# Further off (s) nothing is looked for; nor is it more closely than by so much of it, or in more rounds than these.
FAR_S, DIGIT, CLOSING_IN = 1e9, 1e-16, 200


@part
def cubic_meets_s(off: float, slope: float, bend: float, third: float) -> float:
    """The first time after now at which `off + slope t + bend t^2 / 2 + third t^3 / 6` is 0; never where it is not.

    Between the seconds at which it turns it goes one way: in the first such stretch at whose end it is on the other
    side the root is found by Newton's rule, and by halving where that leads away.
    """
    if third == 0:
        return meets_s(off, slope, bend)
    if not AT_BOUND_S < abs(off) < NEVER:
        return NEVER
    begin = 0.0
    for turn in _turns(slope, bend, third):
        end = turn
        if turn == NEVER:
            end = max(2 * begin, 1.0)
            while _cubic(off, slope, bend, third, end) * off > 0 and end < FAR_S:
                end *= 2
        if end > begin and _cubic(off, slope, bend, third, end) * off <= 0:
            found = _closed_in(off, slope, bend, third, begin, end)
            return found if found > AT_BOUND_S else NEVER
        begin = max(begin, end)
    return NEVER


@part
def _turns(slope: float, bend: float, third: float) -> tuple[float, float, float]:
    """When a cubic turns, and never: the roots of its slope, 0 where there are none."""
    inside = bend**2 - 2 * third * slope
    if inside < 0:
        return 0.0, 0.0, NEVER
    root = -(bend + math.copysign(math.sqrt(inside), bend)) / 2
    one, other = 2 * root / third, slope / root if root != 0 else 0.0
    return min(one, other), max(one, other), NEVER


@part
def _cubic(off: float, slope: float, bend: float, third: float, second: float) -> float:
    return off + (slope + (bend / 2 + third * second / 6) * second) * second


@part
def _closed_in(off: float, slope: float, bend: float, third: float, begin: float, end: float) -> float:
    """The root between two seconds at which it is on different sides."""
    found = (begin + end) / 2
    for _ in range(CLOSING_IN):
        value = _cubic(off, slope, bend, third, found)
        if value * off > 0:
            begin = found
        else:
            end = found
        rises = slope + (bend + third * found / 2) * found
        then = found - value / rises if rises != 0 else begin
        if not begin < then < end:
            then = (begin + end) / 2
        if abs(then - found) <= DIGIT * found:
            return then
        found = then
    return found


def first_meeting(off: Floats, slope: Floats, bend: Floats) -> Floats:
    """`meets_s` of each of some, in arrays of one shape (n,)."""
    made = np.empty(len(off))
    _find_meetings(off, slope, bend, made)
    return made


@compiled
def _find_meetings(off: Floats1, slope: Floats1, bend: Floats1, made: Floats1) -> None:
    for place in range(len(off)):
        made[place] = meets_s(off[place], slope[place], bend[place])
