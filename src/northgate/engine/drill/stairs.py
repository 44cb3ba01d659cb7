"""Verdicts that follow each other like stairs, while nothing else happens: all of them taken in one.

Probes spread over their cycle tell of a lost zone target by target. What each step changes depends on how many have
gone before at the same front and group, so that rates go smoothly from a step to the one that comes as many steps later
as there are fronts that take turns (the period). Between a few such steps that are solved, all others are read off the
polynomial through them; where that does not hold, stairs are cut shorter, or taken one by one.
"""

from collections.abc import Callable, Sequence
from itertools import pairwise

import numpy as np
from msgspec import Struct

from northgate.engine.base import Bools, Floats, Ints, cached, distinct, where_true
from northgate.engine.solver import Flow

# So many steps of each turn of a period are solved; where the polynomial through every second of them foretells the
# others to FORETOLD of all requests, the one through all of them, of twice the degree, is right to about the square of
# that.
SOLVED, FORETOLD = 13, 3e-5
# Stairs are worth it from so many times as many steps as are solved; a period is at most so long.
WORTH, LONGEST_PERIOD = 2, 16
# After stairs that were cut, the next ones are at most so many times as long.
LONGER = 2


class Stairs(Struct, frozen=True, dict=True):
    """Verdicts to come, step by step: `at_s[i]` is the second of step i, 0 being now, and `turns[i]` are the places of
    those probers that change their mind in step i + 1. Every `period`-th step changes the like."""

    at_s: Floats
    turns: tuple[Ints, ...]
    period: int

    @property
    def steps(self) -> int:
        """How many there are."""
        return len(self.turns)

    def first(self, steps: int) -> "Stairs":
        """Only so many of them."""
        return Stairs(self.at_s[: steps + 1], self.turns[:steps], self.period)

    def long_enough(self) -> bool:
        """Whether to take them in one."""
        return self.steps >= WORTH * SOLVED * self.period

    @cached
    def _turned(self) -> tuple[Ints, Ints]:
        """All who turn, in their order, and how many of them have done so after each step."""
        counts = np.cumsum([0, *(len(turn) for turn in self.turns)])
        return np.concatenate(self.turns), counts

    def believed(self, now: Bools, step: int) -> Bools:
        """What is believed after a step, given what is believed now."""
        (probers, counts), later = self._turned, now.copy()
        turned = probers[: counts[step]]
        later[turned] = ~later[turned]
        return later


class Climbed(Struct, frozen=True, dict=True):
    """Stairs that have been taken: which steps were solved, and the flows after these."""

    stairs: Stairs
    solved: Ints
    flows: tuple[Flow, ...]

    @cached
    def reading(self) -> Floats:
        """How every step is read off the solved ones: factors of shape (steps + 1, solved)."""
        return read_off(self.stairs.steps, self.stairs.period, self.solved)

    def parts(self) -> tuple[tuple[Flow, float], ...]:
        """The solved flows and the seconds for which each stands, up to the last step."""
        return tuple(zip(self.flows, (np.diff(self.stairs.at_s) @ self.reading[:-1]).tolist(), strict=True))

    def after(self, rates: Callable[[Flow], Floats], steps: Ints | slice = slice(None)) -> Floats:
        """Rates after each of these steps; of shape (steps, rates)."""
        solved = np.array([np.atleast_1d(rates(flow)) for flow in self.flows])
        return np.asarray(np.maximum(self.reading[steps] @ solved, 0.0))


def stairs_ahead(now: float, at_s: Floats, probers: Ints, kinds: Ints, ends: Bools) -> Stairs | None:
    """The stairs that verdicts in their order make, up to the first that `ends` them; None if they make none. Per
    verdict: its second, its prober, of what kind it is, and whether rates do not go on smoothly past it."""
    end = int(np.append(where_true(ends), len(at_s))[0])
    # Those of the same second belong together; the last step is left to be taken as any other event.
    begins = where_true(np.diff(at_s, prepend=-np.inf) > 0)
    bounds = begins[begins < end] if end < len(at_s) else begins
    if not may_be_stairs(at_s[bounds]):
        return None
    spans = [slice(*span) for span in pairwise(bounds.tolist())]
    period = period_of([tuple(np.sort(kinds[span]).tolist()) for span in spans])
    if period is None:
        return None
    return Stairs(np.concatenate([[now], at_s[bounds[:-1]]]), tuple(probers[span] for span in spans), period)


def may_be_stairs(at_s: Floats) -> bool:
    """Whether verdicts of these seconds, in order, are enough for stairs that are worth it, and one more."""
    return len(at_s) > WORTH * SOLVED


def ends_of(cells: Ints, gains: Bools, counts: Bools, in_use: Floats) -> Bools:
    """Per verdict whether with it a cell loses the last target in use, or gets its first: there rates make a leap. Per
    verdict its cell, whether the target comes into use by it, and whether that sends anything there; per cell how many
    targets are in use before."""
    order = np.argsort(cells, kind="stable")
    more = np.where(gains, 1, -1)[order] * counts[order]
    first = where_true(np.diff(cells[order], prepend=-1) > 0)
    sums = np.cumsum(more)
    before = np.repeat(sums[first] - more[first], np.diff(first, append=len(order)))
    left = in_use[cells[order]] + sums - before
    ends = np.zeros(len(order), dtype=bool)
    ends[order] = (more != 0) & ((left <= 0) | (left - more <= 0))
    return ends


def period_of(kinds: Sequence[object]) -> int | None:
    """After how many steps the kinds of steps come again in the same order; None if they do not soon."""
    for period in range(1, LONGEST_PERIOD + 1):
        if all(one == two for one, two in zip(kinds[period:], kinds, strict=False)):
            return period
    return None


def steps_to_solve(steps: int, period: int) -> Ints:
    """Which steps to solve: of each turn of the period the first, the last, and those between that are nearest to the
    extrema of a Chebyshev polynomial, where interpolation errs least."""
    made = [np.zeros(1, dtype=np.int64)]
    for turn in range(period):
        last = (steps - turn) // period
        parts = (1 - np.cos(np.pi * np.arange(SOLVED) / (SOLVED - 1))) / 2
        made.append(turn + period * distinct(np.round(last * parts).astype(np.int64)))
    return distinct(np.concatenate(made))


def read_off(steps: int, period: int, solved: Ints) -> Floats:
    """Factors by which every step's rates follow from those of the solved ones of its turn: (steps + 1, solved), each
    row the Lagrange polynomials of one step."""
    factors = np.zeros((steps + 1, len(solved)))
    for turn in range(period):
        mine, known = np.arange(turn, steps + 1, period), where_true(solved % period == turn)
        factors[mine[:, None], known] = _lagrange(mine, solved[known], max(steps, 1))
    return factors


def _lagrange(at: Ints, known: Ints, length: int) -> Floats:
    """Per place, of so many in all, what Lagrange's polynomial of each known place is there.

    Source: J.-P. Berrut and L. N. Trefethen, "Barycentric Lagrange interpolation" (2004). The libraries' own takes
    longer to load than most drills.
    """
    # Of the length 4, as products over long ranges would lose digits.
    apart = (known[:, None] - known) * (4 / length)
    weights = 1 / np.prod(np.where(apart == 0, 1.0, apart), axis=1)
    off = (at[:, None] - known) * (4 / length)
    made = weights / np.where(off == 0, 1.0, off)
    made /= made.sum(axis=1, keepdims=True)
    return np.asarray(np.where((off == 0).any(axis=1, keepdims=True), off == 0, made))


class Climb:
    """Takes stairs in one, as far as rates go smoothly."""

    def __init__(self, solve: Callable[[Bools, Flow], Flow], alike: Callable[[Flow], Callable[[Flow], bool]]) -> None:
        """`solve` finds the flow while these beliefs hold, from one near it; `alike`: whether, under another flow than
        this one, probes find the same, and machines keep up."""
        self._solve, self._alike = solve, alike
        self._most, self._not_before_s = np.inf, 0.0

    def climb(self, stairs: Stairs, believes: Bools, flow: Flow) -> Climbed | None:
        """Goes up the stairs, or part of them; None where not even a short part goes smoothly."""
        if stairs.at_s[0] < self._not_before_s:
            return None
        stairs = stairs.first(int(min(stairs.steps, self._most)))
        while stairs.long_enough():
            climbed = self._climbed(stairs, believes, flow)
            if climbed is not None:
                self._most = LONGER * stairs.steps
                return climbed
            stairs = stairs.first(stairs.steps // 2)
            self._most = stairs.steps
        # Not smooth, however near one looks: not to be tried again before these have been taken one by one.
        self._not_before_s, self._most = float(stairs.at_s[-1]), np.inf
        return None

    def _climbed(self, stairs: Stairs, believes: Bools, flow: Flow) -> Climbed | None:
        solved = steps_to_solve(stairs.steps, stairs.period)
        flows, alike = [flow], self._alike(flow)
        for step in solved[1:].tolist():
            flows.append(self._solve(stairs.believed(believes, step), flows[-1]))
            if not alike(flows[-1]):
                return None
        climbed = Climbed(stairs, solved, tuple(flows))
        return climbed if _smooth(climbed) else None


def _smooth(climbed: Climbed) -> bool:
    """Whether every second solved step foretells the others."""
    stairs, solved = climbed.stairs, climbed.solved
    places = [where_true(solved % stairs.period == turn) for turn in range(stairs.period)]
    kept = np.sort(np.concatenate([np.append(mine[:-1:2], mine[-1:]) for mine in places]))
    rates = np.array([_rates(flow) for flow in climbed.flows])
    foretold = read_off(stairs.steps, stairs.period, solved[kept])[solved] @ rates[kept]
    size = max(climbed.flows[0].requests, 1.0)
    return bool((np.abs(foretold - rates) <= FORETOLD * size).all())


def _rates(flow: Flow) -> Floats:
    used = flow.queue.utilisation
    others = np.array([flow.mean_latency_s, used.mean(), (used * used).mean()]) * flow.requests
    return np.concatenate([flow.zone_served, flow.cause_rps, flow.mechanism_rps, others])
