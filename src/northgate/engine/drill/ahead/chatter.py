"""Rates that lead back and forth over a bound, ever again.

Where answers come just too late, everyone gives up, so that less is opened, and answers come just in time; then as much
is opened as before. What follows stays at that bound (A. F. Filippov, "Differential equations with discontinuous
righthand sides", 1988, calls it sliding): to and fro in ever so short steps, which cost as much as long ones.
"""

from math import copysign, isfinite

# So many times rates may jump at once, and so many times a second ever after. Who has used them up goes steps of so
# many seconds at most, whatever jumps on the way, until there are some again.
FULL, PER_S, BLIND_S, SOME = 250.0, 4.0, 0.125, 8.0
# Such a step leads so far (s) beyond the bound, as quickly as the last one on its side came nearer; it lasts so long
# (s) at the least, and twice as long as the last where none did. On one side rates may lead there a hundred times as
# quickly as on the other.
BEYOND_S, LEAST_S = 0.005, 0.002


class Chatter:
    """How often rates have jumped, and whether it is still looked for where they do."""

    def __init__(self) -> None:
        self._left, self._last_s, self._blind = FULL, 0.0, False
        # How far from the bound the last step began, and how quickly the last one on each side came nearer (s/s).
        self._spare_s, self._pace = 0.0, dict[float, float]()

    def blindly_s(self, now: float, spare_s: float, *, jumped: bool) -> float:
        """For how many seconds from now on it is not looked for what jumps on the way: 0, as a rule. `spare_s`: how
        much sooner than at the nearest bound answers come (inf: there is none); `jumped`: rates have just done so."""
        lasted_s, came_s, self._last_s, self._spare_s = now - self._last_s, self._spare_s - spare_s, now, spare_s
        self._left = min(self._left + lasted_s * PER_S, FULL) - jumped
        was_blind, self._blind = self._blind, self._left < (SOME if self._blind else 0.0)
        if not self._blind:
            return 0.0
        lasts_s = 2 * lasted_s if was_blind else LEAST_S
        if was_blind and lasted_s > 0 and isfinite(came_s):
            before = copysign(1.0, spare_s + came_s)
            if before * came_s > 0:
                self._pace[before] = before * came_s / lasted_s
        if pace := self._pace.get(copysign(1.0, spare_s)):
            lasts_s = (abs(spare_s) + BEYOND_S) / pace
        return min(max(lasts_s, LEAST_S), BLIND_S)
