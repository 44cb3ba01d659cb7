"""Queues: how long a request waits at a machine, and how its backlog grows.

Sources: A. K. Erlang, "Solution of some problems in the theory of probabilities of significance in automatic telephone
exchanges" (1917), for the M/M/c wait; the fluid backlog is a balance of work offered and work finished.
"""

import numpy as np
from msgspec import Struct

from northgate.engine.base import Bools, Floats, Ints, cached

# Above this utilisation the M/M/c wait is held: the backlog, not the steady state, then says how long one waits.
WAIT_LIMIT = 0.98
# Up to so many servers the loss formula is computed by its recursion.
RECURSION_LIMIT = 64
# Backlogs closer than this to a bound (seconds of work) are at it.
AT_BOUND_S = 1e-9


def servers(capacity: Floats, service_s: Floats) -> Ints:
    """C of M/M/c: how many requests a machine of this capacity (1/s) and service time (s) works on at once."""
    whole = np.isfinite(capacity)
    product = np.where(whole, np.where(whole, capacity, 0.0) * service_s, 0.0)
    return np.maximum(1, np.floor(product + 0.5)).astype(np.int64)


def erlang_b(count: Ints, load: Floats) -> Floats:
    """The probability that all of `count` servers are busy in M/M/c/c with an offered load of `load` Erlangs.

    Few servers: 1 / B = 1 + c/a + c (c-1)/a² + ... down to c!/a^c, which is the recursion B(k) = a B(k-1) / (k + a
    B(k-1)) written out. Many: the Poisson(a) mass at c over its mass up to c, from a library that is slow to load and
    therefore loaded only then.
    """
    if count.max(initial=0) > RECURSION_LIMIT:
        return _erlang_b_of_many(count, load)
    return _erlang_b_of_few(_down_from(count), load)


def _down_from(count: Ints) -> Floats:
    """Per station c, c - 1, ... 1, and 0 from there on."""
    return np.asarray(np.maximum(count[:, None] - np.arange(int(count.max(initial=0))), 0.0))


def _erlang_b_of_few(down: Floats, load: Floats) -> Floats:
    with np.errstate(divide="ignore", over="ignore", invalid="ignore"):
        # Past the last there may stand nothing times infinity.
        terms = np.where(down > 0, np.cumprod(down / load[:, None], axis=1), 0.0)
        return np.asarray(1 / (1 + terms.sum(axis=1)))


def _erlang_b_of_many(count: Ints, load: Floats) -> Floats:
    from scipy.special import gammaincc, gammaln

    safe = np.maximum(load, 1e-300)
    mass = np.exp(count * np.log(safe) - safe - gammaln(count + 1)) / gammaincc(count + 1, safe)
    return np.where(load > 0, mass, 0.0)


def erlang_c(count: Ints, load: Floats) -> Floats:
    """The probability of having to wait in M/M/c with c = `count` and offered load a = `load` < c (Erlangs).

    C = B / (1 - (a/c)(1 - B)), B being Erlang's loss formula.
    """
    return _waits(erlang_b(count, load), load / count)


def _waits(blocked: Floats, utilisation: Floats) -> Floats:
    """Erlang's C from his B."""
    return blocked / (1 - utilisation * (1 - blocked))


class Queue(Struct, frozen=True):
    """Per machine: share of the offered requests refused, backlog slope (seconds of work per second), latency (s)."""

    utilisation: Floats
    excess: Floats
    slope: Floats
    latency_s: Floats


def overload(utilisation: Floats) -> tuple[Floats, Floats]:
    """Above saturation: by how many seconds of work a second a backlog grows up to its queue, u - 1, and the share of
    what is offered that is refused from there on, 1 - 1/u; both 0 below it."""
    above = np.maximum(utilisation, 1.0)
    return above - 1, 1 - 1 / above


class Stations(Struct, frozen=True, dict=True):
    """Machines as M/M/c stations: their capacity (1/s; inf: no limit is known), service time (s) and longest queue
    (seconds of work), (machines,) each."""

    capacity: Floats
    service_s: Floats
    queue_s: Floats

    @cached
    def _limited(self) -> Bools:
        return np.isfinite(self.capacity)

    @cached
    def _speed(self) -> Floats:
        return np.where(self._limited, self.capacity, 1.0)

    @cached
    def _count(self) -> Ints:
        return servers(self.capacity, self.service_s)

    @cached
    def _down(self) -> Floats | None:
        """What Erlang's recursion goes through; None where there are many servers."""
        return _down_from(self._count) if self._count.max(initial=0) <= RECURSION_LIMIT else None

    def mean_wait_s(self, utilisation: Floats) -> Floats:
        """The mean M/M/c wait in seconds at min(utilisation, 0.98); 0 where no capacity limit is known."""
        held: Floats = np.where(self._limited, np.minimum(utilisation, WAIT_LIMIT), 0.0)
        load: Floats = held * self._count.astype(np.float64)
        blocked = erlang_b(self._count, load) if self._down is None else _erlang_b_of_few(self._down, load)
        return np.where(self._limited, _waits(blocked, held) / (self._speed * (1 - held)), 0.0)

    def queues(self, offered: Floats, backlog_s: Floats) -> Queue:
        """How the queues stand with this offered rate (1/s) and backlog (s).

        Above saturation the backlog grows by u - 1 up to `queue_s`, then the excess 1 - 1/u is refused; below it
        shrinks by 1 - u.
        """
        utilisation = offered / self.capacity
        over, full = utilisation > 1, backlog_s >= self.queue_s - AT_BOUND_S
        growth, refused = overload(utilisation)
        excess = np.where(full, refused, 0.0)
        growing = np.where(full, 0.0, growth)
        shrinking = np.where(backlog_s > AT_BOUND_S, utilisation - 1, 0.0)
        latency = self.service_s + self.mean_wait_s(utilisation) + backlog_s
        return Queue(utilisation, excess, np.where(over, growing, shrinking), latency)


def too_late(latency_s: Floats, slope: Floats, bound_s: Floats) -> Bools:
    """Whether a latency is beyond a bound; exactly at it, whether it is about to be."""
    return (latency_s > bound_s + AT_BOUND_S) | ((np.abs(latency_s - bound_s) <= AT_BOUND_S) & (slope > 0))
