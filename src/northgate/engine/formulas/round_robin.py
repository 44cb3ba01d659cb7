"""Choices in turn: which of several is next, so that after any number of choices each had its share, to within one.

Smooth weighted round robin: everyone gains its share, the one with most goes and pays one. It is what a trace picks by,
wherever the solver knows shares only.
"""

import zlib
from collections.abc import Hashable

import numpy as np

from northgate.engine.base import Floats


class SmoothRoundRobin:
    """Remembers, for each point of choice, how far everyone is behind its share."""

    def __init__(self) -> None:
        self._behind: dict[Hashable, Floats] = {}

    def next(self, point: Hashable, shares: Floats, start: int = 0, *, anywhere: bool = False) -> int:
        """The position of the one whose turn it is, of equal ones the next from `start` on; `anywhere`: at first
        whoever a hash of the point falls to, for where there are many points and few choices at each.

        Shares must sum to 1; whoever has none never comes.
        """
        if point not in self._behind:
            self._behind[point] = _first(point, shares) if anywhere else np.zeros(len(shares))
        behind = self._behind[point]
        behind += shares
        # Equal to the last digits but one: then the first of them, whatever rounding says.
        due = np.where(shares > 0, np.round(behind, 12), -np.inf)
        chosen = (int(np.roll(due, -start).argmax()) + start) % len(shares)
        behind[chosen] -= 1
        return chosen


def _first(point: Hashable, shares: Floats) -> Floats:
    """How far everyone is behind so that the first choice falls by a hash, and nobody is behind after it."""
    fallen = zlib.crc32(repr(point).encode()) / 2**32
    chosen = min(int(np.searchsorted(np.cumsum(shares), fallen, side="right")), int(np.flatnonzero(shares)[-1]))
    return np.asarray((np.arange(len(shares)) == chosen) - shares)
