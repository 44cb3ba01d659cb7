"""Until when shares may be taken to change evenly, and what they are on the mean until then."""

from collections.abc import Iterator
from dataclasses import replace

import numpy as np

from northgate.engine.base import NEVER, Floats
from northgate.engine.processes import Backlogs, Entry, Growth, Holdings, Resolvers, growth
from northgate.engine.solver import Flow, Opens, Solver

# Load-dependent shares are solved again when a hold time has changed by the fraction FOLLOWED, SHORTEST_S (s) later at
# the earliest; differences below EVEN are none.
FOLLOWED, SHORTEST_S, EVEN = 0.05, 0.05, 1e-9
# Where sessions and connections are opened otherwise as they themselves change a load, what is held on the mean is
# worked out again from how they are opened then, so often at most: what fails there is right to a hundred-thousandth.
MEAN_ROUNDS = 2
# What is linear changes from now to the end at most so many times as far as from now to the mean.
REACH = 2.5
# After so many steps that were not linear it is looked again whether rates are.
UNEVEN_STEPS = 4.5


class LookAhead:
    """When to look again at shares that change meanwhile (as old answers fade, as sessions are opened and end, and as
    those who are chosen by how busy they are follow their backlogs), and the mean flow until then.

    `faster`: how fast utilisations grow until then (1/s; None: not at all).
    """

    def __init__(
        self, solver: Solver, resolvers: Resolvers, holdings: Holdings, backlogs: Backlogs, end_s: float
    ) -> None:  # fmt: skip
        self._solver, self._resolvers, self._holdings, self._backlogs = solver, resolvers, holdings, backlogs
        # Nobody looks further than to the end.
        self._end_s, self._past_end_s = end_s, float(np.nextafter(end_s, np.inf))
        self.look_s = NEVER
        # Where rates were not linear, they are not expected to be so for a while.
        self._uneven_until_s = 0.0
        self.faster: Floats | None = None
        self._ahead: tuple[float, Flow] | None = None

    @property
    def moves(self) -> bool:
        """Whether shares change."""
        return self.look_s < NEVER

    def next_s(self, now: float) -> float:  # noqa: ARG002
        """When to look again."""
        return self.look_s

    def take(self, now: float) -> Iterator[Entry]:  # noqa: ARG002
        """What has changed is seen by the next solve."""
        yield from ()

    def opens(self, flow: Flow) -> Opens:
        """How sessions and connections are opened until then, on the mean; `flow` is that of now."""
        return (self._ahead[1] if self._ahead else flow).opens

    def look(self, flow: Flow, now: float, until: float) -> None:
        """Looks ahead from a flow to the second at which something else happens, or less far."""
        self._ahead, self.faster = None, None
        steady_s = min(self._resolvers.next_s(now), self._holdings.look_s(flow.opens, now))
        follow_s = self._follow_s(flow)
        self.look_s = min(steady_s, now + follow_s)
        if self.look_s == NEVER or self._goes_evenly(flow, now, until, follow_s):
            return
        self.look_s = min(self.look_s, until)
        mean = self._mean_ahead(flow, growth(flow), now, follow_s)
        if steady_s == NEVER and np.abs(mean.pair_share - flow.pair_share).max(initial=0.0) <= EVEN:
            # All that is busier is so alike.
            self.look_s = NEVER
            return
        self._look_ahead_to(mean, flow, now)

    def _look_ahead_to(self, mean: Flow, flow: Flow, now: float) -> None:
        self._ahead = min(self.look_s, self._end_s), mean
        self.faster = (mean.queue.utilisation - flow.queue.utilisation) / ((self.look_s - now) / 2)

    def _goes_evenly(self, flow: Flow, now: float, until: float, follow_s: float) -> bool:
        """Whether all goes as it goes now until something else happens, or a tail bends; if so, that far is looked.

        Rates are linear in what clients hold of one sort (answers, or sessions, or connections) while every request is
        sent and fares alike: then one look at what is held on the mean is exact, however far it reaches.
        """
        answers_s, far_s = self._resolvers.bends_s(now), self._holdings.drawn_s(flow.opens, now)
        held_s = self._holdings.look_s(flow.opens, now)
        sorts = (answers_s < NEVER) + (held_s < NEVER) * self._holdings.sorts
        far_s = min(until, self._past_end_s, far_s if answers_s == NEVER else answers_s)
        if follow_s < NEVER or sorts > 1 or far_s <= self.look_s or now < self._uneven_until_s:
            return False
        near_s, self.look_s = self.look_s, far_s
        mean = self._mean_ahead(flow, growth(flow), now, follow_s)
        if flow.treats_like(mean) and self._backlogs.kept(flow, mean, REACH):
            self._look_ahead_to(mean, flow, now)
            return True
        self.look_s, self._uneven_until_s = near_s, now + UNEVEN_STEPS * (near_s - now)
        return False

    def mean_until(self, flow: Flow, now: float, second: float) -> Flow:
        """The flow until a second, on the mean: what is linear in shares is that of their mean."""
        then, mean = self._ahead or (NEVER, flow)
        if then == second and not (self._backlogs.moves and len(self._solver.frame.busy_machines)):
            # What backlogs do meanwhile changes who is chosen by how busy they are, and nothing else before a bound.
            return mean
        grown = self._backlogs.grown or growth(flow)
        return self._mean_flow(flow, now, second, grown.mean(second - now), mean if then == second else None)

    def _mean_ahead(self, flow: Flow, grown: Growth, now: float, follow_s: float) -> Flow:
        """The mean flow until what is held is looked at again, backlogs growing so far meanwhile."""
        backlog_s = grown.mean(self.look_s - now) if follow_s < NEVER else grown.backlog_s
        return self._mean_flow(flow, now, self.look_s, backlog_s)

    def _mean_flow(self, flow: Flow, now: float, second: float, backlog_s: Floats, near: Flow | None = None) -> Flow:
        """The flow under the mean of what clients hold until a second, and these backlogs; `near`: one near it."""
        answers, mean = self._resolvers.mean_answers(now, second), near or flow
        for _ in range(1 if near else MEAN_ROUNDS):
            held, before = self._holdings.mean(mean.opens, second - now), mean
            came = {"attempts": mean.attempts, "shares": mean.pair_share}
            state = replace(flow.state, answers=answers, held=held, backlog_s=backlog_s, **came)
            mean = self._solver.solve(state)
            if not mean.opens.otherwise(before.opens):
                break
        return mean

    def _follow_s(self, flow: Flow) -> float:
        """How long until a hold of those who are chosen by how busy they are has changed by FOLLOWED; inf while none of
        their backlogs moves."""
        mine = self._solver.frame.busy_machines
        if not len(mine):
            return NEVER
        slope, hold_s = np.abs(growth(flow).slope[mine]), flow.queue.latency_s[mine]
        seconds = np.divide(FOLLOWED * hold_s, slope, out=np.full(len(mine), NEVER), where=slope > EVEN)
        return max(float(seconds.min()), SHORTEST_S)
