"""Choices in turn: which of several is next, so that after any number of choices each had its share, to within one.

Smooth weighted round robin: everyone gains its share, the one with most goes and pays one. It is what a trace picks by,
wherever the solver knows shares only.
"""

from collections.abc import Hashable

import numpy as np

from northgate.engine.types import Floats


class Turns:
    """Remembers, for each point of choice, how far everyone is behind its share."""

    def __init__(self) -> None:
        self._behind: dict[Hashable, Floats] = {}

    def next(self, point: Hashable, shares: Floats, start: int = 0) -> int:
        """The position of the one whose turn it is, of equal ones the next from `start` on.

        Shares must sum to 1; whoever has none never comes.
        """
        behind = self._behind.setdefault(point, np.zeros(len(shares)))
        behind += shares
        # Equal to the last digits but one: then the first of them, whatever rounding says.
        due = np.where(shares > 0, np.round(behind, 12), -np.inf)
        chosen = (int(np.roll(due, -start).argmax()) + start) % len(shares)
        behind[chosen] -= 1
        return chosen
