"""What is held in the long run, as it makes the load under which it is held."""

from collections.abc import Callable

import numpy as np

from northgate.engine.base import Floats
from northgate.engine.formulas import Secants
from northgate.engine.solver import Held

# What is held is settled when no share of sources changes by more than this; or when in so many rounds what changes has
# not become half of it: then it is where it changes least. More than so many rounds in all are not made.
STEADY, PATIENCE, HALVED, ROUNDS = 1e-12, 8, 0.5, 60


def unmoved(held: Held, under: Callable[[Held], Held]) -> Held:
    """The fixed point of `under`, looked for from what is held on; what changes least, where there is none to be found.

    `under` tells what would be held in the long run under the load that what is held makes. Where little more load
    leads many elsewhere, to go there at once would lead ever further astray, to and fro; so it is led on by what the
    last rounds have told (see `Secants`).
    """
    secants, best, least, since = Secants(), held, np.inf, 0
    come = before = np.zeros(0)
    for made in range(ROUNDS):
        then = under(held)
        change, off = then.apart(held), _row(then) - _row(held)
        if change < HALVED * least:
            since = made
        if change < least:
            best, least = held, change
        if change <= STEADY or made - since > PATIENCE:
            break
        if made:
            secants.add(come, off - before)
        to = _moved(held, secants.step(off))
        held, come, before = to, _row(to) - _row(held), off
    return best


def _row(held: Held) -> Floats:
    """All of it, in a row."""
    return np.concatenate([part.ravel() for part in held.parts])


def _moved(held: Held, step: Floats) -> Held:
    """What is held after a step, nowhere less than nothing, nor more strays than connections."""
    ends = np.cumsum([part.size for part in held.parts])
    moved = np.split(np.maximum(_row(held) + step, 0.0), ends[:-1])
    sessions, connections, strays = (
        row.reshape(part.shape) for row, part in zip(moved, held.parts, strict=True)
    )  # fmt: skip
    return Held(sessions, connections, np.minimum(strays, connections[: len(strays)]))
