"""Truth and belief of targets over a drill."""

from collections.abc import Sequence
from typing import Literal

import numpy as np

from northgate.engine.base import total_by
from northgate.engine.drill import DrillRun
from northgate.engine.reports.beliefs import ever_there, leaves, member_states
from northgate.engine.reports.model import AnswerModel
from northgate.engine.truth import ANSWERS, truth_word


class StripPiece(AnswerModel):
    """A stretch of a target's time line: its truth, and how many of the fronts that probe it believe it in use."""

    from_s: float
    to_s: float
    truth: Literal["answers", "slow", "refuses", "silent"]
    believed_in: int
    believed_of: int
    wrong: bool


class Strip(AnswerModel):
    """Truth and belief of one target over a drill."""

    group: str
    target: str
    zone: str
    pieces: list[StripPiece]


class FoldedStrip(AnswerModel):
    """The targets of a group in a zone over a drill: how many there are, how many are truly up and stay, and how many
    a front believes in use on the mean of those that live; value i holds from `t_s[i]` on."""

    group: str
    zone: str
    t_s: list[float]
    targets: list[int]
    up: list[int]
    believed: list[float]


def strips(run: DrillRun, group: str | None = None) -> list[Strip]:
    """Truth and belief of every target of a group (or of all) over the drill, neighbours alike merged."""
    network = run.network
    groups = [one.name for one in network.plan.target_groups]
    ever = ever_there(run)[network.members.machine]
    wanted = [m for m, g in enumerate(network.members.group) if ever[m] and group in (None, groups[int(g)])]
    moments = [frame.state for frame in run.keyframes]
    states = [member_states(network, state) for state in moments]
    times = [frame.t_s for frame in run.keyframes] + [run.drill.lasts_s]
    return [
        Strip(
            group=groups[int(network.members.group[member])],
            target=network.machines.names[int(network.members.machine[member])],
            zone=network.zones[int(network.machines.zone[network.members.machine[member]])],
            pieces=_pieces(run, member, states, times),
        )
        for member in wanted
    ]


def folded_strips(run: DrillRun) -> list[FoldedStrip]:
    """Truth and belief by group and zone: counts, so that the area between them is the blindness."""
    network = run.network
    members, zones, groups = network.members, len(network.zones), network.plan.target_groups
    if not len(members.group):
        return []
    at, count = members.group * zones + network.machines.zone[members.machine], len(groups) * zones
    targets, up, believed = [], [], []
    for frame in run.keyframes:
        state = frame.state
        here = state.present(members.machine)
        met, known, fronts, _ = member_states(network, state)
        share = np.divide(known, fronts, out=np.zeros(len(met)), where=fronts > 0)
        targets.append(total_by(at, here, count))
        up.append(total_by(at, here & (met == ANSWERS) & ~leaves(network, state), count))
        believed.append(total_by(at, here * share, count))
    tables = [np.array(rows) for rows in (targets, up, believed)]
    return [
        FoldedStrip(
            group=groups[cell // zones].name,
            zone=network.zones[cell % zones],
            t_s=[frame.t_s for frame in run.keyframes],
            targets=tables[0][:, cell].astype(int).tolist(),
            up=tables[1][:, cell].astype(int).tolist(),
            believed=np.round(tables[2][:, cell], 6).tolist(),
        )
        for cell in np.flatnonzero(tables[0].any(axis=0)).tolist()
    ]


def _pieces(run: DrillRun, member: int, states: Sequence[np.ndarray], times: Sequence[float]) -> list[StripPiece]:
    machine = int(run.network.members.machine[member])
    pieces: list[StripPiece] = []
    for index, frame in enumerate(run.keyframes):
        met, believed, fronts, mistaken = (int(value) for value in states[index][:, member])
        word = truth_word(met, float(frame.state.truth.slowness[machine]))
        piece = StripPiece(
            from_s=times[index],
            to_s=times[index + 1],
            truth=word,
            believed_in=believed,
            believed_of=fronts,
            wrong=mistaken > 0,
        )
        last = pieces[-1] if pieces else None
        if last and last == piece.model_copy(update={"from_s": last.from_s, "to_s": last.to_s}):
            pieces[-1] = last.model_copy(update={"to_s": piece.to_s})
        else:
            pieces.append(piece)
    return pieces
