"""What fronts believe of each target, and which targets are there."""

import numpy as np

from northgate.engine.base import total_by
from northgate.engine.drill import DrillRun
from northgate.engine.network import Network


def ever_there(run: DrillRun) -> np.ndarray:
    """Which machines exist at some time of a drill."""
    every = np.arange(len(run.network.machines.names))
    return np.asarray(np.any([frame.state.present(every) for frame in run.keyframes], axis=0))


def member_states(network: Network, in_use: np.ndarray, met: np.ndarray, front_dead: np.ndarray) -> np.ndarray:
    """Per member (columns): truth met by most of its pairs, living fronts that believe it in use, living fronts."""
    pairs = network.pairs
    count = len(network.members.group)
    living = ~front_dead[pairs.front]
    believed = total_by(pairs.member, in_use & living, count)
    fronts = total_by(pairs.member, living, count)
    worst = np.zeros(count, dtype=np.int64)
    np.maximum.at(worst, pairs.member, np.where(living, met, 0))
    any_met = np.zeros(count, dtype=np.int64)
    np.maximum.at(any_met, pairs.member, met)
    return np.stack([np.where(fronts > 0, worst, any_met), believed.astype(np.int64), fronts.astype(np.int64)])
