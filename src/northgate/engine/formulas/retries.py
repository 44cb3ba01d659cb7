"""How often a call is tried that is repeated as long as it fails."""

import numpy as np

from northgate.engine.base import Floats, part


def attempts(fails: Floats, repeats: Floats) -> Floats:
    """1 + p + ... + p^r."""
    made = np.ones(np.shape(fails))
    for number in range(1, int(repeats.max(initial=0)) + 1):
        made += np.where(repeats >= number, fails**number, 0.0)
    return made


def attempts_before(fails: Floats, repeats: Floats) -> Floats:
    """1 + 2 p + ... + r p^(r-1): how many failed attempts a call has behind it when it is served, summed over its
    attempts; times the share that an attempt serves and the chance that one fails."""
    made = np.zeros(np.shape(fails))
    for number in range(1, int(repeats.max(initial=0)) + 1):
        made += np.where(repeats >= number, number * fails ** (number - 1), 0.0)
    return made


@part
def repeated(fails: float, repeats: float) -> tuple[float, float, float]:
    """Of one call: `attempts`, `attempts_before`, and how often all of them fail but for the last, p^r."""
    tries, before, power = 1.0, 0.0, 1.0
    for number in range(1, int(repeats) + 1):
        before += number * power
        power *= fails
        tries += power
    return tries, before, power
