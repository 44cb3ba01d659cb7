"""A drill that has run."""

from bisect import bisect_right
from collections.abc import Mapping, Sequence
from operator import attrgetter
from typing import overload

import numpy as np
from msgspec import Struct, field
from msgspec.structs import replace

from northgate.engine.base import Bools, Floats, Ints, cached
from northgate.engine.drill.blind import BlindRow
from northgate.engine.drill.journal import Cascade, Event
from northgate.engine.drill.readings import Readings
from northgate.engine.network import Network
from northgate.engine.processes import AnswerHistory, Followed, Past, Vote, growth
from northgate.engine.solver import Flow, Opened, Opens, Solver, State
from northgate.plan.models.drills import Drill, Expectation


class Turns(Struct, frozen=True):
    """Verdicts after a keyframe that have none of their own: when, of which pair, and whether it is in use then."""

    at_s: Floats
    pairs: Ints
    in_use: Bools

    def after(self, in_use: Bools, second: float) -> Bools:
        """What is in use at a second, given what was at the keyframe."""
        later, come = in_use.copy(), self.at_s <= second
        later[self.pairs[come]] = self.in_use[come]
        return later


class Ends(Struct, frozen=True):
    """Rates just before the next keyframe, where they have gone there along a straight line; as in `Keyframe`."""

    zone_served: Floats
    cause_rps: Floats
    mechanism_rps: Floats
    utilisation: Floats
    latency_s: float
    stale: Floats


class Keyframe(Struct, frozen=True):
    """What rates depended on from `t_s` on, until the next keyframe, and the few of them that every reader asks for.

    Served by zone and failed by cause in requests/s, utilisation by machine; `moving`: some backlog grows or shrinks.
    `faster`: how utilisations go on (see `growth`). `failed`: the calls that have failed up to here.
    `opens`: how sessions and connections are opened until the next keyframe, on the mean; `followed`: how those are
    connected who hold older answers. `turns`: verdicts until then.
    """

    t_s: float
    state: State
    zone_served: Floats
    cause_rps: Floats
    mechanism_rps: Floats
    utilisation: Floats
    moving: bool
    latency_s: float
    faster: Floats | None
    stale: Floats
    failed: float
    opens: Opens
    followed: Followed = ()
    turns: Turns | None = None
    ends: Ends | None = None


class Flows(Sequence[Flow]):
    """The flows at the keyframes, each solved when it is asked for, unless it is kept (by second): to keep them all
    would fill the memory."""

    def __init__(self, network: Network, keyframes: Sequence[Keyframe], kept: Mapping[float, Flow]) -> None:
        self._network, self._keyframes, self._kept = network, keyframes, kept

    @cached
    def _solver(self) -> Solver:
        return Solver(self._network)

    def __len__(self) -> int:
        return len(self._keyframes)

    @overload
    def __getitem__(self, index: int) -> Flow: ...

    @overload
    def __getitem__(self, index: slice) -> "Flows": ...

    def __getitem__(self, index: int | slice) -> "Flow | Flows":
        if isinstance(index, slice):
            return Flows(self._network, self._keyframes[index], self._kept)
        frame = self._keyframes[index]
        known = self._kept.get(frame.t_s)
        return known if known and known.state is frame.state else self._solver.solve(frame.state)


class Story(Struct, frozen=True):
    """What has happened in a drill, without the rates: as in `DrillRun`."""

    drill: Drill
    blind: tuple[BlindRow, ...]
    events: tuple[Event, ...]
    history: AnswerHistory


class DrillRun(Struct, frozen=True, dict=True):
    """A drill, computed: keyframes at its events, blind rows, the log of events, and readings; what names answered, and
    what those held of that at any second who connected anew. `ends_s`: until when it was followed."""

    network: Network
    drill: Drill
    ends_s: float
    keyframes: tuple[Keyframe, ...]
    blind: tuple[BlindRow, ...]
    events: tuple[Event, ...]
    readings: Readings
    history: AnswerHistory
    past: Past
    votes: tuple[Vote, ...]
    cascade: Cascade | None = None
    kept: Mapping[float, Flow] = field(default_factory=dict)

    @property
    def flows(self) -> Flows:
        """The flow at each keyframe, solved anew when it is asked for."""
        return Flows(self.network, self.keyframes, self.kept)

    @property
    def story(self) -> Story:
        """What has happened, without the rates."""
        return Story(self.drill, self.blind, self.events, self.history)

    def held(self, expectation: Expectation) -> bool:
        """Whether an expectation is met."""
        got = self.readings.value(expectation.reading)
        low, high = expectation.at_least, expectation.at_most
        if expectation.reading == "settled_s" and not self.readings.settled and high is not None:
            # It has not settled within the drill: nobody knows how long it would take.
            return False
        return (low is None or got >= low) and (high is None or got <= high)

    def failed_by(self, second: float) -> float:
        """The calls that have failed by a second; none do after the end.

        Between two keyframes the rate goes along the parabola that meets the rates at both and fails as many in all
        (what has failed: Hermite's cubic).
        """
        frames = self.keyframes
        place = bisect_right(frames, second, key=attrgetter("t_s")) - 1
        frame, then = frames[place], frames[place + 1] if place + 1 < len(frames) else None
        then_s, by_then = (then.t_s, then.failed) if then else (self.ends_s, self.readings.failed)
        if second >= then_s:
            return by_then
        lasts_s, failed = then_s - frame.t_s, by_then - frame.failed
        past = (second - frame.t_s) / lasts_s
        if frame.ends is None:
            return frame.failed + past * failed
        begins, ends = (float(one.cause_rps.sum()) * lasts_s - failed for one in (frame, frame.ends))
        return frame.failed + past * (failed + (1 - past) * (begins * (1 - past) - ends * past))

    @cached
    def last(self) -> Flow:
        """The flow at its end."""
        return self.flow_at(self.ends_s)

    def flow_at(self, second: float) -> Flow:
        """The flow at any second: that of the last event up to it, with the backlogs as far as they have come."""
        times = [frame.t_s for frame in self.keyframes]
        index = max(int(np.searchsorted(times, second, side="right")) - 1, 0)
        flow, frame = self.flows[index], self.keyframes[index]
        if second <= frame.t_s or not (frame.moving or frame.turns):
            return flow
        if frame.turns:
            in_use = frame.turns.after(frame.state.in_use, second)
            return Solver(self.network).solve(replace(frame.state, in_use=in_use))
        seconds = second - frame.t_s
        then_s = times[index + 1] if index + 1 < len(times) else self.ends_s
        opened = _opened(flow.opens, frame.opens, seconds / (then_s - frame.t_s))
        held = self.past.after(frame.followed, frame.state.held, opened, seconds, second)
        answers = self.past.answers(second, frame.followed, held, opened)
        backlog_s = growth(flow, frame.faster).after(seconds)
        return Solver(self.network).solve(replace(frame.state, answers=answers, held=held, backlog_s=backlog_s))


def _opened(first: Opens, mean: Opens, past: float) -> Opened:
    """How sessions and connections are opened at first, half-way to a second, and then, which is so far (a part) on a
    stretch on which that goes along a straight line and is this on the mean."""
    half_way, then = (first.mixed((mean,), (1 - part, part)) for part in (past, 2 * past))
    return first, half_way, then
