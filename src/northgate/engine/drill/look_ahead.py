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


class LookAhead:
    """When to look again at shares that change meanwhile (as old answers fade, as sessions are opened and end, and as
    those who are chosen by how busy they are follow their backlogs), and the mean flow until then.

    `faster`: how fast utilisations grow until then (1/s; None: not at all).
    """

    def __init__(self, solver: Solver, resolvers: Resolvers, holdings: Holdings, backlogs: Backlogs) -> None:
        self._solver, self._resolvers, self._holdings, self._backlogs = solver, resolvers, holdings, backlogs
        self.look_s = NEVER
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

    def look(self, flow: Flow, now: float) -> None:
        """Looks ahead from a flow."""
        self._ahead, self.faster = None, None
        steady_s = min(self._resolvers.next_s(now), self._holdings.look_s(flow.opens, now))
        follow_s = self._follow_s(flow)
        self.look_s = min(steady_s, now + follow_s)
        if self.look_s == NEVER:
            return
        mean = self._mean_ahead(flow, growth(flow), now, follow_s)
        if steady_s == NEVER and np.abs(mean.pair_share - flow.pair_share).max(initial=0.0) <= EVEN:
            # All that is busier is so alike.
            self.look_s = NEVER
            return
        self._ahead = self.look_s, mean
        self.faster = (mean.queue.utilisation - flow.queue.utilisation) / ((self.look_s - now) / 2)

    def mean_until(self, flow: Flow, now: float, second: float) -> Flow:
        """The flow until a second, on the mean: what is linear in shares is that of their mean."""
        then, mean = self._ahead or (NEVER, flow)
        if then == second and not self._backlogs.moves:
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
