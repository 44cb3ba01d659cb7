"""The edge of what is enough, found by halving."""

from collections.abc import Callable
from typing import TypeVar

from northgate.engine.base import CannotRun
from northgate.plan.problems import PlanError

# Nobody looks for more instances than this, or for intervals and TTLs longer than this (s).
MOST, LONGEST_S = 10_000, 3600.0
# Seconds are found to this.
FINE_S = 0.5
# So many times as many instances as now show what stays unserved however many there are.
PLENTY = 4
# What is raised where there is no such plan, or it cannot be run.
NOT_RUN = (CannotRun, PlanError)

Found = TypeVar("Found")


def with_plenty(found: Callable[[int], Found], now: int, plenty: int = PLENTY) -> Found:
    """What is found with plenty of instances; with as many as now where the plan has no place for more."""
    try:
        return found(max(now, 1) * plenty)
    except NOT_RUN:
        return found(now)


def smallest(fits: Callable[[int], bool], near: int) -> int | None:
    """The smallest number from 1 on that fits, where all larger ones do too; None if none does up to MOST. With which
    there is no plan, as another has the name of one of them, does not fit."""

    def enough(count: int) -> bool:
        try:
            return fits(count)
        except NOT_RUN:
            return False

    low, high = 0, near
    while not enough(high):
        low, high = high, high * 2
        if high > MOST:
            return None
    while high - low > 1:
        middle = (low + high) // 2
        if enough(middle):
            high = middle
        else:
            low = middle
    return high


def longest(cost: Callable[[float], float], shortest_s: float, now_s: float, bound: float) -> float | None:
    """The longest time up to LONGEST_S, in steps of FINE_S from the shortest on, that costs no more than is allowed,
    where longer ones cost more; None if none."""
    last = max(int((LONGEST_S - shortest_s) / FINE_S), 0)

    def fits(steps: int) -> bool:
        return cost(shortest_s + steps * FINE_S) <= bound

    if not fits(0):
        return None
    low, high = 0, min(max(int(2 * (now_s - shortest_s) / FINE_S), 1), last)
    while fits(high):
        if high == last:
            return shortest_s + last * FINE_S
        low, high = high, min(high * 2, last)
    while high - low > 1:
        middle = (low + high) // 2
        low, high = (middle, high) if fits(middle) else (low, middle)
    return shortest_s + low * FINE_S
