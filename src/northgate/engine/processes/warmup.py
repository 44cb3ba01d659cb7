"""Slow starts: `slow_start_s` raises the weight of a target that comes into use in ten equal steps."""

from collections.abc import Iterator

import numpy as np

from northgate.engine.base import DIGITS, NEVER, Floats, Ints
from northgate.engine.network import Network
from northgate.engine.processes.process import Entry

# `slow_start_s` raises a weight in so many equal steps, the first at once.
SLOW_STEPS = 10


class Warmup:
    """Per pair: how warm its target is (0 to 1)."""

    def __init__(self, network: Network) -> None:
        self.warmth = np.ones(len(network.pairs.front))
        self._since = np.full(len(network.pairs.front), np.nan)
        self._slow_s: Floats = network.groups.slow_start_s[network.pairs.group]

    def begin(self, pairs: Ints, now: float) -> None:
        """These come into use."""
        self._since[pairs[self._slow_s[pairs] > 0]] = now

    @property
    def warming(self) -> bool:
        """Whether any target is not warm yet."""
        return not bool(np.isnan(self._since).all())

    def next_s(self, now: float) -> float:
        """When the next weight rises."""
        cold = np.flatnonzero(~np.isnan(self._since))
        if not len(cold):
            return NEVER
        step = self._slow_s[cold] / SLOW_STEPS
        done = np.floor((now - self._since[cold]) / step + 1e-6)
        return float(np.round(self._since[cold] + (done + 1) * step, DIGITS).min())

    def take(self, now: float) -> Iterator[Entry]:
        """Raises the weights whose time has come."""
        cold = np.flatnonzero(~np.isnan(self._since))
        if len(cold):
            steps = np.floor((now - self._since[cold]) / self._slow_s[cold] * SLOW_STEPS + 1e-6) + 1
            self.warmth = self.warmth.copy()
            self.warmth[cold] = np.minimum(steps / SLOW_STEPS, 1.0)
            self._since[cold[steps >= SLOW_STEPS]] = np.nan
        yield from ()
