"""When a probe finds another thing than before."""

from collections.abc import Callable

import numpy as np
from msgspec import Struct

from northgate.engine.base import NEVER, Bools, Floats
from northgate.engine.formulas import first_meeting

# When a probe finds another thing than before is known to so many seconds; where it seems to be by two looks in a row
# lies no further apart than this part of them, once that is known. When something keeps up no longer, as rates bend
# there, is where it seems to be once that is known to KINK_S.
FOUND_S, KINK_S, SURE = 1e-4, 5e-3, 0.25
# What is nearer than this (s, or a share) to finding the other thing has not turned yet: it is looked at where it does.
BARELY = 1e-7
# Where it seems to be moves by less than this part of the last move, or half-way is looked at.
SLOW = 0.25


class Found(Struct, frozen=True):
    """What probes find, and whether machines and bandwidths keep up: whether each passes, and how far it is from the
    other thing (`Findings.spare`). So many of them, which come first, are probes, or make rates jump: when these turn
    is known to FOUND_S."""

    passes: Bools
    spare: Floats
    probes: int

    def beside(self, spare: Floats) -> "Found":
        """What else makes rates jump where it turns, as probes do, comes first, with how far it is from that."""
        passes = np.concatenate([spare > 0, self.passes])
        return Found(passes, np.concatenate([spare, self.spare]), self.probes + len(spare))

    def otherwise(self, other: "Found") -> Bools:
        """What has turned meanwhile: neither just at the first of both, nor just at the other."""
        far = (np.abs(self.spare) > BARELY) & (np.abs(other.spare) > BARELY)
        return np.asarray((self.passes != other.passes) & far)

    def turns_now(self, other: "Found") -> bool:
        """Whether a probe just turns to find what it finds at another second."""
        just, far = np.abs(self.spare[: self.probes]) <= BARELY, np.abs(other.spare[: self.probes]) > BARELY
        return bool(((self.passes != other.passes)[: self.probes] & just & far).any())

    def turns_s(
        self, middle: "Found", then: "Found", found_at: Callable[[float], "Found"], now: float, then_s: float
    ) -> float:  # fmt: skip
        """The second, before another, from which on something else is found than now; that other one if there is none.
        `middle` is what is found half-way."""
        search = _Search([(now, self), ((now + then_s) / 2, middle), (then_s, then)])
        while not search.ends():
            second = search.next_s()
            search.add(second, found_at(second))
        return min(search.turns_s, then_s)


class _Search:
    """Looks for the second at which something else is found than at first, between the last at which nothing is and the
    first at which something is: at the roots of parabolas through what is spare at three seconds next to it.

    What turns next to it, turns with it. Where a step tells nothing new, as what is spare jumps, it is halved; but
    first it is looked whether it jumps just beside the end that stayed where it is: a flow that was found otherwise
    than those between may lie on the other side of a jump.

    Source: D. E. Muller, "A method for solving algebraic equations using an automatic computer" (1956).
    """

    def __init__(self, known: list[tuple[float, Found]]) -> None:
        self._first, self._known = known[0][1], known
        # When it seems to turn, and how far that lies from where it seemed to by the last two looks.
        self._seems_s, self._moved_s = NEVER, (NEVER, NEVER)
        turned = [at for at, (_, found) in enumerate(known) if self._turned(found)]
        self._after = turned[0] if turned else None
        # Whether it had turned at the last look, so that what is known before stayed; whether that look was beside what
        # had stayed, and beside which of both it has been looked.
        self._has_turned, self._aside, self._beside = False, False, set[bool]()

    def _turned(self, found: Found) -> bool:
        return bool(self._first.otherwise(found).any())

    @property
    def _between(self) -> tuple[float, float]:
        """The last second at which nothing has turned, and the first at which something has."""
        assert self._after is not None
        return self._known[self._after - 1][0], self._known[self._after][0]

    def ends(self) -> bool:
        """Whether it is known when something turns, or that nothing does."""
        if self._after is None:
            return True
        before_s, after_s = self._between
        seemed_s, self._seems_s = self._seems_s, self._root_s()
        # Beside what is known nothing more is told of where it seems to turn.
        self._moved_s = self._moved_s if self._aside else (self._moved_s[1], abs(self._seems_s - seemed_s))
        return after_s - before_s <= (FOUND_S if self._jumps else KINK_S) or self._sure

    @property
    def _jumps(self) -> bool:
        """Whether a probe has turned, or what else makes rates jump."""
        assert self._after is not None
        return bool(self._first.otherwise(self._known[self._after][1])[: self._first.probes].any())

    @property
    def _sure(self) -> bool:
        """Whether two looks in a row have told the same."""
        return self._moved_s[1] <= SURE * FOUND_S

    def next_s(self) -> float:
        """Where to look next."""
        before_s, after_s = self._between
        astray, second = SLOW * self._moved_s[0] < self._moved_s[1] < NEVER, self._seems_s
        self._aside = astray and self._has_turned not in self._beside
        if self._aside:
            self._beside.add(self._has_turned)
            second = before_s if self._has_turned else after_s
        elif astray:
            second = (before_s + after_s) / 2
        return min(max(second, before_s + FOUND_S / 4), after_s - FOUND_S / 4)

    def add(self, second: float, found: Found) -> None:
        """What is found at a second between."""
        assert self._after is not None
        self._known.insert(self._after, (second, found))
        self._has_turned = self._turned(found)
        self._after += not self._has_turned

    @property
    def turns_s(self) -> float:
        """The second from which on something has turned."""
        if self._after is None:
            return self._known[-1][0]
        after_s = self._between[1]
        return after_s if self._jumps and not self._sure else min(self._seems_s + FOUND_S / 2, after_s)

    def _root_s(self) -> float:
        """When the first of them turns, as it seems."""
        assert self._after is not None
        (before_s, before), (after_s, after) = self._known[self._after - 1], self._known[self._after]
        third_s, third = min(
            (one for one in self._known if one[1] is not before and one[1] is not after),
            key=lambda one: min(abs(one[0] - before_s), abs(one[0] - after_s)),
        )
        turned = self._first.otherwise(after)
        spare, then, other = before.spare[turned], after.spare[turned], third.spare[turned]
        along, aside = (then - spare) / (after_s - before_s), (other - spare) / (third_s - before_s)
        bend = (along - aside) / (after_s - third_s)
        times = first_meeting(spare, along - bend * (after_s - before_s), 2 * bend)
        straight = np.divide(spare, spare - then, out=np.full(len(spare), 0.5), where=spare * then < 0)
        times = np.where(times < after_s - before_s, times, straight * (after_s - before_s))
        # What is just there before turns there.
        return before_s + float(np.where(np.abs(spare) > BARELY, times, 0.0).min())
