"""Trying other targets: at layer 7 a balancer whose connect fails takes further candidates, each at most once.

A request is first sent to one target (by the shares of all requests, sessions included), then, as long as connects fail
and tries are left, to one of the candidates not tried yet, in proportion to the shares of those who are drawn. A silent
target costs its connect time-out before the next is tried. With q the first shares and p the drawn ones, a target that
takes connects is the last stop of

    q_i + p_i Σ over sequences (a, b, ...) of bad ones  q_a / (1 - p_a) · p_b / (1 - p_a - p_b) ...

Bad targets with equal p that fail alike are counted together, so the sum is over counts, not over targets.
"""

from collections.abc import Iterator

import numpy as np
from msgspec import Struct

from northgate.engine.base import Bools, Bools2, Floats, Floats2, Floats3, Ints, Ints1, compiled

# What is left to draw from, where that is no more than this, is nobody.
NOBODY_LEFT = 1e-12
# A state of trying: how many of each lump of bad targets have been tried, and which lump was the last.
_State = tuple[tuple[int, ...], int]


class LastStops(Struct, frozen=True):
    """Where requests end: `share` per target; `waited[s]` what of it comes to good targets after s silent ones."""

    share: Floats
    waited: Floats


def last_stops(first: Floats, drawn: Floats, bad: Bools, silent: Bools, tries: int) -> LastStops:
    """Where requests end, given the shares by which they are first sent and by which others are drawn.

    All per target of one group at one front: `bad` ones take no connect, `silent` ones say so only after the time-out.
    """
    then = np.zeros(tries + 1)
    if not (first[bad] > 0).any() or tries <= 0:
        return LastStops(first, np.where(bad, 0.0, first)[None, :])
    lumps = _lumps(drawn, bad & ((first > 0) | (drawn > 0)), silent)
    left = np.zeros(len(lumps))
    states: dict[_State, Floats] = {}
    for number, lump in enumerate(lumps):
        spent = np.zeros(tries + 1)
        spent[int(lump.silent)] = float(first[lump.places].sum())
        states[_one(number, len(lumps)), number] = spent
    for _ in range(tries):
        states = _try_one(states, lumps, then, left, float(drawn.sum()))
    for (_, last), weight in states.items():
        left[last] += weight.sum()
    waited = np.where(bad, 0.0, drawn * then[:, None])
    waited[0] += np.where(bad, 0.0, first)
    share = waited.sum(axis=0)
    for lump, ended in zip(lumps, left, strict=True):
        share[lump.places] += ended / len(lump.places)
    return LastStops(share, waited)


def last_stops_of_two(first: Floats, drawn: Floats, bad: Bools, silent: Bools, group: Ints, groups: int) -> LastStops:
    """As `last_stops` with one further try, of many kinds of requests in many groups at once: all are of shape (kinds,
    targets), `group` is that of each target; `share` (kinds, targets), `waited` (2, kinds, targets).

    With one further try the sum of the module is q_i + p_i Σ q_a / (P - p_a), with P the sum of all p of the group; at
    a bad one, which is not tried twice, the sum leaves it out.
    """
    made = LastStops(np.empty(first.shape), np.empty((2, *first.shape)))
    _find_stops_of_two(
        first, drawn, bad, silent, group, np.empty((3, groups)), made.share, made.waited,
    )  # fmt: skip
    return made


@compiled
def _find_stops_of_two(
    first: Floats2, drawn: Floats2, bad: Bools2, silent: Bools2, group: Ints1, sums: Floats2, share: Floats2,
    waited: Floats3,
) -> None:  # fmt: skip
    """`last_stops_of_two`; `sums` (3, groups) is for work."""
    whole, from_silent, from_all = sums[0], sums[1], sums[2]
    for kind in range(first.shape[0]):
        sums[:] = 0.0
        for place in range(len(group)):
            whole[group[place]] += drawn[kind, place]
        # What is sent again by each, of what others are drawn by, stands where it ends meanwhile.
        for place in range(len(group)):
            of_group, rest = group[place], whole[group[place]] - drawn[kind, place]
            tried = bad[kind, place] and first[kind, place] > 0 and rest > NOBODY_LEFT
            again = first[kind, place] / rest if tried else 0.0
            share[kind, place] = again
            from_all[of_group] += again
            from_silent[of_group] += again if silent[kind, place] else 0.0
        for place in range(len(group)):
            of_group, again, part_drawn = group[place], share[kind, place], drawn[kind, place]
            waited[0, kind, place] = waited[1, kind, place] = 0.0
            if bad[kind, place]:
                left = first[kind, place] if again == 0 else 0.0
                share[kind, place] = left + part_drawn * (from_all[of_group] - again)
            else:
                at_once = first[kind, place] + part_drawn * (from_all[of_group] - from_silent[of_group])
                waited[0, kind, place], waited[1, kind, place] = at_once, part_drawn * from_silent[of_group]
                share[kind, place] = at_once + waited[1, kind, place]


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


class _Lump(Struct, frozen=True):
    """Bad targets that are drawn with the same share and fail alike."""

    places: Ints
    drawn: float
    silent: bool


def _lumps(drawn: Floats, bad: Bools, silent: Bools) -> list[_Lump]:
    places = np.flatnonzero(bad)
    places = places[np.lexsort((silent[places], drawn[places]))]
    share, quiet = drawn[places], silent[places]
    begins = np.flatnonzero((share[1:] != share[:-1]) | (quiet[1:] != quiet[:-1])) + 1
    return [_Lump(mine, float(drawn[mine[0]]), bool(silent[mine[0]])) for mine in np.split(places, begins) if len(mine)]


def _one(number: int, count: int) -> tuple[int, ...]:
    return tuple(int(place == number) for place in range(count))


def _try_one(
    states: dict[_State, Floats], lumps: list[_Lump], then: Floats, left: Floats, whole: float
) -> dict[_State, Floats]:  # fmt: skip
    """One more try from every state: some end at good targets (`then`), some have nobody left to try (`left`)."""
    made: dict[_State, Floats] = {}
    for (counts, last), weight in states.items():
        gone = sum(count * lump.drawn for count, lump in zip(counts, lumps, strict=True))
        rest = whole - gone
        if rest <= NOBODY_LEFT:
            left[last] += weight.sum()
            continue
        then += weight / rest
        for state, part in _next_states(counts, lumps):
            moved = np.roll(weight, 1) if lumps[state[1]].silent else weight
            made[state] = made.get(state, 0.0) + moved * part / rest
    return made


def _next_states(counts: tuple[int, ...], lumps: list[_Lump]) -> Iterator[tuple[_State, float]]:
    for number, lump in enumerate(lumps):
        others = (len(lump.places) - counts[number]) * lump.drawn
        if others > 0:
            more = tuple(count + (place == number) for place, count in enumerate(counts))
            yield (more, number), others
