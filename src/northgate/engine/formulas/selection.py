"""How a front chooses among the targets of a cell: the share of each, by the group's method.

A hold is the time for which a request occupies its place: service, wait and backlog where the target answers, the
connect time-out where it is silent, nothing where it refuses. Arrays run over the candidates of one cell.
"""

from collections.abc import Callable

import numpy as np
from msgspec import Struct

from northgate.engine.base import Bools, Floats

# A share is found when it changes by less than this from one round to the next.
SETTLED = 1e-13


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


def by_weight(weight: Floats) -> Floats:
    """Round robin and flow hash: w."""
    whole = weight.sum()
    return weight / whole if whole > 0 else np.zeros_like(weight)


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


def drawn_by_refusing(answering: int, refusing: int, busy: float) -> float:
    """E[r / (r + Bin(n, 1 - a))]: an arrival goes to one of the idle, and refusing targets always are."""
    if busy >= 1:
        return 1.0
    if refusing == 1:
        return (1 - busy ** (answering + 1)) / ((answering + 1) * (1 - busy))
    if busy <= 0:
        return refusing / (refusing + answering)
    idle = np.arange(answering + 1)
    ways = np.concatenate([[0.0], np.cumsum(np.log((answering - idle[1:] + 1) / idle[1:]))])
    chance = np.exp(ways + idle * np.log1p(-busy) + (answering - idle) * np.log(busy))
    return float((chance * refusing / (refusing + idle)).sum() / chance.sum())


def least_connections(weight: Floats, hold_s: Floats, refuses: Bools, rps: float) -> Floats:
    """W / hold among those that hold requests; the refusing ones together get what `refused_share` says."""
    answers = ~refuses & (weight > 0)
    drawn = refuses & (weight > 0)
    rate = np.where(answers, weight / np.maximum(hold_s, 1e-12), 0.0)
    kept = by_weight(rate)
    mean_hold = float(kept @ hold_s)
    share = refused_share(int(answers.sum()), int(drawn.sum()), rps * mean_hold)
    return (1 - share) * kept + share * by_weight(np.where(drawn, weight, 0.0))


def rank_shares(count: int) -> Floats:
    """Two choices: rank k of N gets 2 (N - k) / (N (N - 1)); one target gets all."""
    if count == 1:
        return np.ones(1)
    rank = np.arange(1, count + 1)
    return np.asarray(2 * (count - rank) / (count * (count - 1)))


def two_choices(weight: Floats, hold_s: Floats, refuses: Bools, silent: Bools) -> Floats:
    """Two distinct ones at random, the less busy serves: ranked by outstanding per weight, ties share.

    A refusing one ranks first, a silent one last. Among the others the ranks are those that their own shares bring
    about: targets that tie share their ranks so that they stay tied.
    """
    share = np.zeros_like(weight)
    usable = np.flatnonzero(weight > 0)
    if not len(usable):
        return share
    ranks = rank_shares(len(usable))
    first = usable[refuses[usable]]
    last = usable[silent[usable] & ~refuses[usable]]
    middle = usable[~refuses[usable] & ~silent[usable]]
    a, b = len(first), len(first) + len(middle)
    if len(first):
        share[first] = ranks[:a].mean()
    if len(last):
        share[last] = ranks[b:].mean()
    if len(middle):
        share[middle] = _kept_even(weight[middle] / np.maximum(hold_s[middle], 1e-12), ranks[a:b])
    return share


def _kept_even(speed: Floats, ranks: Floats) -> Floats:
    """Shares in proportion to speed, as far as ranks allow: no k targets get more than the first k ranks.

    Blocks of tied targets: the block whose outstanding is least comes first, and so on (the lower envelope of the
    points (sum of speeds, sum of ranks)).
    """
    if (speed == speed[0]).all():
        return np.full_like(speed, ranks.mean())
    order = np.argsort(-speed, kind="stable")
    made = np.zeros_like(speed)
    start = 0
    while start < len(speed):
        # Summed from here on: what idle ones add would drown in the sums of faster ones before.
        slopes = np.cumsum(ranks[start:]) / np.cumsum(speed[order[start:]])
        end = start + 1 + int(len(slopes) - 1 - slopes[::-1].argmin())
        made[order[start:end]] = speed[order[start:end]] * slopes[end - start - 1]
        start = end
    return made


# By the word in a plan (`TargetGroup.balance`).
METHODS: dict[str, Method] = {
    "round-robin": Method("round robin"),
    "least-connections": Method(
        "least connections", shares=lambda one: least_connections(one.weight, one.hold_s, one.refuses, one.rps)
    ),
    "two-choices": Method(
        "two choices", shares=lambda one: two_choices(one.weight, one.hold_s, one.refuses, one.silent)
    ),
    "source-hash": Method("source hash", sticky_by_key=True),
    "flow-hash": Method("flow hash", by_flow=True),
}
