"""Filling: groups that take what they can up to a limit, and pass the rest on.

A tier may say how far its groups are filled. What comes to a front goes to its groups in their order (or the nearest
first), each up to its limit; what is left goes on to the next group, then to the next tier. Fronts that fill the same
group share its room by what they offer it at the same place of their orders; pools take their turn in plan order:
water-filling by rounds, each with a closed form. What nobody has room for goes by weight, beyond the limit.

What comes to a front is what clients ask of it at first: repeats do not change where requests go.
"""

from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from northgate.engine.balancing.tiers import Choice
from northgate.engine.base import Bools, Floats, Ints, total_by
from northgate.engine.network import Network
from northgate.plan.models.groups import Fill, Pool, Tier


def fills(network: Network) -> bool:
    """Whether any pool fills its groups."""
    return any(tier.fill for pool in network.plan.pools for tier in pool.tiers)


def filled(network: Network, choice: Choice, demand_rps: Floats, in_use: Bools) -> Choice:
    """The choice with the shares of pools that fill; `demand_rps` by route is what comes to it, `in_use` by pair."""
    share = choice.weighted_share.copy()
    used_rps = np.zeros(len(network.plan.target_groups))
    member_used = total_by(network.pairs.member, in_use, len(network.members.group)) > 0
    for place, pool in enumerate(network.plan.pools):
        if any(tier.fill for tier in pool.tiers):
            routes = np.flatnonzero(network.routes.pool == place)
            _fill(network, choice, pool, routes, demand_rps, member_used, used_rps, share)
    return replace(choice, weighted_share=share)


def limit_rps(network: Network, group: int, fill: Fill, member_used: Bools) -> float:
    """How much a group takes (requests/s): so many at each target in use, or a part of what these can do together."""
    mine = (network.members.group == group) & member_used
    if fill.rps_per_target is not None:
        return float(mine.sum()) * fill.rps_per_target
    return float(network.machines.capacity[np.unique(network.members.machine[mine])].sum()) * (fill.utilisation or 1.0)


def _fill(
    network: Network, choice: Choice, pool: Pool, routes: Ints, demand_rps: Floats, member_used: Bools,
    used_rps: Floats, share: Floats,
) -> None:  # fmt: skip
    """Sets the shares of one pool's routes, and notes what groups have taken."""
    orders = [_order(network, choice, pool, int(route)) for route in routes]
    left = demand_rps[routes].copy()
    taken = [dict[int, float]() for _ in routes]
    for step in range(max((len(order) for order in orders), default=0)):
        offers: dict[int, list[int]] = {}
        for number, order in enumerate(orders):
            if step < len(order) and left[number] > 0:
                offers.setdefault(int(network.cells.group[network.weighted.cell[order[step]]]), []).append(number)
        for group, offering in offers.items():
            fill = _tier_of(network, pool, orders[offering[0]][step]).fill
            room = max(limit_rps(network, group, fill, member_used) - used_rps[group], 0.0) if fill else np.inf
            offered = left[offering].sum()
            part = min(room / offered, 1.0)
            used_rps[group] += offered * part
            for number in offering:
                taken[number][orders[number][step]] = taken[number].get(orders[number][step], 0.0) + left[number] * part
                left[number] *= 1 - part
    for number, route in enumerate(routes.tolist()):
        mine = np.flatnonzero(network.weighted.route == route)
        by_weight = share[mine].copy()
        whole = demand_rps[route]
        if whole <= 0:
            # Nobody comes: the first who would be filled.
            share[mine] = (
                np.where(np.isin(mine, orders[number][:1]), by_weight.sum(), 0.0) if orders[number] else by_weight
            )
            continue
        filled_share = np.array([taken[number].get(int(one), 0.0) for one in mine]) / whole
        share[mine] = (filled_share + by_weight / max(by_weight.sum(), 1e-300) * left[number] / whole) * by_weight.sum()


def _order(network: Network, choice: Choice, pool: Pool, route: int) -> list[int]:
    """The weighted groups of a route in the order in which they are filled: from the tier that serves on."""
    serving = int(network.tiers.number[choice.route_tier[route]])
    order: list[int] = []
    for number, tier in enumerate(pool.tiers):
        if number < serving:
            continue
        mine = [
            one
            for one in np.flatnonzero(network.weighted.route == route).tolist()
            if network.tiers.number[network.weighted.tier[one]] == number
            and choice.cell_in_use[network.weighted.cell[one]] > 0
            and network.weighted.weight[one] > 0
        ]
        order += sorted(mine, key=lambda one: _away(network, route, one)) if tier.spill == "nearest" else mine
        if not tier.fill:
            # It takes all that is left.
            break
    return order


def _tier_of(network: Network, pool: Pool, weighted: int) -> Tier:
    return pool.tiers[int(network.tiers.number[network.weighted.tier[weighted]])]


def _away(network: Network, route: int, weighted: int) -> float:
    """How far a group is from a front: nothing within its region; else the least that some area needs to both."""
    here = int(network.zone_region[network.fronts.zone[int(network.routes.front[route])]])
    group = network.cells.group[network.weighted.cell[weighted]]
    zones = network.machines.zone[network.members.machine[network.members.group == group]]
    there = sorted({int(region) for region in network.zone_region[zones]})
    return 0.0 if here in there else min((_between(network, here, one) for one in there), default=np.inf)


def _between(network: Network, one: int, other: int) -> float:
    names: Sequence[str] = network.regions
    both = [
        area.latency_ms[names[one]] + area.latency_ms[names[other]]
        for area in network.plan.areas
        if names[one] in area.latency_ms and names[other] in area.latency_ms
    ]
    return min(both, default=np.inf)
