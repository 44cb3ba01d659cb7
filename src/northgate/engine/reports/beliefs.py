"""What fronts believe of each target, and which targets are there."""

import numpy as np

from northgate.engine.base import Bools, total_by
from northgate.engine.drill import DrillRun
from northgate.engine.network import Network
from northgate.engine.solver import State
from northgate.engine.truth import ANSWERS


def ever_there(run: DrillRun) -> np.ndarray:
    """Which machines exist at some time of a drill."""
    every = np.arange(len(run.network.machines.names))
    return np.asarray(np.any([frame.state.present(every) for frame in run.keyframes], axis=0))


def leaves(network: Network, state: State) -> Bools:
    """Per member: whether its machine leaves, so that nothing new is sent there whatever is believed of it."""
    machines = network.members.machine
    return np.zeros(len(machines), dtype=bool) if state.leaving is None else state.leaving[machines]


def member_states(network: Network, state: State) -> np.ndarray:
    """Per member (columns): the worst that a living front meets there, living fronts that send there, living fronts,
    and how many of these believe what is not so for themselves: nobody of who leaves."""
    pairs, in_use, met = network.pairs, state.in_use, state.encounter.met
    count = len(network.members.group)
    living = ~state.truth.front_dead[pairs.front]
    believed = total_by(pairs.member, in_use & living, count)
    fronts = total_by(pairs.member, living, count)
    mistaken = total_by(
        pairs.member, living & ~leaves(network, state)[pairs.member] & (in_use != (met == ANSWERS)), count
    )
    worst = np.zeros(count, dtype=np.int64)
    np.maximum.at(worst, pairs.member, np.where(living, met, 0))
    any_met = np.zeros(count, dtype=np.int64)
    np.maximum.at(any_met, pairs.member, met)
    met_by_member = np.where(fronts > 0, worst, any_met)
    return np.stack([met_by_member, *(some.astype(np.int64) for some in (believed, fronts, mistaken))])
