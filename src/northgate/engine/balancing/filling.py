"""Filling: groups that take what they can up to a limit, and pass the rest on.

A tier may say how far its groups are filled. What comes to a front goes to its groups in their order (or the nearest
first), each up to its limit; what is left goes on to the next group, then to the next tier. Fronts that fill the same
group share its room by what they offer it at the same place of their orders; pools take their turn in plan order:
water-filling by rounds, each with a closed form. What nobody has room for goes by weight, beyond the limit.

What comes to a front is what clients ask of it at first, by themselves or through other balancers: repeats do not
change where requests go. A tier that does not fill takes all that is left, by weight.
"""

import itertools
from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from northgate.engine.balancing.tiers import Choice
from northgate.engine.base import Bools, Floats, Ints, total_by
from northgate.engine.network import Network
from northgate.plan.models.groups import Fill, Pool, Tier

# The factor at which a group is full is known to this part of itself; beyond FURTHEST nobody looks.
CLOSE, FURTHEST = 1e-9, 1e6


def fills(network: Network) -> bool:
    """Whether any pool fills its groups."""
    return any(tier.fill for pool in network.plan.pools for tier in pool.tiers)


def filled(network: Network, choice: Choice, demand_rps: Floats, in_use: Bools) -> Choice:
    """The choice with the shares of pools that fill; `demand_rps` by route is what comes to it, `in_use` by pair."""
    share, _, _ = _shared_out(network, choice, demand_rps, in_use)
    return replace(choice, weighted_share=share, demand_rps=demand_rps)


@dataclass(frozen=True)
class Room:
    """How far a group is filled: what it may take and takes within that, what is offered to it (requests/s), which
    groups come after it, and at what factor of what comes now something begins to go on to them (inf: at none)."""

    limit_rps: float
    taken_rps: float
    offered_rps: float
    then: tuple[int, ...]
    spills_at: float


def rooms(network: Network, choice: Choice, in_use: Bools) -> dict[int, Room]:
    """The groups that are filled, each with its room; none where nothing is."""
    demand_rps = choice.demand_rps
    if demand_rps is None:
        return {}
    member_used = _used(network, in_use)
    limits = {group: limit_rps(network, group, fill, member_used) for group, fill in _fills_of(network).items()}
    _, taken, offered = _shared_out(network, choice, demand_rps, in_use)
    after = _after(network, choice)
    return {
        group: Room(
            limit, float(taken[group]), float(offered[group]), after.get(group, ()),
            _spills_at(network, choice, demand_rps, in_use, group, limit),
        )
        for group, limit in limits.items()
    }  # fmt: skip


def _spills_at(network: Network, choice: Choice, demand_rps: Floats, in_use: Bools, group: int, limit: float) -> float:
    """The factor of all demand at which a group is full: what it takes grows with it, until it is."""

    def full(factor: float) -> bool:
        return bool(_shared_out(network, choice, demand_rps * factor, in_use)[1][group] >= limit * (1 - CLOSE))

    low, high = 0.0, 1.0
    while not full(high):
        low, high = high, high * 2
        if high > FURTHEST:
            return float("inf")
    while high - low > CLOSE * high:
        middle = (low + high) / 2
        low, high = (low, middle) if full(middle) else (middle, high)
    return high


def _shared_out(network: Network, choice: Choice, demand_rps: Floats, in_use: Bools) -> tuple[Floats, Floats, Floats]:
    """The shares of weighted groups; per group what it takes within its limit, and what is offered to it."""
    share = choice.weighted_share.copy()
    used_rps, offered_rps = np.zeros((2, len(network.plan.target_groups)))
    member_used = _used(network, in_use)
    for place, pool in enumerate(network.plan.pools):
        if any(tier.fill for tier in pool.tiers):
            routes = np.flatnonzero(network.routes.pool == place)
            _fill(network, choice, pool, routes, demand_rps, member_used, (used_rps, offered_rps), share)
    return share, used_rps, offered_rps


def _used(network: Network, in_use: Bools) -> Bools:
    return total_by(network.pairs.member, in_use, len(network.members.group)) > 0


def _fills_of(network: Network) -> dict[int, Fill]:
    """How far each group is filled, as the first tier says that fills it."""
    places = {one.name: place for place, one in enumerate(network.plan.target_groups)}
    tiers = [tier for pool in network.plan.pools for tier in pool.tiers if tier.fill]
    return {places[name]: tier.fill for tier in reversed(tiers) for name in tier.groups if tier.fill}


def _after(network: Network, choice: Choice) -> dict[int, tuple[int, ...]]:
    """Per group those that come right after it, in some front's order."""
    found: dict[int, dict[int, None]] = {}
    for place, pool in enumerate(network.plan.pools):
        for route in np.flatnonzero(network.routes.pool == place).tolist() if any(t.fill for t in pool.tiers) else ():
            order = network.cells.group[network.weighted.cell[_order(network, choice, pool, route)]].tolist()
            for one, other in itertools.pairwise(order):
                found.setdefault(one, {})[other] = None
    return {group: tuple(others) for group, others in found.items()}


def limit_rps(network: Network, group: int, fill: Fill, member_used: Bools) -> float:
    """How much a group takes (requests/s): so many at each target in use, or a part of what these can do together."""
    mine = (network.members.group == group) & member_used
    if fill.rps_per_target is not None:
        return float(mine.sum()) * fill.rps_per_target
    return float(network.machines.capacity[np.unique(network.members.machine[mine])].sum()) * (fill.utilisation or 1.0)


def _fill(
    network: Network, choice: Choice, pool: Pool, routes: Ints, demand_rps: Floats, member_used: Bools,
    noted: tuple[Floats, Floats], share: Floats,
) -> None:  # fmt: skip
    """Sets the shares of one pool's routes, and notes what groups have taken, and what was offered to them."""
    used_rps, offered_rps = noted
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
            if fill is None:
                _by_weight(network, [(orders[number][step:], taken[number]) for number in offering], left[offering])
                left[offering] = 0.0
                continue
            room = max(limit_rps(network, group, fill, member_used) - used_rps[group], 0.0)
            offered = left[offering].sum()
            offered_rps[group] += offered
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


def _by_weight(network: Network, ends: Sequence[tuple[list[int], dict[int, float]]], left: Floats) -> None:
    """All that is left goes to the groups of a tier that does not fill, by their weights."""
    for (order, taken), rest in zip(ends, left.tolist(), strict=True):
        weight = network.weighted.weight[order].astype(np.float64)
        for one, part in zip(order, (weight / weight.sum()).tolist(), strict=True):
            taken[one] = taken.get(one, 0.0) + rest * part


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
