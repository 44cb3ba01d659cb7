"""The flows of later seconds, as shares change by themselves."""

from collections.abc import Callable

import numpy as np
from msgspec.structs import replace

from northgate.engine.base import NEVER, Floats
from northgate.engine.drill.ahead.course import Course
from northgate.engine.drill.ahead.found import FOUND_S
from northgate.engine.drill.ahead.patient import Patient
from northgate.engine.drill.ahead.steps import Past, Step, Stretch, faster_until
from northgate.engine.processes import Anew, Backlogs, Holdings, growth
from northgate.engine.solver import Attempts, Flow, Held, Opened, Opens, Solver

# What is held half-way is found again where more than OTHERWISE is held otherwise; or NEARLY, where it was led on from
# the last step, which is nearer than what it is held against.
OTHERWISE, NEARLY = 1e-5, 1e-4
# What comes so much sooner or later than it was looked for, shortly before, comes as was looked for.
SOON_S = 1e-3


class FlowsAhead:
    """The flows that follow from one of now, while nothing else happens; each is looked for near those that are known.

    `flow`: that of `now`; `past`: the last step, where it leads to now.
    """

    def __init__(self, solver: Solver, anew: Anew, holdings: Holdings) -> None:
        self._solver, self._anew, self._holdings = solver, anew, holdings
        self.past: Past | None = None

    def set_out(self, flow: Flow, now: float, past: Past | None) -> None:
        """From now on this is the flow of now."""
        self.past, self.flow, self.now = past, flow, now
        self._course = Course((*(past.known if past else ()), (now, flow)))
        self._ways: dict[float, Opened] = {}

    def move(self, flow: Flow, now: float) -> bool:
        """Whether anything moves by itself from a flow on: what is held, or a backlog."""
        looks_s = min(self._anew.resolvers.next_s(now), self._holdings.look_s(flow.opens, now))
        return looks_s < NEVER or growth(flow).moves

    def leave(self, later: Flow) -> None:
        """A later flow is beyond a jump: none before it is looked for near it."""
        self._course.leave(later)
        self._ways.clear()

    def begin(self, second: float) -> tuple[Attempts, Floats]:
        """The attempts and shares with which to begin to look for the flow of a second."""
        return self._course.at(second)

    def end_of(self, ahead: Stretch, rates: Callable[[Flow], Floats], second: float) -> Floats:
        """What rates come to at a second until which was looked. As they may jump there, they are led on to it from
        half-way and just before."""
        half, step, half_s = ahead.parts[0][0], ahead.step, (self.now + second) / 2
        if step:
            half, half_s = step.flows[1], (self.now + step.look_s) / 2
        faster = step.faster if step else faster_until(self.flow, half, self.now, second)
        if second < half_s + FOUND_S:
            half, half_s = self.flow, self.now
        last_s = second - min(FOUND_S, (second - half_s) / 2)
        if last_s <= half_s:
            # No second lies between.
            return rates(half)
        middle, last = rates(half), rates(self.at(last_s, faster, ahead.held))
        return np.asarray(last + (last - middle) * (second - last_s) / (last_s - half_s))

    def held_then(self, step: Step, second: float) -> Held:
        """What is held at a second in a step, or next to it, while sessions and connections are opened along the
        parabola through it."""
        return self._holdings.led_on(step.opened(second), second - step.now)[0]

    def middle(self, look_s: float, patient: Patient | None = None) -> Flow:
        """The flow half-way to a second; `patient`: who is asked whether backlogs have come as far as was thought."""
        flow, now = self.flow, self.now
        half_s = (now + look_s) / 2
        middle = self.at(half_s, self.faster(half_s))
        if self._holdings.sorts:
            most, held = NEARLY if self.past else OTHERWISE, self._held_at(half_s)
            if middle.state.held is None or held.apart(middle.state.held) > most:
                # Sessions and connections are opened otherwise meanwhile: what is held half-way is found again.
                return self.at(half_s, self.faster(half_s), held)
        faster = self.faster(half_s)
        if patient and not patient.lasts(middle, growth(flow, faster).after(half_s - now)):
            # With what has been worked off until then somebody gets an answer, or gives up.
            middle = self.at(half_s, faster, middle.state.held)
        return middle

    def faster(self, second: float) -> Floats:
        """How utilisations go until a second (see `Step.faster`), as far as is known."""
        return self._course.faster(self.now, second)

    def short(self, second: float) -> tuple[Stretch, float, Floats]:
        """A way until a second, so short that it goes as half-way, and how utilisations go on it."""
        middle = self.middle(second)
        ahead = Stretch(second, ((middle, 1.0),), middle.opens)
        return ahead, second, faster_until(self.flow, middle, self.now, second)

    def _held_at(self, second: float) -> Held:
        """What is held at a second, while sessions and connections are opened along the parabola, or line, through the
        flows that are known."""
        if not self._holdings.sorts or second <= self.now:
            return self._holdings.held
        return self._holdings.led_on(self._opened(second), second - self.now)[0]

    def _opened(self, second: float) -> Opened:
        """How sessions and connections are opened until a second, as far as is known; kept until another flow is
        known."""
        if second not in self._ways:
            half_way, then = (self._course.opens(at_s) for at_s in ((self.now + second) / 2, second))
            self._ways[second] = self.flow.opens, half_way, then
        return self._ways[second]

    def at(
        self, second: float, faster: Floats | None = None, held: Held | None = None, opened: Opened | None = None
    ) -> Flow:  # fmt: skip
        """The flow at a later second; utilisations grow so fast until then. `held`: what is held then, and `opened`:
        how connections are until then, where that does not follow from the flows that are known."""
        attempts, shares = self._course.at(second)
        held = held or self._held_at(second)
        if self._anew.followed:
            opened = opened or self._opened(second)
        state = replace(
            self.flow.state,
            answers=self._anew.answers(second, held, opened),
            held=held,
            backlog_s=growth(self.flow, faster).after(second - self.now),
            attempts=attempts,
            shares=shares,
        )
        found = self._solver.solve(state)
        self._course.add(second, found)
        self._ways.clear()
        return found

    def with_held(self, second: float, then: Flow, held: Held, opened: Opened) -> Flow:
        """A flow that was found at a second, where that is held, which is hardly otherwise; `opened`: how connections
        are until then."""
        answers = self._anew.answers(second, held, opened) if self._anew.followed else then.state.answers
        state = replace(then.state, answers=answers, held=held, attempts=then.attempts, shares=then.pair_share)
        return replace(then, state=state)

    def until(
        self, ahead: Stretch | None, second: float, backlogs: Backlogs, faster: Floats | None
    ) -> Stretch:  # fmt: skip
        """What lies ahead until a second, of what was looked at, on which utilisations go so (see `Step.faster`)."""
        if ahead is None or abs(ahead.end_s - second) <= (SOON_S if ahead.soon else 0.0):
            return ahead or Stretch(second, ((self.flow, 1.0),), self.flow.opens)
        if ahead.step:
            held = self.held_then(ahead.step, second)
            return replace(ahead, end_s=second, parts=ahead.step.parts(second), then=None, held=held)
        grown = backlogs.grown or growth(self.flow)
        mean = self.mean(second, grown.mean(second - self.now), ahead.opens)
        if ahead.evenly:
            return self.evenly(mean, second, faster if ahead.then else None)
        return Stretch(second, ((mean, 1.0),), mean.opens)

    def evenly(self, mean: Flow, second: float, faster: Floats | None) -> Stretch:
        """All that goes as now until a second, of which the mean flow is known; utilisations grow so `faster` where it
        is to be found what is held then (None: all goes along a straight line)."""
        held = self._holdings.after(mean.opens, second - self.now)
        then = None if faster is None else self.at(second, faster, held, (mean.opens,) * 3)
        return Stretch(second, ((mean, 1.0),), mean.opens, then, evenly=True)

    def mean(self, second: float, backlog_s: Floats, opens: Opens | None = None) -> Flow:
        """The flow under the mean of what clients hold until a second, and these backlogs: what is linear in shares is
        that of their mean. `opens`: how sessions and connections are opened meanwhile, where that is known."""
        flow, now = self.flow, self.now
        mean, known = flow, opens or flow.opens
        for _ in range(2):
            held = self._holdings.mean(known, second - now)
            answers = self._anew.mean_answers(now, second, held, known)
            state = replace(flow.state, answers=answers, held=held, backlog_s=backlog_s)
            mean = self._solver.solve(replace(state, attempts=mean.attempts, shares=mean.pair_share))
            if opens is not None or not mean.opens.otherwise(known):
                break
            known = mean.opens
        return mean
