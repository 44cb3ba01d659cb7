"""When a quadratic comes to a bound."""

import numpy as np

from northgate.engine.base import NEVER, Floats
from northgate.engine.formulas.queues import AT_BOUND_S


def first_meeting(off: Floats, slope: Floats, bend: Floats) -> Floats:
    """The first time after now at which `off + slope t + bend t^2 / 2` is 0; never where it is not.

    The roots by the way that loses no digits: q = -(s + sign(s) sqrt(s^2 - 2 b off)) / 2, then 2 q / b and off / q.
    """
    shape = np.broadcast_shapes(off.shape, slope.shape)
    # What is infinitely far off is never met.
    off = np.where(np.isfinite(off), off, 0.0)
    inside = slope**2 - 2 * bend * off
    part = -(slope + np.copysign(np.sqrt(np.maximum(inside, 0.0)), slope)) / 2
    none = np.full(shape, NEVER)
    first = np.divide(2 * part, bend, out=none.copy(), where=np.broadcast_to(bend != 0, shape))
    second = np.divide(off, part, out=none.copy(), where=np.broadcast_to(part != 0, shape))
    # At a bound already, within what counts as at it: the other root alone is a meeting.
    away = np.abs(off) > AT_BOUND_S
    times = [np.where((root > AT_BOUND_S) & away & (inside >= 0), root, NEVER) for root in (first, second)]
    return np.minimum(*times)
