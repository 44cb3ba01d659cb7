"""The beats of probers: how often each sends a probe, and where in its interval."""

from collections.abc import Sequence
from typing import Literal

import numpy as np
from msgspec import Struct

from northgate.engine.base import Bools, Floats, Ints, where_true
from northgate.engine.network import Network
from northgate.plan.models.groups import Probe

Phases = Literal["spread", "best", "worst"]


class Beats(Struct, frozen=True):
    """Per prober: its probe's numbers, and its phase under `spread` as a share of the interval."""

    interval_s: Floats
    fail_after: Floats
    pass_after: Floats
    by_result: Bools
    spread: Floats


def beats_of(probes: Sequence[Probe], which: Ints, spread: Floats) -> Beats:
    """The beats of probers, each with one of these probes."""

    def setting(name: str) -> Floats:
        values = np.array([getattr(probe, name) for probe in probes], dtype=np.float64)
        return values[which] if len(values) else np.zeros(len(which))

    told = np.array([probe.next_after == "result" for probe in probes], dtype=bool)
    by_result = told[which] if len(told) else np.zeros(len(which), dtype=bool)
    return Beats(setting("interval_s"), setting("unhealthy_after"), setting("healthy_after"), by_result, spread)


def target_beats(network: Network) -> Beats:
    """The beats of the probed pairs: a front probing a target."""
    group = network.pairs.group[network.probed.pair]
    stand_in = Probe(name="nobody")
    return beats_of([probe or stand_in for probe in network.groups.probe], group, spread_phases(network))


def name_beats(network: Network) -> Beats:
    """The beats of the name probers, in the order of `network.names.checks`: area j of M at (j / M) of the interval."""
    plan = network.plan
    place = {probe.name: index for index, probe in enumerate(plan.probes)}
    which, spread = [], []
    for name, _, area, _ in network.names.checks:
        entry = plan.names[name]
        which.append(place[entry.probe or ""])
        spread.append(entry.probed_from.index(plan.areas[area].name) / len(entry.probed_from))
    return beats_of(plan.probes, np.array(which, dtype=np.int64), np.array(spread, dtype=np.float64))


def spread_phases(network: Network) -> Floats:
    """Phases as shares of the interval: (i + f/F) / N for target i of N at front f of the F that use its group."""
    pairs, members = network.pairs, network.members
    chosen = network.probed.pair
    member, cell = pairs.member[chosen], pairs.cell[chosen]
    groups = len(network.plan.target_groups)
    size = np.bincount(members.group, minlength=groups)
    fronts = np.bincount(network.cells.group, minlength=groups)
    rank = np.zeros(len(network.cells.front), dtype=np.float64)
    for group in range(groups):
        mine = where_true(network.cells.group == group)
        rank[mine] = np.argsort(np.argsort(network.cells.front[mine]))
    group_of = members.group[member]
    place = members.place
    if network.machines.spare.any():
        place, size = _places_without_spares(network, groups)
    return np.asarray((place[member] + rank[cell] / fronts[group_of]) / size[group_of])


def _places_without_spares(network: Network, groups: int) -> tuple[Ints, Ints]:
    """Each member's place in its group and the groups' sizes as they are at the start (1 where that is nobody); what is
    launched comes after."""
    members, spare = network.members, network.machines.spare[network.members.machine]
    place = np.zeros(len(members.group), dtype=np.int64)
    for group in range(groups):
        mine = where_true(members.group == group)
        place[np.concatenate([mine[~spare[mine]], mine[spare[mine]]])] = np.arange(len(mine))
    return place, np.maximum(np.bincount(members.group[~spare], minlength=groups), 1)
