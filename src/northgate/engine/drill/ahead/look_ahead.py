"""How far one may look ahead while shares change by themselves, and what rates are until then."""

from collections.abc import Callable, Iterable, Iterator

import numpy as np
from msgspec.structs import replace

from northgate.engine.base import NEVER, Floats, Ints
from northgate.engine.drill.ahead.chatter import Chatter
from northgate.engine.drill.ahead.flows import FlowsAhead
from northgate.engine.drill.ahead.found import FOUND_S, Found
from northgate.engine.drill.ahead.patient import Patient
from northgate.engine.drill.ahead.steps import (
    NEXT_TO_S,
    SHORTEST_S,
    Limits,
    Past,
    Step,
    Stretch,
    faster_until,
    stays,
    way_of,
)
from northgate.engine.drill.ahead.turning import ending, meets_in_s, turns_s
from northgate.engine.processes import Anew, Backlogs, Entry, Holdings, Probers, growth
from northgate.engine.solver import Flow, Opens, Solver, State

# Load-dependent shares are solved again when a hold time has changed by the fraction FOLLOWED, FOLLOWED_S (s) later at
# the earliest; differences below EVEN are none.
FOLLOWED, FOLLOWED_S, EVEN = 0.05, 0.05, 1e-9
# What is linear changes from now to the end at most so many times as far as from now to the mean.
REACH = 2.5
# After so many of the shortest steps that were not linear it is looked again whether rates are.
UNEVEN_STEPS = 6.0
# Where rates bend more, a step is still at least this part of what is looked at in any case: a kink is a kink. Before
# that so much of it is tried, and there it is looked for where rates jump, if they do.
SHORTER, SOUGHT = 8, 2
# A step is at most so many times as long as the last; of what seems to be right this part is tried; and what was too
# long is shortened by no more than this at once.
LONGER, SAFE, SHORTENED = 4.0, 0.85, 1 / 16
# In so short a time (s) nothing changes.
INSTANT_S = 1e-6
# When a backlog meets its bound, or somebody gives up, is found again so many times, as what is known of rates grows;
# once a whole step is known, it is moved by no more than this part of it.
CORRECTED, MOVED = 2, 1 / 8
# A step on which rates bend so many times as far as they change leads nowhere; one half-way through which they have
# jumped is made so many times shorter.
WILD, NEARER = 5.0, 4


class LookAhead:
    """When to look again at shares that change meanwhile (as old answers fade, sessions are opened and end, and those
    who are chosen by how busy they are follow their backlogs), and the rates until then.

    Where rates are linear in what is held, the flow of what is held on the mean is exact, however far ahead; elsewhere
    steps are as long as rates bend little, and added up by Simpson's rule. `found`: what every probe finds under a
    flow, and which machines keep up; `flows`: those of later seconds; `faster`: how utilisations go until then (see
    `growth`; None: they stay as they are); `blind_until_s`: until when nobody looks for what turns.
    """

    def __init__(
        self, solver: Solver, anew: Anew, holdings: Holdings, backlogs: Backlogs,
        found: Callable[[Flow], Found], end_s: float,
    ) -> None:  # fmt: skip
        self._solver, self._resolvers, self._holdings, self._backlogs = solver, anew.resolvers, holdings, backlogs
        self._found = found
        # Nobody looks further than to the end.
        self._end_s, self._past_end_s = end_s, float(np.nextafter(end_s, np.inf))
        self.look_s = NEVER
        # Where rates were not linear, they are not expected to be so for a while.
        self._uneven_until_s = 0.0
        # When something was last seen to turn, on a step that then was too long.
        self._turns_s = NEVER
        # How long the last step was that bent little enough, where rates are not linear, whether these stayed as they
        # were on it, and that step.
        self._step_s, self._still = 0.0, False
        self._past: Past | None = None
        self.flows = FlowsAhead(solver, anew, holdings)
        self.faster: Floats | None = None
        self._ahead: Stretch | None = None
        self._chatter, self.blind_until_s = Chatter(), 0.0

    @property
    def moves(self) -> bool:
        """Whether shares change."""
        return self.look_s < NEVER

    def tell(self, probers: Iterable[Probers], flow: Flow, now: float) -> None:
        """Tells those who want to know whether anything moves by itself from a flow on."""
        for some in probers:
            some.moves = some.follows and self.flows.move(flow, now)

    def next_s(self, now: float) -> float:  # noqa: ARG002
        """When to look again."""
        return self.look_s

    def take(self, now: float) -> Iterator[Entry]:  # noqa: ARG002
        """What has changed is seen by the next solve."""
        yield from ()

    def opens(self, flow: Flow) -> Opens:
        """How sessions and connections are opened until then, on the mean; `flow` is that of now."""
        return self._ahead.opens if self._ahead else flow.opens

    def there(self, state: State, now: float) -> Flow | None:
        """The flow of a state, if it is the one to which was looked ahead."""
        return self._ahead.flow_of(state, now, self._backlogs) if self._ahead else None

    def look(self, flow: Flow, now: float, until: float) -> None:
        """Looks ahead from a flow to the second at which something else happens, or less far."""
        jumped = now in (self._turns_s, self._backlogs.next_s(now))
        self._ahead, self.faster, self.look_s, before = None, None, NEVER, self.faster
        self.blind_until_s = now
        self.flows.set_out(flow, now, self._past if self._past and self._past.leads_to(flow, now) else None)
        answers_s, held_s = self._resolvers.next_s(now), self._holdings.look_s(flow.opens, now)
        follow_s = now + _follow_s(flow, self._solver.frame.busy_machines)
        near_s = min(answers_s, held_s, follow_s)
        if near_s == NEVER or until <= now:
            return None
        spare_s = Patient(self._backlogs, flow).nearest_s(flow)
        if blind_s := self._chatter.blindly_s(now, spare_s, jumped=jumped):
            self.blind_until_s = now + blind_s
            return self._go_short(now, min(self.blind_until_s, until, self._past_end_s), self.blind_until_s)
        bends_s, drawn_s = self._resolvers.bends_s(now), self._holdings.drawn_s(flow.opens, now)
        far_s = min(until, self._past_end_s, bends_s, self._resolvers.meets_s(now), drawn_s)
        sorts = (answers_s < NEVER) + (held_s < NEVER) * self._holdings.sorts
        even = follow_s == NEVER and sorts == 1 and now >= self._uneven_until_s
        if even and self._goes_evenly(flow, now, far_s, straight=held_s == NEVER):
            return None
        self._uneven_until_s = max(self._uneven_until_s, now + UNEVEN_STEPS * (near_s - now))
        steady = min(answers_s, held_s) == NEVER
        # What happens beyond the next bound of a backlog is not to be seen from here; mostly rates bend as before.
        meets = self._backlogs.meets(flow, now, before)
        jump_s = min(until, meets.at_s)
        sure_s, far_s = far_s, min(far_s, jump_s)
        if far_s < now + SHORTEST_S:
            return self._go_short(now, far_s, now + SHORTEST_S)
        limits = Limits(min(near_s, far_s), far_s, jump_s, sure_s, meets.jumps and meets.at_s <= until)
        return self._step(flow, now, limits, steady=steady)

    def _go_short(self, now: float, far_s: float, look_s: float) -> None:
        """Goes so short a way, at most, until it is looked again."""
        if far_s > now + INSTANT_S:
            self._go(*self.flows.short(far_s))
        self.look_s = look_s

    def _goes_evenly(self, flow: Flow, now: float, far_s: float, *, straight: bool) -> bool:
        """Whether all goes as it goes now until something else happens, or a tail bends; if so, that far is looked.

        Rates are linear in what clients hold of one sort (answers, or sessions, or connections) while every request is
        sent and fares alike. Answers change along a straight line; of what else is held the mean is known, and what it
        comes to, and so the backlogs at the end: where one meets its bound before, that is the end.
        """
        for _ in range(CORRECTED + 1):
            mean = self.flows.mean(far_s, flow.state.backlog_s)
            if not (flow.treats_like(mean) and self._backlogs.kept(flow, mean, REACH)):
                return False
            faster = faster_until(flow, mean, now, far_s)
            meets_s = NEVER if straight else self._backlogs.meets(flow, now, faster).at_s
            if not now + SHORTEST_S < meets_s < far_s - INSTANT_S:
                break
            far_s = meets_s
        self._go(self.flows.evenly(mean, min(far_s, self._end_s), None if straight else faster), far_s, faster)
        return True

    def _go(self, ahead: Stretch, look_s: float, faster: Floats) -> None:
        self._ahead, self.look_s, self.faster = ahead, look_s, faster

    def _step(self, flow: Flow, now: float, limits: Limits, *, steady: bool) -> None:
        """Looks as far ahead as rates bend little, within these limits."""
        shortest_s, sought_s = (now + (limits.near_s - now) / part for part in (SHORTER, SOUGHT))
        corrected, turned, busy = 0, 0, self._solver.frame.busy_machines
        patient = Patient(self._backlogs, flow)
        # What was too long for the last step is not tried again.
        longest_s = max(now + self._step_s, shortest_s if self.flows.past else limits.near_s)
        turns, turned_s, still = False, self._turns_s, self._still and not limits.jumps
        look_s = limits.far_s if still or limits.far_s < now + 1.5 * (longest_s - now) else longest_s
        look_s = turned_s if now + SHORTEST_S < turned_s < look_s else look_s
        while True:
            # Where rates did not change lately, it is seen at the end whether they do.
            middle = flow if still else self.flows.middle(look_s, patient)
            if look_s > now + NEARER * SHORTEST_S and not patient.lasts(middle):
                # Beyond a jump nothing tells how rates change before it.
                self.flows.leave(middle)
                look_s, turns = now + (look_s - now) / NEARER, False
                shortest_s = min(shortest_s, look_s)
                continue
            if steady and not still and np.abs(middle.pair_share - flow.pair_share).max(initial=0.0) <= EVEN:
                # All that is busier is so alike.
                return
            meets = self._backlogs.meets(flow, now, faster_until(flow, middle, now, look_s))
            if now + SHORTEST_S < meets.at_s < look_s - FOUND_S and corrected < CORRECTED:
                # Rates bend: a backlog comes to its bound sooner than it seemed.
                corrected, look_s, shortest_s = corrected + 1, meets.at_s, min(shortest_s, meets.at_s)
                limits = replace(limits, jump_s=meets.at_s, jumps=meets.jumps)
                continue
            # Of what jumps it is asked how things are just before.
            jumps = turns or look_s == turned_s or (look_s == limits.jump_s and limits.jumps)
            last_s = look_s - min(FOUND_S, (look_s - now) / 4) if jumps else look_s
            end = ending(self.flows, middle, look_s, last_s, patient if turned < CORRECTED else None)
            last, turned, turns = end.flow, turned + end.sooner, turns and not end.sooner
            if still and not stays(flow, last):
                still = False
                continue
            way = way_of(self._holdings, busy, (flow, middle, last), look_s - now, last_s - now)
            # Where rates jump to and fro, nothing is to be found on the way between.
            wild = way.bent > WILD and look_s > sought_s
            crossing_s = look_s if wild or turns else turns_s(self.flows, self._found, patient, middle, end)
            if crossing_s < last_s - FOUND_S or not (wild or turns or patient.lasts(last)):
                look_s, turns, shortest_s = crossing_s, True, min(shortest_s, crossing_s)
                self._turns_s = crossing_s
                continue
            if look_s <= shortest_s or way.fits:
                break
            least_s = sought_s if look_s > sought_s else shortest_s
            look_s, turns = max(least_s, now + (look_s - now) * max(SAFE * way.longer, SHORTENED)), False
        step = Step(now, look_s, last_s, (flow, middle, last), way, jumps=jumps)
        self._take_step(step, limits.sure_s if look_s == limits.jump_s else now)

    def _take_step(self, step: Step, sure_s: float) -> None:
        """Goes a step that bends little; where it ends before `sure_s`, a backlog is at its bound, then or nearly."""
        now, look_s, way, (flow, middle, last) = step.now, step.look_s, step.way, step.flows
        self._still = stays(flow, last)
        self._step_s = (look_s - now) * min(SAFE * way.longer, LONGER)
        if look_s < sure_s:
            meets_s = meets_in_s(self._backlogs, step)
            if 0 < abs(meets_s - look_s) < MOVED * (look_s - now):
                look_s = min(meets_s, sure_s)
                way = replace(way, held=self.flows.held_then(step, look_s))
        held = way.held if way.fits else None
        # Where it leads on smoothly, and as far as was looked.
        leads_on = not step.jumps and abs(look_s - step.look_s) <= NEXT_TO_S
        happens = now < sure_s <= look_s
        then = last if leads_on else None
        if then and held:
            then = self.flows.with_held(look_s, then, held, step.opened(look_s))
        self._past = Past(look_s, look_s - now, step.flows) if then and not happens else None
        end_s = min(look_s, self._end_s)
        if then and not held:
            held = then.state.held
        ahead = Stretch(end_s, step.parts(end_s), middle.opens, then, held, step=step)
        self._go(ahead, look_s, step.faster)

    def until(self, second: float) -> Stretch:
        """What lies ahead until a second: all that was looked at, or less."""
        return self.flows.until(self._ahead, second, self._backlogs, self.faster)


def _follow_s(flow: Flow, mine: Ints) -> float:
    """How long until a hold of these machines, chosen by how busy they are, has changed by FOLLOWED; inf while none of
    their backlogs moves."""
    if not len(mine):
        return NEVER
    slope, hold_s = np.abs(growth(flow).slope[mine]), flow.queue.latency_s[mine]
    seconds = np.divide(FOLLOWED * hold_s, slope, out=np.full(len(mine), NEVER), where=slope > EVEN)
    return max(float(seconds.min()), FOLLOWED_S)
