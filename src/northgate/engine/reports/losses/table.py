"""What each loss comes to, and how far away overload is."""

import math
from bisect import bisect_left
from typing import Any

import numpy as np
from msgspec.structs import replace

from northgate.engine.base import Floats, Watch, go_on
from northgate.engine.drill import Losing, run_loss, undisturbed
from northgate.engine.network import compile_network
from northgate.engine.reports.losses.parts import Alike
from northgate.engine.reports.losses.year import failures_of
from northgate.engine.reports.model import AnswerModel
from northgate.engine.solver import Flow, Solver, State
from northgate.plan import Plan
from northgate.plan.models.faults import Part

# A factor is known to this part of itself; beyond FURTHEST nobody looks.
KNOWN_TO, FURTHEST = 0.005, 1000.0
# Under so much of the busiest load nothing is overloaded, whatever is lost.
LIGHT = 0.01


class LossRow(AnswerModel):
    """What the loss of some parts together comes to: requests that fail within an hour, blind time and time to settle
    (s), the share that stays unserved and the busiest target once all has settled. `of`: the classes of like
    parts that they are of, in words; `count`: for how many losses the row stands; `alone`: what fails when only the
    costlier of them is lost. `settled`: whether it settles within
    the hour; `failed_until_repaired`: what fails until the first of them is repaired, by the plan's `reliability`."""

    parts: list[dict[str, Any]]
    words: str
    of: list[str]
    kinds: list[str]
    count: int
    failed_requests: float
    alone: float
    blind_s: float
    settled_s: float
    settled: bool
    unserved_share: float
    peak_utilisation: float
    busiest: str
    cascade: bool
    failed_until_repaired: float


class Headroom(AnswerModel):
    """The factor on all clients at which a loss (None: no loss) turns into overload, and the target that is overloaded
    then, or the balancer whose bandwidth is; None where that is not below a thousand. Nobody is launched meanwhile:
    what an autoscaler adds is not counted."""

    lost: dict[str, Any] | None
    words: str
    factor: float | None
    limit: str | None


def part_data(part: Part) -> dict[str, Any]:
    """A part as it is written in a plan."""
    return part.model_dump(mode="json", exclude_none=True)


def parts_of(lost: list[Alike]) -> list[Part]:
    """One part of each class; of the same class twice, two of them."""
    return [lost[0].part, *([lost[1].another() if lost[1] == lost[0] else lost[1].part] if len(lost) > 1 else [])]


def loss_row(losing: Losing, lost: list[Alike]) -> LossRow:
    """What the loss of one of each of these comes to; of the same class twice, of two of them."""
    loss = losing.lose(parts_of(lost))
    readings, (busiest, used) = loss.run.readings, loss.busiest
    failed = loss.failed_by(3600.0)
    return LossRow(
        parts=[part_data(part) for part in parts_of(lost)],
        words=" and ".join(one.called for one in lost),
        of=[one.called for one in lost],
        kinds=[one.kind for one in lost],
        count=pairs_count(lost),
        failed_requests=failed,
        alone=failed,
        blind_s=readings.worst_blind_s,
        settled_s=readings.settled_s if loss.settled else 3600.0,
        settled=loss.settled,
        unserved_share=loss.unserved_share,
        peak_utilisation=used,
        busiest=busiest,
        cascade=loss.run.cascade is not None,
        failed_until_repaired=loss.failed_by(failures_of(losing.network.plan, lost[0].kind)[0].repair_s),
    )


def pairs_count(lost: list[Alike]) -> int:
    """How many losses a class, or a pair of classes, stands for."""
    if len(lost) == 1:
        return lost[0].count
    one, other = lost
    return one.count * (one.count - 1) // 2 if one == other else one.count * other.count


def headroom(plan: Plan, part: Part | None, watch: Watch = go_on) -> Headroom:
    """How much more clients may ask for until a target, or a balancer's bandwidth, is overloaded, after the loss of a
    part has settled, or without any loss.

    Without a loss beliefs are those of now, unless that is so already. Else they are those that the loss
    alone makes: what is noticed while clients ask for next to nothing. Fleets stay as many as they are: an autoscaler
    would let go all that next to nothing does not need.
    """
    flow, times = _settled(plan, part, watch)
    solver, asked = Solver(flow.network), flow.state.call_rps * times
    found = _limit(solver, flow, asked, watch)
    words = part.words if part else "nothing"
    lost = part_data(part) if part else None
    if found is None:
        return Headroom(lost=lost, words=words, factor=None, limit=None)
    return Headroom(lost=lost, words=words, factor=found[0], limit=found[1])


def _settled(plan: Plan, part: Part | None, watch: Watch) -> tuple[Flow, float]:
    """How all is once a loss has settled, and how many times as much clients ask for."""
    if part is None:
        now = undisturbed(compile_network(plan))
        if _used(now).max(initial=0.0) <= 1:
            return now, 1.0
    light = compile_network(_light(plan))
    return run_loss(light, [part], watch).run.last if part else undisturbed(light), 1 / LIGHT


def _limit(solver: Solver, flow: Flow, asked: Floats, watch: Watch) -> tuple[float, str] | None:
    """The factor on what is asked at which a target or a balancer is offered more than it can do, and which; None if
    beyond all."""

    def under(factor: float) -> State:
        return replace(flow.state, call_rps=asked * factor, attempts=None, shares=None)

    def over(factor: float) -> float:
        watch()
        return float(_used(solver.solve(under(factor))).max(initial=0.0)) - 1

    if over(FURTHEST) < 0:
        return None
    high = 1.0
    while over(high) < 0:
        high *= 2
    low = high / 2
    while low > 1e-6 and over(low) >= 0:
        high, low = low, low / 2
    # Among factors that lie so close to each other, the first that is too much.
    factors = np.geomspace(low, high, math.ceil(math.log(high / low) / KNOWN_TO) + 1).tolist()
    factor = factors[bisect_left(factors, 0.0, key=over, hi=len(factors) - 1)]
    network, busiest = flow.network, int(np.argmax(_used(solver.solve(under(factor)))))
    return factor, [*network.machines.names, *(one.name for one in network.plan.balancers)][busiest]


def _used(flow: Flow) -> Floats:
    """What part of what it can do each machine is offered, and each balancer of its bandwidth."""
    return np.concatenate([flow.queue.utilisation, flow.bandwidth_used])


def _light(plan: Plan) -> Plan:
    """A plan whose clients ask for next to nothing, and whose fleets nobody scales."""
    clients = [client.model_copy(update={"rps": client.rps * LIGHT}) for client in plan.clients]
    fleets = [fleet.model_copy(update={"scale": None}) for fleet in plan.fleets]
    lighter = plan.model_copy(update={"clients": clients, "fleets": fleets, "drills": []})
    return Plan.model_validate(lighter.model_dump(by_alias=True))
