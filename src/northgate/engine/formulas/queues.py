"""Queues: how long a request waits at a machine, and how its backlog grows.

Sources: A. K. Erlang, "Solution of some problems in the theory of probabilities of significance in automatic telephone
exchanges" (1917), for the M/M/c wait; the fluid backlog is a balance of work offered and work finished.
"""

import numpy as np
from msgspec import Struct

from northgate.engine.base import Bools, Floats, Floats1, Ints, Ints1, cached, compiled, part

# Above this utilisation the M/M/c wait is held: the backlog, not the steady state, then says how long one waits.
WAIT_LIMIT = 0.98
# Up to so many servers the loss formula is computed by its recursion.
RECURSION_LIMIT = 1000
# Backlogs closer than this to a bound (seconds of work) are at it.
AT_BOUND_S = 1e-9


def servers(capacity: Floats, service_s: Floats) -> Ints:
    """C of M/M/c: how many requests a machine of this capacity (1/s) and service time (s) works on at once."""
    whole = np.isfinite(capacity)
    product = np.where(whole, np.where(whole, capacity, 0.0) * service_s, 0.0)
    return np.maximum(1, np.floor(product + 0.5)).astype(np.int64)


@part
def erlang_b(count: int, load: float) -> float:
    """The probability that all of `count` servers are busy in M/M/c/c with an offered load of `load` Erlangs: by the
    recursion B(k) = a B(k-1) / (k + a B(k-1))."""
    blocked = 1.0
    for number in range(1, count + 1):
        blocked = load * blocked / (number + load * blocked)
    return blocked


def erlang_b_of_many(count: Ints, load: Floats) -> Floats:
    """Erlang's B where there are many servers: the Poisson(a) mass at c over its mass up to c, from a library that is
    slow to load and therefore loaded only then."""
    from scipy.special import gammaincc, gammaln

    safe = np.maximum(load, 1e-300)
    mass = np.exp(count * np.log(safe) - safe - gammaln(count + 1)) / gammaincc(count + 1, safe)
    return np.where(load > 0, mass, 0.0)


@part
def erlang_c(blocked: float, utilisation: float) -> float:
    """The probability of having to wait in M/M/c with u = a/c < 1, of Erlang's B: C = B / (1 - u (1 - B))."""
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
    def servers(self) -> Ints:
        """How many servers each has."""
        return servers(self.capacity, self.service_s)

    @cached
    def _many(self) -> Bools:
        """Which have so many servers that the loss formula is not computed by its recursion."""
        return self.servers > RECURSION_LIMIT

    @cached
    def _none_blocked(self) -> Floats | None:
        """Erlang's B as `_blocked` says, where no station has so many servers."""
        return None if self._many.any() else np.zeros(len(self.capacity))

    def mean_wait_s(self, utilisation: Floats) -> Floats:
        """The mean M/M/c wait in seconds at min(utilisation, 0.98); 0 where no capacity limit is known."""
        made = np.empty(len(utilisation))
        _find_waits(self.capacity, self.servers, self.blocked(utilisation), utilisation, made)
        return made

    def blocked(self, utilisation: Floats) -> Floats:
        """Erlang's B of the stations with many servers, 0 of the others."""
        if self._none_blocked is not None:
            return self._none_blocked
        load: Floats = np.minimum(utilisation, WAIT_LIMIT) * self.servers.astype(np.float64)
        return np.where(self._many, erlang_b_of_many(self.servers, load), 0.0)

    def queues(self, offered: Floats, backlog_s: Floats) -> Queue:
        """How the queues stand with this offered rate (1/s) and backlog (s).

        Above saturation the backlog grows by u - 1 up to `queue_s`, then the excess 1 - 1/u is refused; below it
        shrinks by 1 - u.
        """
        utilisation = offered / self.capacity
        excess, slope, latency_s = np.empty((3, len(offered)))
        _find_queues(
            self.capacity, self.servers, self.blocked(utilisation), utilisation, self.service_s, self.queue_s,
            backlog_s, excess, slope, latency_s,
        )  # fmt: skip
        return Queue(utilisation, excess, slope, latency_s)


@part
def wait_s(capacity: float, count: int, blocked: float, utilisation: float) -> float:
    """The mean wait in front of so many servers; `blocked` where there are very many, see `Stations.blocked`."""
    if not capacity < np.inf:
        return 0.0
    held = min(utilisation, WAIT_LIMIT)
    if count <= RECURSION_LIMIT:
        blocked = erlang_b(count, held * count)
    return erlang_c(blocked, held) / (capacity * (1 - held))


@compiled
def _find_waits(capacity: Floats1, count: Ints1, blocked: Floats1, utilisation: Floats1, made: Floats1) -> None:
    for place in range(len(count)):
        made[place] = wait_s(capacity[place], count[place], blocked[place], utilisation[place])


@part
def excess_of(used: float) -> float:
    """The share 1 - 1/u of what is offered that is beyond u = 1; 0 below it (see `overload`)."""
    return 1 - 1 / used if used > 1 else 0.0


@compiled
def _find_queues(
    capacity: Floats1, count: Ints1, blocked: Floats1, utilisation: Floats1, service_s: Floats1, queue_s: Floats1,
    backlog_s: Floats1, excess: Floats1, slope: Floats1, latency_s: Floats1,
) -> None:  # fmt: skip
    for place in range(len(count)):
        used, full = utilisation[place], backlog_s[place] >= queue_s[place] - AT_BOUND_S
        excess[place] = excess_of(used) if full else 0.0
        if used > 1:
            slope[place] = 0.0 if full else used - 1
        else:
            slope[place] = used - 1 if backlog_s[place] > AT_BOUND_S else 0.0
        waits_s = wait_s(capacity[place], count[place], blocked[place], used)
        latency_s[place] = service_s[place] + waits_s + backlog_s[place]


@part
def is_too_late(latency_s: float, slope: float, bound_s: float) -> bool:
    """Whether a latency is beyond a bound; exactly at it, whether it is about to be."""
    return latency_s > bound_s + AT_BOUND_S or (abs(latency_s - bound_s) <= AT_BOUND_S and slope > 0)


def too_late(latency_s: Floats, slope: Floats, bound_s: Floats) -> Bools:
    """Whether a latency is beyond a bound; exactly at it, whether it is about to be."""
    return (latency_s > bound_s + AT_BOUND_S) | ((np.abs(latency_s - bound_s) <= AT_BOUND_S) & (slope > 0))
