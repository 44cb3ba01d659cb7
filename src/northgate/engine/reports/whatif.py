"""What if this were lost, or added now? The three moments of that: at once, noticed, settled."""

from collections.abc import Collection, Sequence
from typing import Literal

import numpy as np

from northgate.engine.base import CannotRun, Watch, go_on
from northgate.engine.drill import LOST_AT_S, DrillRun, Losing, run_drill
from northgate.engine.network import Network
from northgate.engine.reports.board.berths import proofs_at
from northgate.engine.reports.board.model import BoardState
from northgate.engine.reports.board.state import board_state
from northgate.engine.reports.model import AnswerModel
from northgate.plan.models.drills import Drill, Step
from northgate.plan.models.faults import Part
from northgate.plan.references import dangling

ADDED_AT_S, AT_MOST_S = 3600.0, 3600.0


# Whether parts are lost, or come: as if they had been added to the plan only now.
Change = Literal["lost", "added"]


class WhatIfAnswer(AnswerModel):
    """The board at the three moments of a loss, or of an addition; times are seconds after it, at worst (probes just
    missed it).

    Noticed: all verdicts on what was lost, or came, are there, and the votes of names that follow. Settled: no belief,
    address or backlog changes any more, and nobody holds an answer from before; `settles` is false where that does not
    happen within the hour that is looked at. `failed_until_noticed` is the integral of what fails until then.
    """

    at_once: BoardState
    noticed: BoardState
    settled: BoardState
    noticed_after_s: float
    settled_after_s: float
    failed_until_noticed: float
    settles: bool


def what_if(
    losing: Losing, parts: Sequence[Part], groups: Collection[str] | None = None, watch: Watch = go_on,
    change: Change = "lost",
) -> WhatIfAnswer:  # fmt: skip
    """Fails the parts of a plan together, or brings them in, and follows that, with the probes where they notice it
    last.

    Raises CannotRun when a part is not in the plan.
    """
    begins_s = LOST_AT_S if change == "lost" else ADDED_AT_S
    run = losing.follow(parts, watch) if change == "lost" else _addition(losing.plain, parts, watch)
    times = [frame.t_s for frame in run.keyframes]
    changed, noticed = times.index(begins_s), times.index(_noticed_s(run, begins_s))
    end, flows = len(times) - 1, run.flows

    def board(frame: int, second: float) -> BoardState:
        proofs = {member: at_s and at_s - begins_s for member, at_s in proofs_at(run, times[frame]).items()}
        return board_state(flows[frame], second, groups, proofs)

    return WhatIfAnswer(
        at_once=board(changed, 0.0),
        noticed=board(noticed, times[noticed] - begins_s),
        settled=board(end, run.readings.settled_s),
        noticed_after_s=times[noticed] - begins_s,
        settled_after_s=run.readings.settled_s,
        failed_until_noticed=run.keyframes[noticed].failed - run.keyframes[changed].failed,
        settles=run.readings.settled,
    )


def _addition(network: Network, parts: Sequence[Part], watch: Watch) -> DrillRun:
    """The drill in which these parts were never there, and come when nobody expects them any more."""
    absent = [Step(at_s=0, fail=part) for part in parts]
    come = [Step(at_s=ADDED_AT_S, restore=part) for part in parts]
    drill = Drill(name="what-if", lasts_s=ADDED_AT_S + AT_MOST_S, phases="worst", steps=[*absent, *come])
    unknown = dangling(network.plan.model_copy(update={"drills": [drill]}))
    if unknown:
        raise CannotRun(unknown)
    return run_drill(network, drill, watch)


def _noticed_s(run: DrillRun, begins_s: float) -> float:
    """The second by which every prober that can notice the change has, of targets and of names, and dead fronts have
    left their address. What changes its mind again later does not follow from that alone."""
    verdicts = [row.believed_at_s for row in run.blind if row.true_at_s == begins_s and row.believed_at_s is not None]
    votes = {(vote.name, vote.answer, vote.area): vote.at_s for vote in reversed(run.votes) if vote.at_s >= begins_s}
    fronts = {
        event.about: event.at_s for event in reversed(run.events) if event.kind == "front" and event.at_s >= begins_s
    }
    return max([*verdicts, *votes.values(), *fronts.values()], default=begins_s)


class ZoneLoss(AnswerModel):
    """What is left when one zone is lost and the loss has settled: what fails, and each group's busiest target."""

    zone: str
    failed_rps: float
    peak_utilisation: dict[str, float]


def zone_losses(losing: Losing, watch: Watch = go_on) -> list[ZoneLoss]:
    """The settled loss of each zone of a plan in which something stands."""
    losses, network = [], losing.network
    members = network.members
    for zone in (zone for region in network.plan.regions for zone in region.zones):
        flow = losing.follow([Part(zone=zone)], watch).last
        load = np.zeros(len(network.plan.target_groups))
        np.maximum.at(load, members.group, flow.queue.utilisation[members.machine])
        peaks = {group.name: float(load[index]) for index, group in enumerate(network.plan.target_groups)}
        losses.append(ZoneLoss(zone=zone, failed_rps=float(flow.cause_rps.sum()), peak_utilisation=peaks))
    return losses
