"""How often a call is tried that is repeated as long as it fails."""

import numpy as np

from northgate.engine.base import Floats, Floats1, compiled, part


def attempts(fails: Floats, repeats: Floats) -> Floats:
    """1 + p + ... + p^r, of the chances that attempts fail, and how often they are repeated at most: arrays of one
    shape."""
    made = np.empty(fails.size)
    _find_attempts(np.ascontiguousarray(fails).ravel(), np.ascontiguousarray(repeats).ravel(), made)
    return made.reshape(fails.shape)


@compiled
def _find_attempts(fails: Floats1, repeats: Floats1, made: Floats1) -> None:
    for place in range(len(fails)):
        made[place] = repeated(fails[place], repeats[place])[0]


@part
def repeated(fails: float, repeats: float) -> tuple[float, float, float]:
    """Of one call: 1 + p + ... + p^r; 1 + 2 p + ... + r p^(r-1), how many failed attempts it has behind it when it is
    served, summed over its attempts (times the share that one serves and the chance that one fails); and p^r."""
    tries, before, power = 1.0, 0.0, 1.0
    for number in range(1, int(repeats) + 1):
        before += number * power
        power *= fails
        tries += power
    return tries, before, power
