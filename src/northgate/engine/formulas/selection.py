"""How a front chooses among the targets of a cell: the share of each, by the group's method.

A hold is the time for which a request occupies its place: service, wait and backlog where the target answers, the
connect time-out where it is silent, nothing where it refuses. Arrays run over the candidates of one cell.
"""

import math
from collections.abc import Callable

import numpy as np
from msgspec import Struct

from northgate.engine.base import Bools, Bools1, Floats, Floats1, Ints1, compiled, part

# A share is found when it changes by less than this from one round to the next.
SETTLED = 1e-13
# What is held shorter (s) is held for so long.
SHORTEST_HOLD_S = 1e-12


class Candidates(Struct, frozen=True):
    """Those that a front chooses among: weight, hold (s), whether they refuse or are silent, and what comes there
    (requests/s)."""

    weight: Floats
    hold_s: Floats
    refuses: Bools
    silent: Bools
    rps: float


class Method(Struct, frozen=True):
    """A method of balance: in words; whether a key decides (`sticky_by_key`: of the source, so that it leads to the
    same target again; `by_flow`: of each connection); and shares that depend on the load that they make (None: by
    weight, or by key)."""

    because: str
    sticky_by_key: bool = False
    by_flow: bool = False
    shares: Callable[[Candidates], Floats] | None = None

    @property
    def depends_on_load(self) -> bool:
        """Whether shares follow how busy targets are."""
        return self.shares is not None


@part
def refused_share(answering: int, refusing: int, load: float) -> float:
    """Least connections: the share that refusing targets draw, being always idle.

    The fixed point of `s = E[r / (r + Bin(n, 1 - a))]` with `a = min(1, (1 - s) load / n)`; `load` is Λ hold, the mean
    number of requests that would be under way if all were answered. For r = 1: `(1 - a^(n+1)) / ((n+1)(1 - a))`.
    """
    if refusing == 0:
        return 0.0
    if answering == 0:
        return 1.0
    low, high = 0.0, 1.0
    for _ in range(200):
        middle = (low + high) / 2
        busy = min(1.0, (1 - middle) * load / answering)
        if drawn_by_refusing(answering, refusing, busy) > middle:
            low = middle
        else:
            high = middle
        if high - low < SETTLED:
            break
    return (low + high) / 2


@part
def drawn_by_refusing(answering: int, refusing: int, busy: float) -> float:
    """E[r / (r + Bin(n, 1 - a))]: an arrival goes to one of the idle, and refusing targets always are."""
    if busy >= 1:
        return 1.0
    if refusing == 1:
        return (1 - busy ** (answering + 1)) / ((answering + 1) * (1 - busy))
    if busy <= 0:
        return refusing / (refusing + answering)
    # Their logarithms, as the numbers of ways are too large.
    drawn, whole, ways = 0.0, 0.0, 0.0
    for idle in range(answering + 1):
        ways += math.log((answering - idle + 1) / idle) if idle else 0.0
        chance = math.exp(ways + idle * math.log1p(-busy) + (answering - idle) * math.log(busy))
        drawn += chance * refusing / (refusing + idle)
        whole += chance
    return drawn / whole


def least_connections(weight: Floats, hold_s: Floats, refuses: Bools, rps: float) -> Floats:
    """W / hold among those that hold requests; the refusing ones together get what `refused_share` says."""
    made = np.empty(len(weight))
    _find_least_connections(weight, hold_s, refuses, np.array([rps], dtype=np.float64), made)
    return made


@compiled
def _find_least_connections(weight: Floats1, hold_s: Floats1, refuses: Bools1, rps: Floats1, share: Floats1) -> None:
    """`least_connections`."""
    answering, refusing, whole, refused, held = 0, 0, 0.0, 0.0, 0.0
    for one in range(len(weight)):
        share[one] = 0.0
        if weight[one] > 0 and refuses[one]:
            refusing += 1
            refused += weight[one]
        elif weight[one] > 0:
            answering += 1
            share[one] = weight[one] / max(hold_s[one], SHORTEST_HOLD_S)
            whole += share[one]
            held += share[one] * hold_s[one]
    drawn = refused_share(answering, refusing, rps[0] * held / whole if whole > 0 else 0.0)
    for one in range(len(weight)):
        if refuses[one] and weight[one] > 0:
            share[one] = drawn * weight[one] / refused
        elif whole > 0:
            share[one] *= (1 - drawn) / whole


@part
def rank_share(rank: int, count: int) -> float:
    """Two choices: rank k of N, from 1 on, gets 2 (N - k) / (N (N - 1)); one target gets all."""
    return 2 * (count - rank) / (count * (count - 1)) if count > 1 else 1.0


def two_choices(weight: Floats, hold_s: Floats, refuses: Bools, silent: Bools) -> Floats:
    """Two distinct ones at random, the less busy serves: ranked by outstanding per weight, ties share.

    A refusing one ranks first, a silent one last. Among the others the ranks are those that their own shares bring
    about: targets that tie share their ranks so that they stay tied.
    """
    made, speed = np.zeros(len(weight)), weight / np.maximum(hold_s, SHORTEST_HOLD_S)
    order = (-speed).argsort(kind="stable")
    _find_two_choices(weight, speed, refuses, silent, order, np.empty(len(order), dtype=np.int64), made)
    return made


@compiled
def _find_two_choices(
    weight: Floats1, speed: Floats1, refuses: Bools1, silent: Bools1, order: Ints1, busy: Ints1, share: Floats1
) -> None:
    """`two_choices`; `order` is by speed, the fastest first, `busy` for work: those who are neither first nor last."""
    first, middle, last = 0, 0, 0
    for one in order:
        if weight[one] > 0 and refuses[one]:
            first += 1
        elif weight[one] > 0 and silent[one]:
            last += 1
        elif weight[one] > 0:
            busy[middle] = one
            middle += 1
    count = first + middle + last
    of_first, of_last = _mean_rank(1, first, count), _mean_rank(first + middle + 1, last, count)
    for one in range(len(weight)):
        if weight[one] > 0 and refuses[one]:
            share[one] = of_first
        elif weight[one] > 0 and silent[one]:
            share[one] = of_last
    _keep_even(speed, busy[:middle], first, count, share)


@part
def _mean_rank(begin: int, some: int, count: int) -> float:
    """The mean share of so many ranks from one on."""
    return rank_share(begin, count) + (some - 1) / 2 * (rank_share(begin + 1, count) - rank_share(begin, count))


@part
def _keep_even(speed: Floats1, busy: Ints1, before: int, count: int, share: Floats1) -> None:
    """Shares in proportion to speed, as far as ranks allow: no k targets get more than the first k ranks.

    Blocks of tied targets: the block whose outstanding is least comes first, and so on (the lower envelope of the
    points (sum of speeds, sum of ranks)).
    """
    start = 0
    while start < len(busy):
        # Summed from here on: what idle ones add would drown in the sums of faster ones before.
        ranks, speeds, least, end = 0.0, 0.0, math.inf, start
        for place in range(start, len(busy)):
            ranks += rank_share(before + place + 1, count)
            speeds += speed[busy[place]]
            if ranks / speeds <= least:
                least, end = ranks / speeds, place + 1
        for place in range(start, end):
            share[busy[place]] = speed[busy[place]] * least
        start = end


def _by_connections(one: Candidates) -> Floats:
    return least_connections(one.weight, one.hold_s, one.refuses, one.rps)


def _by_two_choices(one: Candidates) -> Floats:
    return two_choices(one.weight, one.hold_s, one.refuses, one.silent)


# By the word in a plan (`TargetGroup.balance`). What they call has a name, as flows are sent to other processes.
METHODS: dict[str, Method] = {
    "round-robin": Method("round robin"),
    "least-connections": Method("least connections", shares=_by_connections),
    "two-choices": Method("two choices", shares=_by_two_choices),
    "source-hash": Method("source hash", sticky_by_key=True),
    "flow-hash": Method("flow hash", by_flow=True),
}
