"""When a probe finds another thing than before."""

from collections.abc import Callable

import numpy as np
from msgspec import Struct

from northgate.engine.base import Bools, Floats

# When a probe finds another thing than before is known to so many seconds.
FOUND_S = 1e-4


class Found(Struct, frozen=True):
    """What probes find, and whether machines keep up: whether each passes, and how far it is from the other thing
    (`Findings.spare`)."""

    passes: Bools
    spare: Floats

    def crosses(self, other: "Found") -> float:
        """At which part of the way to another the first of them turns, were all to change evenly: 0 to 1."""
        turned = self.passes != other.passes
        mine, theirs = self.spare[turned], other.spare[turned]
        return float(np.divide(mine, mine - theirs, out=np.full(len(mine), 0.5), where=mine * theirs < 0).min())

    def turns_s(
        self, middle: "Found", then: "Found", found_at: Callable[[float], "Found"], now: float, then_s: float
    ) -> float:  # fmt: skip
        """The second, before another, from which on something else is found than now; that other one if there is none.
        `middle` is what is found half-way.

        Found by false position, halving every third time.
        """
        before, after, before_s, after_s, step = self, then, now, then_s, 0
        if not np.array_equal(self.passes, middle.passes):
            after, after_s = middle, (now + then_s) / 2
        elif not np.array_equal(self.passes, then.passes):
            before, before_s = middle, (now + then_s) / 2
        while after_s - before_s > FOUND_S and not np.array_equal(self.passes, after.passes):
            step += 1
            part = 0.5 if step % 3 == 0 else before.crosses(after)
            # On the other side of where it seems to be than last time.
            aside = FOUND_S / 2 if after_s == then_s or (before is not self and step % 2) else -FOUND_S / 2
            half_s = before_s + part * (after_s - before_s) + aside
            half_s = min(max(half_s, before_s + FOUND_S / 4), after_s - FOUND_S / 4)
            between = found_at(half_s)
            if np.array_equal(self.passes, between.passes):
                before, before_s = between, half_s
            else:
                after, after_s = between, half_s
        # What turns next to it, turns with it.
        return after_s if after_s == then_s else min(before_s + FOUND_S, then_s)
