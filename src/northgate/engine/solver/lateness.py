"""Who is too late, found anew in every pass or held while all else settles.

Where an answer is just too late with the repeats that this makes, and just in time without them, passes would go to and
fro for ever: what jumps is held, and looked at again once the rest has settled.
"""

from collections.abc import Hashable

import numpy as np

from northgate.engine.base import Bools


class Lateness:
    """What is said of who is too late, by where it is asked. While it `holds`, what was said last is said again."""

    def __init__(self) -> None:
        self.holds = False
        self._said: dict[Hashable, Bools] = {}
        self._found: dict[Hashable, Bools] = {}
        self._settled: set[tuple[bytes, ...]] = set()

    def say(self, where: Hashable, found: Bools) -> Bools:
        """What goes for late, given what is found to be."""
        said = self._said.get(where)
        self._found[where] = found
        if self.holds and said is not None and said.shape == found.shape:
            return said
        self._said[where] = found
        return found

    def hold(self) -> None:
        """From now on what was said last is said again."""
        self.holds, self._found = True, {}

    def goes_on(self) -> bool:
        """All else has settled: whether something else is found now than was said, and has not been said before; it
        goes from now on."""
        otherwise = {
            where: found for where, found in self._found.items() if not np.array_equal(found, self._said[where])
        }
        self._settled.add(tuple(said.tobytes() for said in self._said.values()))
        self._said |= otherwise
        self._found = {}
        return bool(otherwise) and tuple(said.tobytes() for said in self._said.values()) not in self._settled
