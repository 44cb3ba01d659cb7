"""What if this were lost? The three moments of a loss: at once, noticed, settled."""

from collections.abc import Collection, Sequence

import numpy as np

from northgate.engine.base import CannotRun, Watch, go_on
from northgate.engine.drill import DrillRun, run_drill
from northgate.engine.network import Network
from northgate.engine.reports.board.model import BoardState
from northgate.engine.reports.board.state import board_state
from northgate.engine.reports.model import AnswerModel
from northgate.plan.models.drills import Drill, Step
from northgate.plan.models.faults import Part
from northgate.plan.references import dangling

LOST_AT_S = 60.0
AT_MOST_S = 3600.0


class WhatIfAnswer(AnswerModel):
    """The board at the three moments of a loss; times are seconds after it, at worst (probes just missed it).

    Noticed: all verdicts on what was lost have come, and the votes of names that follow. Settled: no belief, address or
    backlog changes any more, and nobody holds an answer from before; `settles` is false where that does not happen
    within the hour that is looked at. `failed_until_noticed` is the integral of what fails until then.
    """

    at_once: BoardState
    noticed: BoardState
    settled: BoardState
    noticed_after_s: float
    settled_after_s: float
    failed_until_noticed: float
    settles: bool


def what_if(
    network: Network, faults: Sequence[Part], groups: Collection[str] | None = None, watch: Watch = go_on
) -> WhatIfAnswer:
    """Fails the parts together and follows the loss, with the probes where they notice it last.

    Raises CannotRun when a part is not in the plan.
    """
    run = _loss(network, faults, watch)
    times = [frame.t_s for frame in run.keyframes]
    lost, noticed = times.index(LOST_AT_S), times.index(_noticed_s(run))
    return WhatIfAnswer(
        at_once=board_state(run.flows[lost], 0.0, groups),
        noticed=board_state(run.flows[noticed], times[noticed] - LOST_AT_S, groups),
        settled=board_state(run.flows[-1], run.readings.settled_s, groups),
        noticed_after_s=times[noticed] - LOST_AT_S,
        settled_after_s=run.readings.settled_s,
        failed_until_noticed=run.keyframes[noticed].failed - run.keyframes[lost].failed,
        settles=run.readings.settled,
    )


def _loss(network: Network, faults: Sequence[Part], watch: Watch) -> DrillRun:
    """The drill that loses these parts and never brings them back."""
    steps = [Step(at_s=LOST_AT_S, fail=fault) for fault in faults]
    drill = Drill(name="what-if", lasts_s=LOST_AT_S + AT_MOST_S, phases="worst", steps=steps)
    unknown = dangling(network.plan.model_copy(update={"drills": [drill]}))
    if unknown:
        raise CannotRun(unknown)
    return run_drill(network, drill, watch)


def _noticed_s(run: DrillRun) -> float:
    """The second by which every prober that can notice the loss has, of targets and of names, and dead fronts have left
    their address. What changes its mind again later does not follow from the loss alone."""
    verdicts = [row.believed_at_s for row in run.blind if row.true_at_s == LOST_AT_S and row.believed_at_s is not None]
    votes = {(vote.name, vote.answer, vote.area): vote.at_s for vote in reversed(run.votes) if vote.at_s >= LOST_AT_S}
    fronts = {event.about: event.at_s for event in reversed(run.events) if event.kind == "front"}
    return max([*verdicts, *votes.values(), *fronts.values()], default=LOST_AT_S)


class ZoneLoss(AnswerModel):
    """What is left when one zone is lost and the loss has settled: what fails, and each group's busiest target."""

    zone: str
    failed_rps: float
    peak_utilisation: dict[str, float]


def zone_losses(network: Network, watch: Watch = go_on) -> list[ZoneLoss]:
    """The settled loss of each zone in which something stands."""
    losses = []
    members = network.members
    for zone in network.zones:
        flow = _loss(network, [Part(zone=zone)], watch).flows[-1]
        load = np.zeros(len(network.plan.target_groups))
        np.maximum.at(load, members.group, flow.queue.utilisation[members.machine])
        peaks = {group.name: float(load[index]) for index, group in enumerate(network.plan.target_groups)}
        losses.append(ZoneLoss(zone=zone, failed_rps=float(flow.cause_rps.sum()), peak_utilisation=peaks))
    return losses
