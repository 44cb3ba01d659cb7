"""Targets that fare alike, taken together: where calls are held in very many ways, those held at any of a lump are one
class.

A lump stands beside the pairs as one more number, past the last of them; what becomes of its calls is the mean over its
pairs, by the shares of those who are held at each.
"""

import numpy as np

from northgate.engine.base import Floats, Ints


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

    def hold(self, pins: Ints, pair: int) -> Floats:
        """Per pin which share of those held there is held at a pair (0 to 1)."""
        made = (pins == pair).astype(np.float64)
        for number, (pairs, shares) in enumerate(self._members):
            made[pins == self.pairs + number] = shares[pairs == pair].sum()
        return np.asarray(made)
