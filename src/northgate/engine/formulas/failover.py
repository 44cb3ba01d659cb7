"""Trying other targets: at layer 7 a balancer whose connect fails takes further candidates, each at most once.

A request is first sent to one target (by the shares of all requests, sessions included), then, as long as connects fail
and tries are left, to one of the candidates not tried yet, in proportion to the shares of those who are drawn. A silent
target costs its connect time-out before the next is tried. With q the first shares and p the drawn ones, a target that
takes connects is the last stop of

    q_i + p_i Σ over sequences (a, b, ...) of bad ones  q_a / (1 - p_a) · p_b / (1 - p_a - p_b) ...

Bad targets with equal p that fail alike are a lump, and counted together. Where there are few ways in which so many of
each lump can have been tried, the sum is over these. Else it is an integral: who is drawn in proportion to p, each at
most once, comes in the order of clocks that ring after times of exponential distribution with rates p. When those of
good ones, which together have rate g, ring first at t, each bad one has rung with probability 1 - e^(-p_j t): so

    ∫ e^(-g t) Π over bad j but a of (e^(-p_j t) + x (1 - e^(-p_j t))) dt

has as its coefficient of x^k what of requests that began at a goes on to a good one i after k others, over p_i; and
where the last of all tries is b, its clock rings when k others but a have rung (the product leaves b out, and stands
under p_b e^(-p_b t)).
"""

import math

import numpy as np
from msgspec import Struct

from northgate.engine.base import (
    Bools,
    Bools1,
    Floats,
    Floats1,
    Floats2,
    Ints,
    Ints1,
    Ints2,
    compiled,
    part,
)

# What is left to draw from, where that is no more than this, is nobody.
NOBODY_LEFT = 1e-12
# Over so many counts it is summed at most; an integral takes some hundred moments, each about so dear for a factor as
# so many counts.
MOST_COUNTS, MOMENTS = 1 << 16, 100
# The steps of w (with a quarter, 40 targets lose half their digits), where it begins (with nothing of t), and after how
# many of the slowest decay's times nothing is left.
STEP, FIRST_MOMENT, LAST_MOMENT = 0.125, -3.8, 42.0


class LastStops(Struct, frozen=True):
    """Where requests end: `share` per target; `waited[s]` what of it comes to good targets after s silent ones."""

    share: Floats
    waited: Floats


class Trying(Struct, frozen=True):
    """Arrays for work, of targets of one group and of their lumps; of `room_to_try`.

    Rows of `values` (6, n): per lump the share by which each of it is drawn, how many it has, with what it begins, and
    what is left at it when it has been the last; per try the weight of a sequence, and what of all shares is gone. Rows
    of `counts` (6, n): the lump of each target (-1: none), per lump whether it is silent, and how many of it have been
    tried; per try the lump, how many silent ones there were, and the next lump to look at.
    """

    values: Floats
    counts: Ints
    table: Floats


def room_to_try(targets: int, tries: int) -> Trying:
    """Room for the lumps of so many targets, which so many tries may go on to."""
    table = np.empty(max(min(MOST_COUNTS, 1 << min(targets, 16)), (2 * targets + 4) * tries))
    return Trying(np.empty((6, targets + 2)), np.empty((6, targets + 2), dtype=np.int64), table)


def last_stops(first: Floats, drawn: Floats, bad: Bools, silent: Bools, tries: int) -> LastStops:
    """Where requests end, given the shares by which they are first sent and by which others are drawn.

    All per target of one group at one front: `bad` ones take no connect, `silent` ones say so only after the time-out.
    """
    tries = min(tries, len(first))
    made, room = LastStops(np.empty(len(first)), np.empty((tries + 1, len(first)))), room_to_try(len(first), tries)
    _find_last_stops(
        first, drawn, bad, silent, np.array([tries]), room.values, room.counts, room.table, np.empty(tries + 1),
        made.share, made.waited,
    )  # fmt: skip
    return made


@compiled
def _find_last_stops(
    first: Floats1, drawn: Floats1, bad: Bools1, silent: Bools1, tries: Ints1, values: Floats2, counts: Ints2,
    table: Floats1, then: Floats1, share: Floats1, waited: Floats2,
) -> None:  # fmt: skip
    """`last_stops`; see `Trying` for what is for work."""
    find_stops(first, drawn, bad, silent, tries[0], values, counts, table, then, share, waited)


@part
def find_stops(
    first: Floats1, drawn: Floats1, bad: Bools1, silent: Bools1, tries: int, values: Floats2, counts: Ints2,
    table: Floats1, then: Floats1, share: Floats1, waited: Floats2,
) -> None:  # fmt: skip
    """`last_stops`, into `share` and the first `tries + 1` rows of `waited`; `then` (tries + 1,) is for work."""
    if tries == 0:
        _stop_at_once(first, bad, share, waited)
    elif tries == 1:
        _find_stops_of_two(first, drawn, bad, silent, share, waited)
    else:
        _find_stops_of_lumps(first, drawn, bad, silent, tries, values, counts, table, then, share, waited)


@part
def _stop_at_once(first: Floats1, bad: Bools1, share: Floats1, waited: Floats2) -> None:
    """`find_stops` without a further try."""
    for target in range(len(first)):
        share[target], waited[0, target] = first[target], 0.0 if bad[target] else first[target]


@part
def _find_stops_of_lumps(
    first: Floats1, drawn: Floats1, bad: Bools1, silent: Bools1, tries: int, values: Floats2, counts: Ints2,
    table: Floats1, then: Floats1, share: Floats1, waited: Floats2,
) -> None:  # fmt: skip
    """`find_stops` with several further tries."""
    lumps = find_lumps(first, drawn, bad, silent, values, counts)
    for target in range(len(first)):
        if counts[0, target] >= 0:
            values[2, counts[0, target]] += first[target]
    go_on(lumps, drawn, tries, values, counts, table, then)
    for target in range(len(first)):
        share[target] = 0.0
        for quiet in range(tries + 1):
            waited[quiet, target] = 0.0 if bad[target] else drawn[target] * then[quiet]
        lump = counts[0, target]
        if lump >= 0:
            # Where exactly in a lump a request ends says nothing.
            share[target] = values[3, lump] / values[1, lump]
        elif not bad[target]:
            waited[0, target] += first[target]
        for quiet in range(tries + 1):
            share[target] += waited[quiet, target]


@part
def _find_stops_of_two(
    first: Floats1, drawn: Floats1, bad: Bools1, silent: Bools1, share: Floats1, waited: Floats2
) -> None:  # fmt: skip
    """`find_stops` with one further try. The sum of the module is q_i + p_i Σ q_a / (P - p_a), with P the sum of all p;
    at a bad one, which is not tried twice, the sum leaves it out."""
    whole, from_silent, from_all = 0.0, 0.0, 0.0
    for target in range(len(first)):
        whole += drawn[target]
    # What is sent again by each, of what others are drawn by, stands where it ends meanwhile.
    for target in range(len(first)):
        rest = whole - drawn[target]
        tried = bad[target] and first[target] > 0 and rest > NOBODY_LEFT
        share[target] = first[target] / rest if tried else 0.0
        from_all += share[target]
        from_silent += share[target] if silent[target] else 0.0
    for target in range(len(first)):
        again = share[target]
        waited[0, target] = waited[1, target] = 0.0
        if bad[target]:
            left = first[target] if again == 0 else 0.0
            share[target] = left + drawn[target] * (from_all - again)
        else:
            waited[0, target] = first[target] + drawn[target] * (from_all - from_silent)
            waited[1, target] = drawn[target] * from_silent
            share[target] = waited[0, target] + waited[1, target]


@part
def find_lumps(first: Floats1, drawn: Floats1, bad: Bools1, silent: Bools1, values: Floats2, counts: Ints2) -> int:
    """The lumps of bad targets to which anything is sent, in the rows of `Trying`: how many there are. Who is only sent
    to first, and never drawn, is one by itself."""
    lumps = 0
    for target in range(len(first)):
        counts[0, target] = -1
        if not bad[target] or (first[target] <= 0 and drawn[target] <= 0):
            continue
        for lump in range(lumps if drawn[target] > 0 else 0):
            if values[0, lump] == drawn[target] and (counts[1, lump] == 1) == silent[target]:
                counts[0, target] = lump
                values[1, lump] += 1
                break
        if counts[0, target] < 0:
            counts[0, target] = lumps
            values[0, lumps], values[1, lumps], values[2, lumps] = drawn[target], 1.0, 0.0
            counts[1, lumps] = 1 if silent[target] else 0
            lumps += 1
    return lumps


@part
def go_on(
    lumps: int, drawn: Floats1, tries: int, values: Floats2, counts: Ints2, table: Floats1, then: Floats1
) -> None:  # fmt: skip
    """How requests go on that begin with some weights at lumps, after no more tries than there are targets: fills
    `then`, by how many silent ones they have met before what goes on to good targets, in parts of the share by which
    these are drawn; and what is left at lumps."""
    good, ways, factors = 0.0, 1.0, 0.0
    for target in range(len(drawn)):
        good += drawn[target] if counts[0, target] < 0 else 0.0
    then[: tries + 1] = 0.0
    values[3, :lumps] = 0.0
    for lump in range(lumps):
        ways *= min(values[1, lump], float(tries)) + 1
        factors += values[1, lump] * tries
    if ways <= MOST_COUNTS and ways * lumps <= MOMENTS * factors:
        _by_counts(int(ways), lumps, good, tries, values, counts, table, then)
    else:
        _by_clocks(lumps, good, tries, values, counts, table, then)


@part
def _by_counts(
    ways: int, lumps: int, good: float, tries: int, values: Floats2, counts: Ints2, table: Floats1, then: Floats1
) -> None:  # fmt: skip
    """`go_on`, by how many of each lump have been tried; `table` holds the weight of each such way, which leads to
    later ones alone."""
    table[:ways] = 0.0
    whole, step = good, 1
    for lump in range(lumps):
        whole += values[0, lump] * values[1, lump]
    for lump in range(lumps):
        # How far apart ways are that have tried one more of it.
        counts[4, lump] = step
        step *= int(min(values[1, lump], float(tries))) + 1
        begins, rest = values[2, lump], whole - values[0, lump]
        if rest <= NOBODY_LEFT:
            values[3, lump] += begins
        else:
            table[counts[4, lump]] += begins
    for way in range(ways):
        weight = table[way]
        if weight == 0.0:
            continue
        rest, quiet, tried, left = good, 0, 0, way
        for lump in range(lumps - 1, -1, -1):
            here = left // counts[4, lump]
            left -= here * counts[4, lump]
            counts[2, lump] = here
            rest += (values[1, lump] - here) * values[0, lump]
            quiet += here * counts[1, lump]
            tried += here
        then[quiet] += weight / rest
        for lump in range(lumps):
            others = (values[1, lump] - counts[2, lump]) * values[0, lump]
            if others <= 0:
                continue
            moved = weight * others / rest
            if tried == tries or rest - values[0, lump] <= NOBODY_LEFT:
                values[3, lump] += moved
            else:
                table[way + counts[4, lump]] += moved


@part
def _by_clocks(
    lumps: int, good: float, tries: int, values: Floats2, counts: Ints2, table: Floats1, then: Floats1
) -> None:  # fmt: skip
    """`go_on`, by the integral of the module: over t = e^(w - e^-w), of which equal steps of w come as near as rounding
    does, as all that is integrated is flat at both ends (H. Takahasi and M. Mori, "Double exponential formulas for
    numerical integration", 1974)."""
    whole, slowest, others, silent_from = max(good, 0.0), 1.0, 0.0, 0
    for lump in range(lumps):
        counts[3, lump] = 1 if values[0, lump] > NOBODY_LEFT else 0
        whole += values[0, lump] * values[1, lump]
        if counts[3, lump]:
            others += values[1, lump]
            slowest = min(slowest, values[0, lump])
        silent_from += 1 - counts[1, lump]
    loud, silent = 0, silent_from
    for lump in range(lumps):
        counts[4, silent if counts[1, lump] else loud] = lump
        silent, loud = silent + counts[1, lump], loud + 1 - counts[1, lump]
    if good > NOBODY_LEFT:
        slowest = good
    # Where nobody is good it ends when all have been tried: who is drawn has one other less than who is not.
    for drawn in range(2):
        further = tries if good > NOBODY_LEFT else int(min(float(tries), others - drawn))
        begins = 0.0
        for lump in range(lumps):
            values[4, lump] = values[2, lump] / values[1, lump] if counts[3, lump] == drawn else 0.0
            begins += values[4, lump]
            if further == 0:
                values[3, lump] += values[4, lump] * values[1, lump]
        if begins == 0 or further == 0:
            continue
        w = FIRST_MOMENT
        while math.exp(w - math.exp(-w)) * slowest < LAST_MOMENT * whole:
            t = math.exp(w - math.exp(-w)) / whole
            weight = STEP * t * (1 + math.exp(-w)) * math.exp(-max(good, 0.0) * t)
            _at_moment(t, weight, lumps, silent_from, further, values, counts, table, then)
            w += STEP


@part
def _at_moment(
    t: float, weight: float, lumps: int, silent_from: int, tries: int, values: Floats2, counts: Ints2, table: Floats1,
    then: Floats1,
) -> None:  # fmt: skip
    """Adds to `then`, and to what is left at lumps, what comes at one moment. Lumps stand in the order of row 4 of
    `counts`, silent ones last; those to whom requests are sent first are left out of the product, one after the other,
    by the weights of row 4 of `values`: so each row of `table` is the product of all, and of all but the first."""
    after = 2 * (lumps + 1) * tries
    table[: 2 * tries] = 0.0
    table[after : after + 2 * tries] = 0.0
    table[0] = table[after] = 1.0
    for place in range(lumps):
        lump, begin = counts[4, place], 2 * place * tries
        here = table[begin + 2 * tries : begin + 4 * tries]
        for number in range(2 * tries):
            here[number] = table[begin + number]
        for _ in range(int(values[1, lump])):
            _join(values[0, lump] * t, values[4, lump], tries, here)
    behind = table[after : after + 2 * tries]
    for place in range(lumps - 1, -1, -1):
        lump, begin = counts[4, place], 2 * place * tries
        if place == silent_from - 1:
            _add_good(weight, tries, table[begin + 2 * tries : begin + 4 * tries], behind, then)
        for _ in range(int(values[1, lump]) - 1):
            _join(values[0, lump] * t, values[4, lump], tries, behind)
        last = 0.0
        for number in range(tries):
            last += table[begin + number] * behind[2 * tries - 1 - number]
            last += table[begin + tries + number] * behind[tries - 1 - number]
        rings = weight * values[0, lump] * math.exp(-values[0, lump] * t)
        values[3, lump] += values[1, lump] * rings * last
        _join(values[0, lump] * t, values[4, lump], tries, behind)
    if silent_from == 0:
        _add_good(weight, tries, table[: 2 * tries], behind, then)


@part
def _join(passed: float, begins: float, tries: int, product: Floats1) -> None:
    """Multiplies both halves of a product by the factor of one more target, who may be the first."""
    waits, rang = math.exp(-passed), -math.expm1(-passed)
    for number in range(tries - 1, -1, -1):
        all_of, but_first = product[number], product[tries + number]
        product[number] = waits * all_of
        product[tries + number] = waits * but_first + begins * all_of
        if number:
            product[number] += rang * product[number - 1]
            product[tries + number] += rang * product[tries + number - 1]


@part
def _add_good(weight: float, tries: int, loud: Floats1, silent: Floats1, then: Floats1) -> None:
    """Adds what goes on to good ones, by how many silent ones have been met."""
    for met in range(tries):
        for refused in range(tries - met):
            then[met] += weight * loud[tries + refused] * silent[met]
            then[met + 1] += weight * loud[refused] * silent[tries + met]


def last_stops_in_order(order: Ints, bad: Bools, silent: Bools) -> LastStops:
    """Where keys end that go on in an order of their own: (keys, tries + 1) targets, -1 where there are no more."""
    keys, tries = order.shape
    here, quiet = last_of_orders(order, bad, silent)
    waited, good = np.zeros((tries, len(bad))), ~bad[here]
    np.add.at(waited, (quiet[good], here[good]), 1.0)
    share = waited.sum(axis=0) + np.bincount(here[~good], minlength=len(bad))
    return LastStops(share / keys, waited / keys)


def last_of_orders(order: Ints, bad: Bools, silent: Bools) -> tuple[Ints, Ints]:
    """At which target each key ends that goes on in its own order, and how many silent ones it has met before."""
    here, quiet = order[:, 0].copy(), np.zeros(len(order), dtype=np.int64)
    for following in order.T[1:]:
        goes_on = bad[here] & (following >= 0)
        quiet += goes_on & silent[here]
        here = np.where(goes_on, following, here)
    return here, quiet
