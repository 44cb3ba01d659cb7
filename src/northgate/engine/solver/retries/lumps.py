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

    @property
    def any(self) -> bool:
        """Whether there is any."""
        return bool(self._members)

    def add(self, pairs: Ints, shares: Floats) -> int:
        """The number of a new lump of pairs, with these shares of those who are held at it."""
        self._members.append((pairs, shares / shares.sum()))
        return self.pairs + len(self._members) - 1

    def value(self, by_pair: Floats, pins: Ints) -> Floats:
        """A value per pair (its last axis) at pins: pairs, lumps, or nobody (negative: some value or other)."""
        return self.with_means(by_pair)[..., np.maximum(pins, 0)]

    def with_means(self, by_pair: Floats) -> Floats:
        """A value per pair (its last axis), and past the last the mean of each lump."""
        if not self._members:
            return by_pair
        means = [by_pair[..., pairs] @ shares for pairs, shares in self._members]
        return np.concatenate([by_pair, np.stack(means, axis=-1)], axis=-1)

    def onto_pairs(self, pins: Ints, weights: Floats) -> Floats:
        """Sums weights by the pair at which they are held, those at lumps by their members' shares: (pairs,)."""
        held = np.bincount(pins, weights, minlength=self.pairs + len(self._members))
        made = held[: self.pairs].astype(np.float64)
        for number, (pairs, shares) in enumerate(self._members):
            np.add.at(made, pairs, held[self.pairs + number] * shares)
        return made

    def hold(self, pins: Ints, pair: int) -> Floats:
        """Per pin which share of those held there is held at a pair (0 to 1)."""
        made = (pins == pair).astype(np.float64)
        for number, (pairs, shares) in enumerate(self._members):
            made[pins == self.pairs + number] = shares[pairs == pair].sum()
        return np.asarray(made)
