"""Rates that lead back and forth over a bound, ever again.

Where answers come just too late, everyone gives up, so that less is opened, and answers come just in time; then as much
is opened as before. What follows stays at that bound (A. F. Filippov, "Differential equations with discontinuous
righthand sides", 1988, calls it sliding): to and fro in ever so short steps, which cost as much as long ones.
"""

# So many times rates may jump at once, and so many times a second ever after. Who has used them up goes steps of so
# many seconds, whatever jumps on the way, until there are some again.
FULL, PER_S, BLIND_S, SOME = 250.0, 4.0, 0.125, 8.0


class Chatter:
    """How often rates have jumped, and whether it is still looked for where they do."""

    def __init__(self) -> None:
        self._left, self._last_s, self._blind = FULL, 0.0, False

    def blindly_s(self, now: float, *, jumped: bool) -> float:
        """For how many seconds from now on it is not looked for what jumps on the way: 0, as a rule. `jumped`: rates
        have just done so."""
        self._left = min(self._left + (now - self._last_s) * PER_S, FULL) - jumped
        self._last_s = now
        self._blind = self._left < (SOME if self._blind else 0.0)
        return BLIND_S if self._blind else 0.0
