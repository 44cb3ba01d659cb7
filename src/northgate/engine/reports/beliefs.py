"""What fronts believe of each target, and which targets are there."""

import numpy as np

from northgate.engine.base import total_by
from northgate.engine.drill import DrillRun
from northgate.engine.network import Network
from northgate.engine.truth import ANSWERS


def ever_there(run: DrillRun) -> np.ndarray:
    """Which machines exist at some time of a drill."""
    every = np.arange(len(run.network.machines.names))
    return np.asarray(np.any([frame.state.present(every) for frame in run.keyframes], axis=0))


def member_states(network: Network, in_use: np.ndarray, met: np.ndarray, front_dead: np.ndarray) -> np.ndarray:
    """Per member (columns): the worst that a living front meets there, living fronts that believe it in use, living
    fronts, and how many of these believe what is not so for themselves."""
    pairs = network.pairs
    count = len(network.members.group)
    living = ~front_dead[pairs.front]
    believed = total_by(pairs.member, in_use & living, count)
    fronts = total_by(pairs.member, living, count)
    mistaken = total_by(pairs.member, living & (in_use != (met == ANSWERS)), count)
    worst = np.zeros(count, dtype=np.int64)
    np.maximum.at(worst, pairs.member, np.where(living, met, 0))
    any_met = np.zeros(count, dtype=np.int64)
    np.maximum.at(any_met, pairs.member, met)
    met_by_member = np.where(fronts > 0, worst, any_met)
    return np.stack([met_by_member, *(some.astype(np.int64) for some in (believed, fronts, mistaken))])
