"""Targets that come and go.

Those that leave get nothing new, and their layer 4 connections may stay for the group's `drain_s`. Slow starts:
`slow_start_s` raises the weight of a target that comes into use in ten equal steps.
"""

from collections.abc import Iterator

import numpy as np

from northgate.engine.base import DIGITS, NEVER, Bools, Floats, Ints, where_true
from northgate.engine.network import Network
from northgate.engine.processes.holdings import Holdings
from northgate.engine.processes.process import Entry

# `slow_start_s` raises a weight in so many equal steps, the first at once.
SLOW_STEPS = 10


class Drains:
    """Which machines leave, and per pair when the connections through it end (s; inf: they need not)."""

    def __init__(self, network: Network, holdings: Holdings) -> None:
        self.network, self.holdings = network, holdings
        self.leaving = np.zeros(len(network.machines.names), dtype=bool)
        self.drain_s: Floats = network.groups.drain_s[network.pairs.group]
        self._ends_s = np.full(len(network.pairs.front), NEVER)

    def leave(self, machine: int, now: float) -> None:
        """A machine leaves: sessions move on with their next call."""
        self._turn(machine, leaves=True, ends_s=now + self.drain_s)
        self.holdings.free_sessions(self.network.members.machine == machine)

    def come_back(self, machine: int) -> None:
        """A machine that leaves turns back."""
        self._turn(machine, leaves=False, ends_s=np.full(len(self._ends_s), NEVER))

    def forget(self, machines: Ints) -> None:
        """These are gone: whoever is launched in their place does not leave."""
        self.leaving = self.leaving.copy()
        self.leaving[machines] = False

    def _turn(self, machine: int, *, leaves: bool, ends_s: Floats) -> None:
        self.leaving = self.leaving.copy()
        self.leaving[machine] = leaves
        self._ends_s = np.where(self.network.pairs.machine == machine, ends_s, self._ends_s)

    def stands(self, now: float) -> Iterator[Bools | Floats]:
        """Who leaves, and when connections end, in seconds from now."""
        yield from (self.leaving, self._ends_s - now)

    def next_s(self, now: float) -> float:  # noqa: ARG002
        """When the next connections end."""
        return float(self._ends_s.min(initial=NEVER))

    def take(self, now: float) -> Iterator[Entry]:
        """Ends the connections whose time has come."""
        gone = self._ends_s <= now
        if gone.any():
            self._ends_s = np.where(gone, NEVER, self._ends_s)
            self.holdings.free_connections(gone)
        yield from ()


class Warmup:
    """Per pair: how warm its target is (0 to 1)."""

    def __init__(self, network: Network) -> None:
        self.warmth = np.ones(len(network.pairs.front))
        self._since = np.full(len(network.pairs.front), np.nan)
        self._slow_s: Floats = network.groups.slow_start_s[network.pairs.group]

    def slow(self, pairs: Ints) -> Bools:
        """Which of these warm up when they come into use."""
        return np.asarray(self._slow_s[pairs] > 0)

    def begin(self, pairs: Ints, now: float) -> None:
        """These come into use."""
        self._since[pairs[self.slow(pairs)]] = now

    @property
    def warming(self) -> bool:
        """Whether any target is not warm yet."""
        return not bool(np.isnan(self._since).all())

    def stands(self, now: float) -> Iterator[Floats]:
        """For how long targets have been warming up (s; inf: they are warm)."""
        yield np.where(np.isnan(self._since), NEVER, now - self._since)

    def next_s(self, now: float) -> float:
        """When the next weight rises."""
        cold = where_true(~np.isnan(self._since))
        if not len(cold):
            return NEVER
        step = self._slow_s[cold] / SLOW_STEPS
        done = np.floor((now - self._since[cold]) / step + 1e-6)
        return float(np.round(self._since[cold] + (done + 1) * step, DIGITS).min())

    def take(self, now: float) -> Iterator[Entry]:
        """Raises the weights whose time has come."""
        cold = where_true(~np.isnan(self._since))
        if len(cold):
            steps = np.floor((now - self._since[cold]) / self._slow_s[cold] * SLOW_STEPS + 1e-6) + 1
            self.warmth = self.warmth.copy()
            self.warmth[cold] = np.minimum(steps / SLOW_STEPS, 1.0)
            self._since[cold[steps >= SLOW_STEPS]] = np.nan
        yield from ()
