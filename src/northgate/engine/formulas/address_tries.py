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

from northgate.engine.base import Floats


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
    if count == 1 or not (quiet.any() or turned_away.any()):
        # The first is the only one: there is no other, or nobody needs one.
        tried = np.full((cases, count, 1), 1 / count)
        return Connects(tried, tried if count == 1 else np.where(goes_on[:, None, None] > 0, 0.0, tried))
    waits = max(int(min(count, most_waits.max(initial=1))), 1) if quiet.any() else 1
    tried, last = np.zeros((cases, count, waits)), np.zeros((cases, count, waits))
    moves = goes_on[:, None] > 0
    allowed = np.arange(waits)[None, :] < most_waits[:, None]
    for address in range(count):
        ways = _ways_before(np.delete(turned_away, address, axis=1), np.delete(quiet, address, axis=1), waits)
        part = ways * _orders(count)[None, :, None]
        # Who does not go on tries one address only, be it the first of many.
        tried[:, address] = np.where(moves, part.sum(axis=1) * allowed, part[:, 0])
        last[:, address] = np.where(moves, part[:, -1] * allowed, part[:, 0])
    return Connects(tried, last)


def _ways_before(turned_away: Floats, quiet: Floats, waits: int) -> Floats:
    """The coefficients of x^i y^m of the product over all addresses: (cases, addresses + 1, waits)."""
    cases, count = quiet.shape
    made = np.zeros((cases, count + 1, waits))
    made[:, 0, 0] = 1.0
    for place in range(count):
        before = made[:, : place + 1].copy()
        made[:, 1 : place + 2] += before * turned_away[:, place, None, None]
        made[:, 1 : place + 2, 1:] += before[:, :, :-1] * quiet[:, place, None, None]
    return made


def _orders(count: int) -> Floats:
    """Per i the chance that i given addresses of n come first, and then a given other: i! (n - 1 - i)! / n!."""
    made = np.empty(count)
    made[0] = 1 / count
    for place in range(1, count):
        made[place] = made[place - 1] * place / (count - place)
    return made
