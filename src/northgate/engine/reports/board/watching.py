"""What pools pass on and how many of their targets are in use; what probes watch."""

from collections.abc import Sequence

import numpy as np

from northgate.engine.base import Ints, total_by
from northgate.engine.network import Network
from northgate.engine.reports.board.berths import Berths
from northgate.engine.reports.board.model import PoolState, ProbeState, TierState, rates_of
from northgate.engine.solver import Flow
from northgate.plan.models.groups import Tier


def pool_states(flow: Flow, berths: Berths) -> list[PoolState]:
    """Every pool: what is sent to it by all rules, and its tiers, in plan order."""
    entries, plan = flow.network.entries, flow.network.plan
    places = {group.name: index for index, group in enumerate(plan.target_groups)}
    return [
        PoolState(
            name=pool.name,
            **rates_of(
                flow.places.entry_rps[entries.pool == index].sum(),
                flow.places.entry_served[entries.pool == index].sum(),
            ),
            tiers=[_tier(berths, tier, [places[name] for name in tier.groups]) for tier in pool.tiers],
        )
        for index, pool in enumerate(plan.pools)
    ]


def _tier(berths: Berths, tier: Tier, groups: Sequence[int]) -> TierState:
    mine = _of_groups(berths, groups)
    return TierState(groups=list(tier.groups), targets=len(mine), in_use=int((berths.believed[mine] > 0).sum()))


def _of_groups(berths: Berths, groups: Sequence[int]) -> Ints:
    """The members of these groups that are there."""
    of_group = berths.network.derived(_members)
    mine: Ints = np.concatenate([of_group[group] for group in groups] or [np.zeros(0, dtype=np.int64)])
    return mine[berths.here[mine]]


def _members(network: Network) -> list[Ints]:
    """The members of each group."""
    return [np.flatnonzero(network.members.group == group) for group in range(len(network.plan.target_groups))]


def probe_states(flow: Flow, berths: Berths) -> list[ProbeState]:
    """Every probe: the targets that it watches, and how often all its living fronts ask together, in plan order."""
    network, plan = flow.network, flow.network.plan
    pairs = network.probed.pair
    asking = ~flow.state.truth.front_dead[network.pairs.front[pairs]] & berths.here[network.pairs.member[pairs]]
    asks = total_by(network.pairs.group[pairs], asking, len(plan.target_groups))
    states = []
    for probe in plan.probes:
        groups = [index for index, group in enumerate(plan.target_groups) if group.probe == probe.name]
        mine = _of_groups(berths, groups)
        askers = int(asks[groups].sum())
        states.append(
            ProbeState(
                name=probe.name,
                targets=len(mine),
                in_use=int((berths.believed[mine] > 0).sum()),
                unnoticed=int(berths.wrong[mine].sum()),
                probes_per_s=askers / probe.interval_s,
            )
        )
    return states
