"""Drills that never come to rest, but round and round: what overload drives out, comes back as soon as it is idle.

Once everything that happens has happened like that, one round before, and before that, and as much has failed in both
rounds, all that follows is more of the same.
"""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from northgate.engine.drill.journal import UNSETTLING, Event

# Rounds are alike when their events come at the same seconds, and as much fails in them, up to these.
SAME_S, SAME_FAILED = 1e-6, 1e-6
# Nobody looks for longer rounds, in events.
LONGEST = 400


@dataclass(frozen=True)
class Round:
    """A round that comes again and again: the second at which the last known one has ended, and how long one lasts."""

    ends_s: float
    lasts_s: float


def round_of(events: Sequence[Event]) -> Round | None:
    """The round in which events go, judging by them alone; None while they do not come again in the same way."""
    told = [event for event in events[-3 * LONGEST :] if event.kind in UNSETTLING]
    if len(told) < 3:
        return None
    last = len(told) - 1
    words = [(event.kind, event.about, event.facts.get("in_use"), event.facts.get("area")) for event in told]
    at_s = np.array([event.at_s for event in told])
    for before in range(last - 1, max(last - LONGEST, (last - 1) // 2), -1):
        count = last - before
        if words[before] != words[last] or before < count:
            continue
        first = before - count
        if words[first + 1 : before + 1] != words[before + 1 :]:
            continue
        lasts_s = float(at_s[last] - at_s[before])
        shifts = at_s[before:] - at_s[first : before + 1]
        if lasts_s > 0 and np.abs(shifts - lasts_s).max() <= SAME_S:
            return Round(float(at_s[last]), lasts_s)
    return None


def goes_on(failed_at: Sequence[tuple[float, float]], one: Round) -> float | None:
    """What fails in each round, if as much did in the last as in the one before it; None if not. `failed_at`: what has
    failed in all by each second, with straight lines between."""
    seconds, failed = np.array(failed_at).T
    ends_s = one.ends_s - one.lasts_s * np.array([2, 1, 0])
    before, between, now = np.interp(ends_s, seconds, failed)
    last, other = now - between, between - before
    return float(last) if abs(last - other) <= SAME_FAILED * max(last, 1.0) else None
