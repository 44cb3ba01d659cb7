"""Which fronts are in their balancer's address, and when that changes.

A dead front stays for its failover time; a returned one joins after the same time.
"""

import numpy as np

from northgate.engine.base import NEVER, Bools, Floats, Ints
from northgate.engine.network import Network


class Addresses:
    """Per front: whether its address leads to it, and the second at which that changes."""

    def __init__(self, network: Network, front_dead: Bools) -> None:
        self._failover_s: Floats = network.fronts.failover_s
        self.present = ~front_dead
        self._change_s = np.full(len(front_dead), NEVER)

    def meet(self, now: float, front_dead: Bools) -> None:
        """From now on these fronts are dead and the others living."""
        wants_change = self.present == front_dead
        starts = wants_change & (self._change_s == NEVER)
        self._change_s = np.where(starts, now + self._failover_s, np.where(wants_change, self._change_s, NEVER))

    def next_change_s(self) -> float:
        """The second at which the next front leaves or joins, inf when none will."""
        return float(self._change_s.min()) if len(self._change_s) else NEVER

    def take_changes(self, now: float) -> Ints:
        """Lets the fronts whose time has come leave or join; returns them."""
        changed = np.flatnonzero(self._change_s <= now)
        self.present = self.present.copy()
        self.present[changed] = ~self.present[changed]
        self._change_s[changed] = NEVER
        return changed
