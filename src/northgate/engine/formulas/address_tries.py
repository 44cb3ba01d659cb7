"""How calls are tried: one address after the other, and again when all of an attempt has failed.

Of the n addresses that a client was told it takes one at random; after a failed connect, if it may, one of those not
tried yet. With f_b and s_b the chances that a connect at address b is turned away at once, or takes its time-out, the
connect at e comes i-th, after m time-outs, with the chance

    i! (n - 1 - i)! / n! · [x^i y^m] Π over b ≠ e of (1 + x (f_b + s_b y))

as each i addresses are tried first in any order with the chance i! (n - 1 - i)! / n!. No time-out begins once the
client's patience is over. An attempt fails with the chance p; up to r repeats are made: 1 + p + ... + p^r attempts.
"""

import numpy as np
from msgspec import Struct

from northgate.engine.base import Floats, Floats1, Floats2, Floats3, compiled, part


class Connects(Struct, frozen=True):
    """Per case, address and number of time-outs before it: how often it is tried, and how often as the last that there
    is or that may be tried (apart from time-outs that use up what is left)."""

    tried: Floats
    last: Floats


def connects(turned_away: Floats, quiet: Floats, most_waits: Floats, goes_on: Floats) -> Connects:
    """How often each of n addresses is tried in one attempt: shapes (cases, n); `most_waits` (cases,) connects may
    begin and take their time-out; `goes_on` (cases,) is 0 where no further address is taken. Gives (cases, n,
    waits)."""
    cases, count = quiet.shape
    waits = max(int(min(count, most_waits.max(initial=1))), 1)
    made = Connects(np.zeros((cases, count, waits)), np.zeros((cases, count, waits)))
    away, quiet = (np.asarray(one, dtype=np.float64) for one in (turned_away, quiet))
    _find_connects(away, quiet, most_waits, goes_on, np.zeros((count, waits)), made.tried, made.last)
    return made


@compiled
def _find_connects(
    turned_away: Floats2, quiet: Floats2, most_waits: Floats1, goes_on: Floats1, ways: Floats2, tried: Floats3,
    last: Floats3,
) -> None:  # fmt: skip
    for case in range(quiet.shape[0]):
        waits = waits_of(quiet.shape[1], most_waits[case])
        for address in range(quiet.shape[1]):
            find_ways(turned_away[case], quiet[case], address, waits, ways)
            for waited in range(waits):
                found = tried_after(ways, quiet.shape[1], waited, goes_on[case] > 0)
                tried[case, address, waited], last[case, address, waited] = found


@part
def waits_of(count: int, most_waits: float) -> int:
    """How many time-outs may have been waited for, and none, before one of so many addresses is tried."""
    return max(int(min(count, most_waits)), 1)


@part
def find_ways(turned_away: Floats1, quiet: Floats1, address: int, waits: int, ways: Floats2) -> None:
    """Fills the coefficients of x^i y^m of the product over all addresses but one, for m < waits: `ways[i, m]`."""
    ways[:, :waits] = 0.0
    ways[0, 0] = 1.0
    known = 0
    for other in range(len(quiet)):
        if other == address:
            continue
        known += 1
        for tried in range(known, 0, -1):
            for waited in range(waits - 1, -1, -1):
                ways[tried, waited] += ways[tried - 1, waited] * turned_away[other]
                if waited:
                    ways[tried, waited] += ways[tried - 1, waited - 1] * quiet[other]


@part
def tried_after(ways: Floats2, count: int, waited: int, goes_on: bool) -> tuple[float, float]:
    """How often an address is tried after so many time-outs, and how often as the last that there is."""
    if not goes_on:
        # Who does not go on tries one address only, be it the first of many.
        return ways[0, waited] / count, ways[0, waited] / count
    # Per i the chance that i given addresses of n come first, and then this: i! (n - 1 - i)! / n!.
    order, tried, last = 1.0 / count, 0.0, 0.0
    for place in range(count):
        if place:
            order = order * place / (count - place)
        last = ways[place, waited] * order
        tried += last
    return tried, last
