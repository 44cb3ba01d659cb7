"""What rates depend on at one moment, and the rates that follow; `solving` finds them."""

from collections.abc import Callable, Mapping, Sequence

import numpy as np
from msgspec import Struct
from msgspec.structs import replace

from northgate.engine.balancing import Choice
from northgate.engine.base import SPENT, WORK, Bools, Floats, Ints, cached, left, same
from northgate.engine.formulas import AT_BOUND_S, Openings, Queue, mixed_from_nothing
from northgate.engine.network import Network
from northgate.engine.solver.state import Attempts, State

# Rates at which sessions and connections are opened that differ by less than this are the same.
ALIKE = 1e-9
# What is measured in time, and not counted.
TIMES = (WORK, SPENT)


class Places(Struct, frozen=True):
    """Rates (requests/s) by place on the way; what is tried, and what of it is served."""

    front_rps: Floats
    front_dead_rps: Floats
    front_served: Floats
    entry_rps: Floats
    entry_served: Floats
    cell_rps: Floats
    cell_served: Floats
    weighted_rps: Floats
    weighted_served: Floats
    pair_rps: Floats
    zone_from_elsewhere: Floats


class Opens(Struct, frozen=True, dict=True):
    """How sessions and connections are opened and end (see `Flow`), and how connections become `strays`; and of those
    who open them which share sets out for each entry (`State.dns_share`).

    `numbers` are all that changes with rates, in a row: of each sort the ways, of its shape, and the rate of each kind;
    then those shares. `terms`: the rest of each sort's `Openings`."""

    numbers: Floats
    shapes: tuple[tuple[int, ...], ...]
    terms: tuple[tuple[Floats, Bools, Ints], ...]

    @classmethod
    def of(cls, sessions: Openings, connections: Openings, strays: Openings, dns_share: Floats) -> "Opens":
        """Those of these sorts."""
        sorts = (sessions, connections, strays)
        rows = [row.reshape(-1) for one in sorts for row in (one.ways, one.rate)]
        terms = tuple([(one.ends, one.silent, one.target) for one in sorts])
        return cls(np.concatenate([*rows, dns_share]), tuple([one.ways.shape for one in sorts]), terms)

    @cached
    def parts(self) -> tuple[Openings, Openings, Openings]:
        """Sessions, connections and strays."""
        made, begin, numbers = list[Openings](), 0, self.numbers
        for shape, terms in zip(self.shapes, self.terms, strict=True):
            end = begin + shape[0] * shape[1] * shape[2]
            then = end + shape[1]
            made.append(Openings(numbers[begin:end].reshape(shape), numbers[end:then], *terms))
            begin = then
        return made[0], made[1], made[2]

    @property
    def sessions(self) -> Openings:
        """How sessions are opened."""
        return self.parts[0]

    @property
    def connections(self) -> Openings:
        """How connections are opened."""
        return self.parts[1]

    @property
    def dns_share(self) -> Floats:
        """The shares of connects, by entry."""
        before = sum(ways * kinds * places + kinds for ways, kinds, places in self.shapes)
        return self.numbers[before:]

    def otherwise(self, other: "Opens") -> bool:
        """Whether they are opened at other rates, or elsewhere."""
        return self.sessions.otherwise(other.sessions) or self.connections.otherwise(other.connections)

    def like(self, other: "Opens") -> bool:
        """Whether both are of as many kinds and places."""
        return self.shapes == other.shapes

    def mixed(self, others: "Sequence[Opens]", weights: Sequence[float]) -> "Opens":
        """The sum of this and others, with weights that come to 1; where what is led on would come to less than
        nothing, it is nothing."""
        every = [self.numbers, *(one.numbers for one in others)]
        return Opens(mixed_from_nothing(every, weights), self.shapes, self.terms)


# How sessions and connections are opened at first, half-way and at last, on a way along which a parabola leads through
# these.
Opened = tuple[Opens, Opens, Opens]


class Flow(Struct, frozen=True, dict=True):
    """Rates (requests/s) at one moment; arrays over the network's indices.

    `pair_share[f, p]` is the share of its cell that pair p gets of the requests of fate f (one row when all fare
    alike), `pair_fate[k][f, p]` what becomes of one attempt there, by kind; `pair_served` is what is served through
    each pair, `front_excess` the share of a front's answers that its balancer's bandwidth does not let through, and
    `bandwidth_used` what each balancer would answer, as a part of its bandwidth (0 where no limit is known).
    `row_part` is the share of an entry's requests that each row of `Network.arrivals` gets, `row_fate[r, k]` what
    becomes of them: the causes as in `plan.drills.CAUSES`, then SERVED and WORK and what else `KINDS` says.
    `opening[k, m]` is the rate (1/s) at which a source without a session of the k-th kind opens one on member m.
    `astray[k]`: the share of its sources whose connection leads to where no session binds them, who open none.
    `connecting[k, p]` is the share of the calls of the k-th kind of connection that would open one through pair p,
    made by a source that has none; `reconnecting[k, p]` the same of calls whose connection has just ended under
    them; `ending[k, p]`: such a connection ends with its first call, as nothing answers there. `bound_there[k, p]` is
    the share of its sources that a session leads through pair p, or has led there to a connection that is still open
    (NaN: sessions do not say where its connections lead), `served_there[k, p]` the chance that a call of those whom it
    binds to this target comes through this pair and is served. `work_out` finds the rates by place (`places`).
    """

    network: Network
    state: State
    choice: Choice
    queue: Queue
    pair_share: Floats
    pair_fate: Mapping[int, Floats]
    attempts: Attempts
    opening: Floats
    astray: Floats
    connecting: Floats
    reconnecting: Floats
    ending: Bools
    bound_there: Floats
    served_there: Floats
    row_part: Floats
    row_fate: Floats
    entry_fate: Floats
    entry_accepts: Floats
    call_served: Floats
    call_cause: Floats
    mechanism_rps: Floats
    pair_served: Floats
    front_excess: Floats
    bandwidth_used: Floats
    zone_served: Floats
    latency_sum: float
    work_out: Callable[[], Places]

    @cached
    def places(self) -> Places:
        """Rates by place, worked out when somebody looks."""
        return self.work_out()

    @cached
    def requests(self) -> float:
        """Calls offered per second."""
        return float(self.state.call_rps.sum())

    @cached
    def cause_rps(self) -> Floats:
        """Failed calls per second by cause."""
        return np.asarray(self.call_cause.sum(axis=0))

    @cached
    def served(self) -> float:
        """Served calls per second."""
        return float(self.call_served.sum())

    @cached
    def cross_zone(self) -> float:
        """Served calls per second whose front and target stand in different zones."""
        return float(self.pair_served[~self.network.pairs.same_zone].sum())

    @cached
    def mean_latency_s(self) -> float:
        """The mean latency of served calls, the client's round trip included; 0 when nothing is served."""
        return self.latency_sum / self.served if self.served > 0 else 0.0

    @cached
    def opens(self) -> Opens:
        """How sessions and connections are opened and end under these rates."""
        kept, held, sessions = self.network.kept, self.state.held, self.opened_by_free
        if held is not None and self.astray.any():
            alone = left(1 - held.sessions.sum(axis=1), self.astray)
            sessions = replace(sessions, ways=sessions.ways * alone[:, None])
        ways = np.empty((4, *self.connecting.shape))
        ways[0], ways[1], ways[2], ways[3] = self.connecting, self.reconnecting, self.bound_there, self.served_there
        rate = self.state.call_rps[kept.calls] / kept.terms[1][0]
        connections = Openings(ways, rate, kept.terms[1][1:], self.ending, self.network.derived(_targets))
        return Opens.of(sessions, connections, self._going_astray(connections), self.state.dns_share)

    def _going_astray(self, connections: Openings) -> Openings:
        """How connections outlive their sessions, which end at the rate σ: du/dt = σ (m - u) - d u, m being open at a
        place, where they end at d, and u of them being those of sources whom no session binds there any longer."""
        ends, held = self.network.derived(_outlived), self.state.held
        kinds, ways = len(ends), np.zeros((4, len(ends), connections.ways.shape[2]))
        rate = connections.rate[:kinds]
        if held is not None and kinds:
            ways[2] = held.connections
            ways[3] = np.divide(ends, rate, out=np.zeros(kinds), where=rate > 0)[:, None]
        return Openings(ways, rate, connections.ends[:, :kinds], connections.silent[:kinds])

    @property
    def opened_by_free(self) -> Openings:
        """How sessions are opened by sources that have none and no connection either."""
        opening = self.opening
        nobody = np.zeros(opening.shape, dtype=bool)
        return Openings(opening[None], np.ones(len(opening)), self.network.kept.terms[0][1:], nobody)

    def with_backlogs(self, state: State, within: float) -> "Flow | None":
        """The flow in a state that differs by its backlogs alone, where they are so near that rates are the same: off
        by no more than a part of how long answers take, and at a bound where they were."""
        if same(state.backlog_s, self.state.backlog_s):
            return self
        full_s, (now, then) = self.network.machines.queue_s, (self.state.backlog_s, state.backlog_s)
        off_s = then - now
        alike = same(now <= AT_BOUND_S, then <= AT_BOUND_S) and same(
            now >= full_s - AT_BOUND_S, then >= full_s - AT_BOUND_S
        )
        if not alike or (np.abs(off_s) > within * self.queue.latency_s).any():
            return None
        queue = replace(self.queue, latency_s=self.queue.latency_s + off_s)
        longer_s = float(self.pair_served @ off_s[self.network.pairs.machine])
        return replace(self, state=state, queue=queue, latency_sum=self.latency_sum + longer_s)

    def treats_like(self, other: "Flow") -> bool:
        """Whether one request is sent and fares alike under both: then rates differ only as far as others come."""
        mine, theirs = (
            [
                one.pair_share,
                one.front_excess,
                one.choice.weighted_share,
                *(fate for kind, fate in one.pair_fate.items() if kind not in TIMES),
            ]
            for one in (self, other)
        )
        return self.pair_fate.keys() == other.pair_fate.keys() and all(
            a.shape == b.shape and np.abs(a - b).max(initial=0.0) <= ALIKE for a, b in zip(mine, theirs, strict=True)
        )

    def call_fate(self, call: int) -> Floats:
        """What becomes of a call, by kind, as shares; also of one that nobody makes now."""
        mine = self.network.entries.of_call[call]
        return np.asarray(self.state.dns_share[mine] @ self.entry_fate[mine])

    def call_accepted(self, call: int) -> float:
        """The share of a call's connections that a living front takes which believes some target in use."""
        mine = self.network.entries.of_call[call]
        return float(self.state.dns_share[mine] @ self.entry_accepts[mine])


def _targets(network: Network) -> Ints:
    """At which target each pair is, numbered as they come."""
    return np.unique(network.pairs.member, return_inverse=True)[1].ravel()


def _outlived(network: Network) -> Floats:
    """By kind of connection how often a second the session ends that leads it (1/s); 0 where none does."""
    return np.asarray(np.nan_to_num(network.kept.unbound))
