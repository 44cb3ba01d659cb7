"""What rates depend on at one moment, and the rates that follow; `solving` finds them."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from northgate.engine.load import Queue
from northgate.engine.network import Network
from northgate.engine.resolving import Answers
from northgate.engine.shares import Choice
from northgate.engine.truth import Encounter, Truth
from northgate.engine.types import Bools, Floats, Ints
from northgate.plan.drills import CAUSES

REFUSED, TIMED_OUT, OVERLOADED, NONE_HEALTHY, BLOCKED, BAD_STATUS, DEAD_FRONT, RESET = range(len(CAUSES))
# After the causes: what is served, and the time that this takes (share times seconds).
SERVED, WORK = len(CAUSES), len(CAUSES) + 1
# Besides: what of TIMED_OUT was answered, but too late; and the time that failing takes (share times seconds).
LATE, SPENT = len(CAUSES) + 2, len(CAUSES) + 3
# And of each cause what of it is a failed connect, after which a client may take the next address: UNMET + cause.
UNMET = len(CAUSES) + 4
KINDS = UNMET + len(CAUSES)
# Failed connects that take the client's connect time-out, and those that are known at once.
QUIET, TURNED_AWAY = (TIMED_OUT, BLOCKED, DEAD_FRONT), (REFUSED, NONE_HEALTHY)
# Rates at which sessions and connections are opened that differ by less than this are the same.
ALIKE = 1e-9
# Why requests fail: the target is bad and its verdict has not come; the front is dead; the answer is an old one; queues
# are full; nobody is in use; a firewall or route; the balancer itself says no.
MECHANISMS = ("waiting", "dead_front", "old_answers", "overload", "none_healthy", "blocked", "by_rule")
# What a layer 7 balancer answers when it fails by itself.
STATUSES = {REFUSED: 502, NONE_HEALTHY: 503, OVERLOADED: 503, TIMED_OUT: 504}


@dataclass(frozen=True)
class Held:
    """What sources hold, as shares of them: `sessions[k, m]` of the k-th kind of session (`Network.session_kinds`) on
    member m, `connections[k, p]` of the k-th kind of connection (`Network.connection_kinds`) through pair p."""

    sessions: Floats
    connections: Floats


@dataclass(frozen=True)
class Tried:
    """How often calls connect, against once each: `book` by what their outcomes are kept by (`repeats.Repeats`:
    entries, then classes of held calls at entries); `after_one` how often when one attempt has been made already;
    `over_open` how often over open connections, by kind and pair; `anew`: per call the share that goes on without its
    connection, as that has ended under it."""

    book: Floats
    after_one: Floats
    over_open: Floats
    anew: Floats

    @property
    def parts(self) -> tuple[Floats, ...]:
        """All of it."""
        return (self.book, self.after_one, self.over_open, self.anew)

    def fits(self, other: "Tried") -> bool:
        """Whether both are about the same entries, connections and classes."""
        return [part.shape for part in self.parts] == [part.shape for part in other.parts]

    def off(self, wanted: "Tried") -> Floats:
        """How far what is wanted lies from this: all differences in a row."""
        return np.concatenate([(new - old).ravel() for old, new in zip(self.parts, wanted.parts, strict=True)])

    def towards(self, wanted: "Tried", stretch: float) -> "Tried":
        """`stretch` times as far as wanted, and never below nothing."""
        if stretch == 1:
            return wanted
        made = [np.maximum(old + stretch * (new - old), 0.0) for old, new in zip(self.parts, wanted.parts, strict=True)]
        return Tried(made[0], made[1], made[2], made[3])


@dataclass(frozen=True)
class Moment:
    """Everything that rates depend on: truth and what requests meet under it, what each pair's front believes, which
    fronts are in their address, which answers of each name are healthy, the answers that everyone holds, the warmth (0
    to 1) of each pair's target, the rate of each call (requests/s), the backlog of each machine (seconds of work), and
    the sessions and connections that sources hold. `attempts`: how often calls were tried in the state before, from
    which a retry storm goes on. `fresh`: what entries would be told if nobody held old answers. `exists`: which
    machines are there, where autoscalers launch them (None: all)."""

    truth: Truth
    encounter: Encounter
    in_use: Bools
    in_address: Bools
    healthy: Sequence[Bools]
    answers: Answers
    warmth: Floats
    call_rps: Floats
    backlog_s: Floats
    held: Held | None = None
    attempts: Tried | None = None
    fresh: Floats | None = None
    exists: Bools | None = None

    @property
    def told(self) -> Floats:
        """The share of its call's first connects that each entry gets."""
        return self.answers.told

    def present(self, machines: Ints) -> Bools:
        """Whether machines are there at all."""
        return np.ones(len(machines), dtype=bool) if self.exists is None else self.exists[machines]


@dataclass(frozen=True)
class Places:
    """Rates (requests/s) by place on the way; what is tried, and what of it is served."""

    front_rps: Floats
    front_dead_rps: Floats
    front_served: Floats
    entry_rps: Floats
    entry_served: Floats
    cell_rps: Floats
    cell_served: Floats
    lane_rps: Floats
    lane_served: Floats
    pair_rps: Floats
    zone_from_elsewhere: Floats


@dataclass(frozen=True)
class Opens:
    """How sessions and connections are opened and end (see `Flow`), with the rate of each kind of connection's call
    (calls/s). `bound[k, p]`: the share of its sources that a session leads through pair p (NaN: sessions do not say
    where its connections lead), `served[k, p]` the chance that a call of theirs is served there."""

    opening: Floats
    connecting: Floats
    reconnecting: Floats
    ending: Bools
    rps: Floats
    bound: Floats
    served: Floats

    def otherwise(self, other: "Opens") -> bool:
        """Whether they are opened at other rates, or elsewhere."""
        mine, theirs = ((one.opening, one.connecting, one.reconnecting) for one in (self, other))
        return any(np.abs(a - b).max(initial=0.0) > ALIKE for a, b in zip(mine, theirs, strict=True))


@dataclass(frozen=True)
class Flow:
    """Rates (requests/s) at one moment; arrays over the network's indices.

    `pair_share[f, p]` is the share of its cell that pair p gets of the requests of fate f (one row when all fare
    alike); `pair_served` is what is served through each pair, `front_excess` the share of a front's answers that its
    balancer's bandwidth does not let through. `row_part` is the share of an entry's requests that each row of
    `entry_fronts` gets, `row_fate[r, k]` what becomes of them: the causes as in `plan.drills.CAUSES`, then SERVED and
    WORK and what else `KINDS` says. `opening[k, m]` is the rate (1/s) at which a source without a session of the k-th
    kind opens one on member m. `connecting[k, p]` is the share of the calls of the k-th kind of connection that would
    open one through pair p, made by a source that has none; `reconnecting[k, p]` the same of calls whose connection has
    just ended under them; `ending[k, p]`: such a connection ends with its first call, as nothing answers there;
    `bound_there` and `served_there` as in `Opens`. `work_out` finds the rates by place (`places`).
    """

    network: Network
    moment: Moment
    choice: Choice
    queue: Queue
    pair_share: Floats
    attempts: Tried
    opening: Floats
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
    zone_served: Floats
    latency_sum: float
    work_out: Callable[[], Places]

    @cached_property
    def places(self) -> Places:
        """Rates by place, worked out when somebody looks."""
        return self.work_out()

    @cached_property
    def requests(self) -> float:
        """Calls offered per second."""
        return float(self.moment.call_rps.sum())

    @cached_property
    def cause_rps(self) -> Floats:
        """Failed calls per second by cause."""
        return np.asarray(self.call_cause.sum(axis=0))

    @cached_property
    def served(self) -> float:
        """Served calls per second."""
        return float(self.call_served.sum())

    @cached_property
    def cross_zone(self) -> float:
        """Served calls per second whose front and target stand in different zones."""
        return float(self.pair_served[~self.network.pairs.same_zone].sum())

    @cached_property
    def mean_latency_s(self) -> float:
        """The mean latency of served calls, the client's round trip included; 0 when nothing is served."""
        return self.latency_sum / self.served if self.served > 0 else 0.0

    @cached_property
    def opens(self) -> Opens:
        """How sessions and connections are opened and end under these rates."""
        calls = np.array([kind.call for kind in self.network.connection_kinds], dtype=np.int64)
        rps = self.moment.call_rps[calls]
        return Opens(
            self.opening, self.connecting, self.reconnecting, self.ending, rps, self.bound_there, self.served_there
        )

    def call_fate(self, call: int) -> Floats:
        """What becomes of a call, by kind, as shares; also of one that nobody makes now."""
        mine = self.network.entries_of_call[call]
        return np.asarray(self.moment.told[mine] @ self.entry_fate[mine])

    def call_accepted(self, call: int) -> float:
        """The share of a call's connections that a living front takes which believes some target in use."""
        mine = self.network.entries_of_call[call]
        return float(self.moment.told[mine] @ self.entry_accepts[mine])
