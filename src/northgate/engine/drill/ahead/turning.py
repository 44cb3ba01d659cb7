"""How a step ends, and when on the way something turns."""

from collections.abc import Callable

import numpy as np
from msgspec import Struct

from northgate.engine.base import Floats, same
from northgate.engine.drill.ahead.flows import FlowsAhead
from northgate.engine.drill.ahead.found import FOUND_S, Found
from northgate.engine.drill.ahead.patient import Patient
from northgate.engine.drill.ahead.steps import SHORTEST_S, Step, faster_until, parabola, utilisation_of
from northgate.engine.formulas import AT_BOUND_S
from northgate.engine.processes import Backlogs, growth
from northgate.engine.solver import Flow


class Ending(Struct, frozen=True):
    """The flow at the end of a step, at `last_s`; and how utilisations go until then, as far as is known (see
    `Step.faster`): along a straight line through that half-way, or, where somebody gets an answer, or gives up,
    `sooner` than was thought, along the parabola through all three."""

    flow: Flow
    last_s: float
    faster: Floats
    sooner: bool


def ending(flows: FlowsAhead, middle: Flow, look_s: float, last_s: float, patient: Patient | None) -> Ending:
    """How a step until a second ends, of which the flow half-way is known; `patient`: who is asked whether somebody
    turns with what has been worked off until then (None: nobody is)."""
    first, now = flows.flow, flows.now
    last, straight = flows.at(last_s, flows.faster(last_s)), faster_until(first, middle, now, look_s)
    if patient is None or not patient.lasts(last):
        return Ending(last, last_s, straight, sooner=False)
    bent = np.array(parabola([*map(utilisation_of, (first, middle, last))], (look_s - now) / 2, last_s - now))
    if patient.lasts(last, growth(first, bent).after(last_s - now)):
        return Ending(last, last_s, straight, sooner=False)
    return Ending(flows.at(last_s, bent), last_s, bent, sooner=True)


def turns_s(
    flows: FlowsAhead, found_under: Callable[[Flow], Found], patient: Patient, middle: Flow, end: Ending
) -> float:
    """The second, before that of the end of a step, from which on a probe finds another thing than now, a machine keeps
    up no longer, or who asks there gives up; that of the end if there is none. `middle`: the flow half-way."""

    def beside(found: Found, flow: Flow) -> Found:
        if not patient.lasts(flow):
            # Who gives up may do so because others do: until nobody can do else, all is as before the first did.
            flows.leave(flow)
        return found.beside(patient.spare_s(flow))

    def found_at(second: float) -> Found:
        flow = flows.at(second, end.faster)
        return beside(found_under(flow), flow)

    now, half_way = found_under(flows.flow), found_under(middle)
    if now.turns_now(half_way):
        # What is found from now on is known as soon as it has turned.
        return min(flows.now + SHORTEST_S, end.last_s)
    first, last = beside(now, flows.flow), beside(found_under(end.flow), end.flow)
    return first.turns_s(beside(half_way, middle), last, found_at, flows.now, end.last_s)


def meets_in_s(backlogs: Backlogs, step: Step) -> float:
    """The second at which a backlog meets its bound in a step, or next to it. How long answers take besides changes
    with load: so what somebody waits is met as it seems from its last flow, if soon after that; else it is looked again
    then."""
    first = backlogs.meets(step.flows[0], step.now, step.faster)
    last = backlogs.meets(step.flows[2], step.last_s, step.faster_then)
    if not step.jumps or not same(first.machines, last.machines):
        return first.at_s
    now_s, then_s = (one.queue.latency_s - one.state.backlog_s for one in (step.flows[0], step.flows[2]))
    more_s, moved_s = last.backlog_s - first.backlog_s, (now_s - then_s)[first.machines]
    waits = (np.abs(more_s) > AT_BOUND_S) & (np.abs(more_s - moved_s) < AT_BOUND_S)
    soon_s = last.at_s if last.at_s < step.look_s + FOUND_S else step.look_s
    return soon_s if waits.all() else first.at_s
