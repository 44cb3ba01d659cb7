"""Targets that fare alike, taken together: where calls are held in very many ways, those held at any of a lump are one
class.

A lump stands beside the pairs as one more number, past the last of them; what becomes of its calls is the mean over its
pairs, by the shares of those who are held at each.
"""

import numpy as np

from northgate.engine.base import Floats, Floats1, Ints, Ints1, Ints2, compiled, part

# The least weight of a class where only their ratios count.
EMPTY = 1e-12


class Lumps:
    """The lumps of pairs at one moment."""

    def __init__(self, pairs: int) -> None:
        self.pairs = pairs
        self._members: list[tuple[Ints, Floats]] = []

    def add(self, pairs: Ints, shares: Floats) -> int:
        """The number of a new lump of pairs, with these shares of those who are held at it."""
        self._members.append((pairs, shares / shares.sum()))
        return self.pairs + len(self._members) - 1

    def table(self) -> tuple[Ints, Ints, Floats]:
        """Where each lump begins in two lists, and the last one ends: of pairs, and of the shares held at them."""
        begins = np.cumsum([0, *(len(pairs) for pairs, _ in self._members)])
        pairs = np.concatenate([np.zeros(0, dtype=np.int64), *(pairs for pairs, _ in self._members)])
        return begins, pairs, np.concatenate([np.zeros(0), *(shares for _, shares in self._members)])

    def with_means(self, by_pair: Floats) -> Floats:
        """A value per pair (its last axis), and past the last the mean of each lump."""
        if not self._members:
            return by_pair
        means = [by_pair[..., pairs] @ shares for pairs, shares in self._members]
        return np.concatenate([by_pair, np.stack(means, axis=-1)], axis=-1)


@compiled
def add_left(
    lost: Floats1, strays: Floats1, member: Ints1, cell: Ints1, row_of_cell: Ints1, pins: Ints2, weights: Floats1,
    free: Floats1, lump_begin: Ints1, lump_pair: Ints1, lump_share: Floats1, there: Floats1, made: Floats1,
) -> None:  # fmt: skip
    """Adds by class of a call which sources are left without a connection where those through pairs are `lost` (shares
    of all its sources): whom a session or key binds to where it led, and of `strays` (by member, a part of them) those
    who are `free`. `weights` of the classes, `pins` and `row_of_cell` as of `Pinned`, lumps as of `Lumps.table`;
    `there` is for work."""
    for pair in range(len(lost)):
        if lost[pair] == 0.0:
            continue
        row = row_of_cell[cell[pair]]
        whole, held = 0.0, False
        for kind in range(len(weights)):
            there[kind] = 0.0
            if row >= 0:
                there[kind] = _held_at(pins[row, kind], pair, len(lost), lump_begin, lump_pair, lump_share)
            held = held or there[kind] > 0
        for kind in range(len(weights)):
            # A class may be empty among those without a connection.
            there[kind] = there[kind] * max(weights[kind], EMPTY) if held else weights[kind]
            whole += there[kind]
        stray = strays[member[pair]]
        for kind in range(len(weights)):
            made[kind] += lost[pair] * ((1 - stray) * there[kind] / whole + stray * free[kind])


@part
def _held_at(
    pin: int, pair: int, pairs: int, lump_begin: Ints1, lump_pair: Ints1, lump_share: Floats1
) -> float:  # fmt: skip
    """Which share of those who are held at a pin is held at a pair."""
    if pin < pairs:
        return 1.0 if pin == pair else 0.0
    share = 0.0
    for place in range(lump_begin[pin - pairs], lump_begin[pin - pairs + 1]):
        share += lump_share[place] if lump_pair[place] == pair else 0.0
    return share
