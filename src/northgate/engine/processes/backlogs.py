"""Backlogs between events: how far they have come, and when the next one meets a bound.

A bound is a full queue, an empty one, or a latency beyond which a client or a probe no longer waits. What is offered is
constant between events, or changes evenly with the share that old answers still lead, or along a parabola; so a backlog
`b` is a polynomial, `b + (u - 1) t + u' t^2 / 2 + u'' t^3 / 6`, and meets its bounds at the roots of that.
"""

from collections.abc import Iterator

import numpy as np
from msgspec import Struct
from msgspec.structs import replace

from northgate.engine.base import (
    NEVER,
    Bools,
    Floats,
    Floats1,
    Floats2,
    Ints,
    Ints1,
    compiled,
    some,
    total_by,
    where_true,
)
from northgate.engine.formulas import AT_BOUND_S, cubic_meets_s, meets_s
from northgate.engine.network import Network
from northgate.engine.processes.process import Entry
from northgate.engine.processes.world import World
from northgate.engine.solver import Flow
from northgate.engine.truth import Patience, Truth


class Growth(Struct, frozen=True):
    """How backlogs change from an event on, per machine: by `slope` (seconds of work a second), which itself changes by
    `bend` a second, and that by `third`. All are 0 where a queue stays empty or full. `turns_s`: how long until what is
    offered comes to what can be worked off."""

    backlog_s: Floats
    slope: Floats
    bend: Floats
    third: Floats
    turns_s: Floats

    @property
    def moves(self) -> bool:
        """Whether any backlog changes."""
        return some(self.slope) or some(self.bend) or some(self.third)

    def after(self, seconds: float) -> Floats:
        """The backlogs `seconds` later."""
        bend = self.bend / 2 + self.third * (seconds / 6)
        return np.maximum(self.backlog_s + (self.slope + bend * seconds) * seconds, 0.0)

    def mean(self, seconds: float) -> Floats:
        """The mean backlogs over the next `seconds` (the integral of the cubic, over their length)."""
        bend = self.bend / 6 + self.third * (seconds / 24)
        return np.maximum(self.backlog_s + (self.slope / 2 + bend * seconds) * seconds, 0.0)


def growth(flow: Flow, faster: Floats | None = None) -> Growth:
    """How backlogs change under a flow whose utilisations go by `faster` (2, machines): as u + a t + b t^2 (None: they
    stay as they are)."""
    used, backlog = flow.queue.utilisation, flow.state.backlog_s
    slope, bend, third, turns_s = np.empty((4, len(used)))
    more = np.zeros((2, len(used))) if faster is None else faster
    _find_growth(used, more, backlog, flow.network.machines.queue_s, slope, bend, third, turns_s)
    return Growth(backlog, slope, bend, third, turns_s)


@compiled
def _find_growth(
    used: Floats1, faster: Floats2, backlog_s: Floats1, queue_s: Floats1, slope: Floats1, bend: Floats1,
    third: Floats1, turns_s: Floats1,
) -> None:  # fmt: skip
    for place in range(len(used)):
        grows, more, ever_more = used[place] - 1, faster[0, place], 2 * faster[1, place]
        even = abs(grows) <= AT_BOUND_S
        if grows > AT_BOUND_S or (even and more > 0):
            rests = backlog_s[place] >= queue_s[place] - AT_BOUND_S
        else:
            rests = backlog_s[place] <= AT_BOUND_S
        slope[place] = 0.0 if rests or even else grows
        bend[place], third[place] = (0.0, 0.0) if rests else (more, ever_more)
        turns_s[place] = meets_s(grows, more, ever_more)


class Crossing(Struct, frozen=True):
    """The next meeting of a backlog with a bound: when, which machines, and the backlog that they then have. `jumps`:
    rates jump then, as a queue is full or somebody gives up; where a queue is empty, what is offered comes to what can
    be worked off, or a probe alone waits in vain, they do not."""

    at_s: float
    machines: Ints
    backlog_s: Floats
    jumps: bool = False


# Where it stands among what a backlog may meet: first the full queue, then the empty one, then what somebody waits.
EMPTY = 1
NO_BOUNDS = np.zeros((1, 0))
NO_CROSSING = Crossing(NEVER, np.zeros(0, dtype=np.int64), np.zeros(0))


def next_crossing(flow: Flow, grown: Growth, bounds_s: Floats, now: float, probes: int = 0) -> Crossing:
    """When, from `now` on, a backlog next meets a bound, or turns; its growth holds until then. `bounds_s` (machines or
    1, bounds): beyond which latency somebody gives up (s), of which the last so many are those of probes."""
    turns = float(grown.turns_s.min(initial=NEVER))
    if not grown.moves:
        return replace(NO_CROSSING, at_s=now + turns)
    each, aims = np.empty((2, len(grown.slope)))
    which = np.empty(len(each), dtype=np.int64)
    _find_meetings(
        grown.backlog_s, grown.slope, grown.bend, grown.third, flow.network.machines.queue_s, flow.queue.latency_s,
        bounds_s, each, aims, which,
    )  # fmt: skip
    soonest = min(float(each.min()), turns)
    if soonest == NEVER:
        return NO_CROSSING
    meets = where_true(each <= soonest + AT_BOUND_S)
    at = which[meets]
    jumps = (at != EMPTY) & (at < bounds_s.shape[1] + EMPTY + 1 - probes)
    return Crossing(now + soonest, meets, aims[meets], bool(jumps.any()))


@compiled
def _find_meetings(
    backlog_s: Floats1, slope: Floats1, bend: Floats1, third: Floats1, queue_s: Floats1, latency_s: Floats1,
    bounds_s: Floats2, each: Floats1, aims: Floats1, which: Ints1,
) -> None:  # fmt: skip
    """Per machine in how many seconds its backlog next meets a bound, the backlog that this is, and which bound: the
    full queue, the empty one, or what somebody waits."""
    for place in range(len(slope)):
        each[place], aims[place], which[place] = NEVER, 0.0, 0
        if slope[place] == 0 and bend[place] == 0 and third[place] == 0:
            continue
        backlog, full = backlog_s[place], queue_s[place]
        of_bounds = bounds_s[min(place, bounds_s.shape[0] - 1)]
        for number in range(len(of_bounds) + EMPTY + 1):
            aim = full if number < EMPTY else 0.0
            if number > EMPTY:
                aim = of_bounds[number - EMPTY - 1] - (latency_s[place] - backlog)
            if 0 <= aim <= max(full, backlog) + AT_BOUND_S:
                second = cubic_meets_s(backlog - aim, slope[place], bend[place], third[place])
                if second < each[place]:
                    each[place], aims[place], which[place] = second, aim, number


class Backlogs:
    """The backlog of each machine (seconds of work), how it grows, and when it next meets a bound."""

    def __init__(self, world: World) -> None:
        self.network, self.world = world.network, world
        self.backlog_s: Floats = np.zeros(len(self.network.machines.names))
        self.patience = self.network.derived(Patience)
        self._bounds: tuple[Flow | None, Floats] = (None, np.zeros(0))
        self._crossing: Crossing = NO_CROSSING
        self.grown: Growth | None = None
        # The last second at which a backlog has come to nothing.
        self.emptied_s = 0.0

    @property
    def moves(self) -> bool:
        """Whether any backlog changes."""
        return self.grown is not None and self.grown.moves

    def kept(self, flow: Flow, mean: Flow, reach: float) -> bool:
        """Whether all machines and bandwidths stay on the side of every bound on which they are, if utilisations change
        `reach` times as far as from a flow to the mean of what follows: none is then overloaded, or slower than
        somebody waits, that is not so now."""
        now, later = flow.queue.utilisation, flow.queue.utilisation * (1 - reach) + mean.queue.utilisation * reach
        wide, then = flow.bandwidth_used, flow.bandwidth_used * (1 - reach) + mean.bandwidth_used * reach
        if ((now > 1) != (later > 1)).any() or ((wide > 1) != (then > 1)).any():
            return False
        stations = self.network.machines.stations(flow.state.truth.slowness)
        more_s = stations.mean_wait_s(later) - stations.mean_wait_s(now)
        latency_s = flow.queue.latency_s
        low, high = (np.where(more_s > 0, one, other) for one, other in ((0.0, more_s), (more_s, 0.0)))
        between = self.bounds_s(flow) - latency_s[:, None]
        return not ((between >= low[:, None] - AT_BOUND_S) & (between <= high[:, None] + AT_BOUND_S)).any()

    def bounds_s(self, flow: Flow) -> Floats:
        """Per machine every latency (s) beyond which somebody gives up who comes there under a flow, or does so while
        nothing else happens: (machines, bounds)."""
        known, bounds_s = self._bounds
        if known is not flow:
            asks_s = np.where(_sent_to(flow)[:, None], self.patience.bounds_s(_comes(flow)), NEVER)
            bounds_s = np.concatenate([asks_s, self.patience.probes_s], axis=1)
            self._bounds = flow, bounds_s
        return bounds_s

    def asks_s(self, flow: Flow) -> tuple[Ints, Floats]:
        """The machines at which requests come, and the latencies (s) beyond which who asks there gives up."""
        asks_s = self.bounds_s(flow)[:, : -self.patience.probes_s.shape[1] or None]
        machine, bound = np.nonzero(asks_s < NEVER)
        return machine, asks_s[machine, bound]

    def meet(self, before: Truth) -> None:
        """Truth has changed: machines lose their queue, or work at another speed."""
        truth = self.world.truth
        self.backlog_s = np.where(_emptied(self.network, truth), 0.0, self.backlog_s)
        self.backlog_s = self.backlog_s * (truth.slowness / before.slowness)

    def look(self, flow: Flow, faster: Floats | None, now: float, blind_until_s: float = 0.0) -> None:
        """From now on backlogs grow as under this flow, whose utilisations go by `faster` (see `growth`); until a
        second it does not matter what they meet."""
        self.grown = growth(flow, faster)
        crossing = self._next(flow, self.grown, now)
        self._crossing = NO_CROSSING if now < blind_until_s and crossing.at_s < blind_until_s else crossing

    def meets(self, flow: Flow, now: float, faster: Floats | None = None) -> Crossing:
        """When a backlog would next meet a bound, were rates to stay as in a flow, but utilisations to go by `faster`
        (see `growth`)."""
        return self._next(flow, growth(flow, faster), now)

    def _next(self, flow: Flow, grown: Growth, now: float) -> Crossing:
        bounds_s = self.bounds_s(flow) if grown.moves else NO_BOUNDS
        return next_crossing(flow, grown, bounds_s, now, self.patience.probes_s.shape[1])

    def after(self, seconds: float) -> Floats:
        """The backlogs so many seconds later."""
        return self.backlog_s if self.grown is None else self.grown.after(seconds)

    def advance(self, later_s: Floats, second: float) -> None:
        """It is this second, and these are the backlogs; those that have met their bound are there exactly."""
        self.backlog_s = later_s
        if second >= self._crossing.at_s:
            self.backlog_s[self._crossing.machines] = self._crossing.backlog_s
            if (self._crossing.backlog_s == 0).any():
                self.emptied_s = second

    def next_s(self, now: float) -> float:  # noqa: ARG002
        """When the next backlog meets a bound."""
        return self._crossing.at_s

    def take(self, now: float) -> Iterator[Entry]:  # noqa: ARG002
        """What is met at a bound is seen by the next solve."""
        yield from ()


def _comes(flow: Flow) -> Bools:
    """Per arrival whether anybody comes by it under a flow, or will as old answers fade; probes that are calls are not
    counted among requests, and come all the same."""
    network, state = flow.network, flow.state
    entries, arrivals = network.entries, network.arrivals
    told = state.dns_share > 0 if state.fresh is None else (state.dns_share > 0) | (state.fresh > 0)
    calls = (state.call_rps > 0) | (network.calls.client >= len(network.plan.clients))
    return (told & calls[entries.call])[arrivals.entry] & (flow.row_part > 0)


def _sent_to(flow: Flow) -> Bools:
    """Per machine whether any front sends requests there under a flow, or a connection leads there."""
    network, state = flow.network, flow.state
    pairs = state.in_use | (flow.pair_share > 0).any(axis=0)
    if state.held is not None:
        pairs = pairs | (state.held.connections > 0).any(axis=0)
    return np.asarray(total_by(network.pairs.machine, pairs, len(network.machines.names)) > 0)


def _emptied(network: Network, truth: Truth) -> Bools:
    """Machines that lost their queue: silent ones, and those all of whose services refuse."""
    count = len(network.machines.names)
    serving = total_by(network.services.machine, ~truth.service_refuses, count)
    return np.asarray(truth.machine_silent | ((serving == 0) & truth.service_refuses.any()))
