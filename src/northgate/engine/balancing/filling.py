"""Filling: groups that take what they can up to a limit, and pass the rest on.

A tier may say how far its groups are filled. What comes to a front goes to its groups in their order (or the nearest
first), each up to its limit; what is left goes on to the next group, then to the next tier. Fronts that fill the same
group share its room by what they offer it at the same place of their orders; pools take their turn in plan order:
water-filling by rounds, each with a closed form. What nobody has room for goes by weight, beyond the limit.

What comes to a front is what clients ask of it at first, by themselves or through other balancers: repeats do not
change where requests go. A tier that does not fill takes all that is left, by weight.
"""

import itertools
from collections.abc import Callable, Sequence
from functools import cache

import numpy as np
from msgspec import Struct
from msgspec.structs import replace

from northgate.engine.balancing.tiers import Choice
from northgate.engine.base import Bools, Floats, distinct, total_by
from northgate.engine.network import Network
from northgate.plan.models.groups import Fill, Pool, Tier

# The factor at which a group is full is known to this part of itself; beyond FURTHEST nobody looks.
CLOSE, FURTHEST, ROUNDS = 1e-9, 1e6, 100


def fills(network: Network) -> bool:
    """Whether any pool fills its groups."""
    return any(tier.fill for pool in network.plan.pools for tier in pool.tiers)


def filled(network: Network, choice: Choice, demand_rps: Floats, in_use: Bools) -> Choice:
    """The choice with the shares of pools that fill; `demand_rps` by route is what comes to it, `in_use` by pair."""
    filling = Filling(network, choice, in_use)
    return replace(choice, weighted_share=filling.shares(demand_rps), demand_rps=demand_rps)


class Order(Struct, frozen=True):
    """In which order a route fills weighted groups, with the group of each and what that may take (requests/s; None:
    all that is left goes to this and those after it, by weight)."""

    route: int
    weighted: list[int]
    groups: list[int]
    limits: list[float | None]


class Poured(Struct):
    """What groups take within their limits, what is offered to them, and by how much that is more than there is room
    for, at the worst place of an order (requests/s; below 0 while there is room); per route what each weighted group
    takes, and what nobody has room for."""

    used_rps: Floats
    offered_rps: Floats
    over_rps: Floats
    taken: dict[int, dict[int, float]]
    left: dict[int, float]


class Filling:
    """Pools that fill, as fronts see them now: what is needed to pour any demand into them."""

    def __init__(self, network: Network, choice: Choice, in_use: Bools) -> None:
        self.network, self.choice = network, choice
        member_used = total_by(network.pairs.member, in_use, len(network.members.group)) > 0
        self.limits = {
            group: limit_rps(network, group, fill, member_used) for group, fill in _fills_of(network).items()
        }
        self.pools = [
            [self._order_of(pool, int(route), member_used) for route in np.flatnonzero(network.routes.pool == place)]
            for place, pool in enumerate(network.plan.pools) if any(tier.fill for tier in pool.tiers)
        ]  # fmt: skip

    def _order_of(self, pool: Pool, route: int, member_used: Bools) -> Order:
        network = self.network
        weighted = _order(network, self.choice, pool, route)
        groups = [int(one) for one in network.cells.group[network.weighted.cell[weighted]]] if weighted else []
        tiers = [_tier_of(network, pool, one).fill for one in weighted]
        limits = [
            limit_rps(network, group, fill, member_used) if fill else None
            for group, fill in zip(groups, tiers, strict=True)
        ]
        return Order(route, weighted, groups, limits)

    def pour(self, demand_rps: Floats) -> Poured:
        """Pours what comes to each route: pools in their order, in each one place of the orders after the other."""
        used, offered = np.zeros((2, len(self.network.plan.target_groups)))
        over = np.zeros_like(used)
        over[list(self.limits)] = [-limit for limit in self.limits.values()]
        poured = Poured(used, offered, over, {}, {})
        for orders in self.pools:
            for order in orders:
                poured.taken[order.route], poured.left[order.route] = {}, float(demand_rps[order.route])
            for step in range(max((len(order.groups) for order in orders), default=0)):
                self._step(orders, step, poured)
        return poured

    def _step(self, orders: Sequence[Order], step: int, poured: Poured) -> None:
        offers: dict[int, list[Order]] = {}
        for order in orders:
            if step < len(order.groups) and poured.left[order.route] > 0:
                offers.setdefault(order.groups[step], []).append(order)
        for group, offering in offers.items():
            limit = offering[0].limits[step]
            if limit is None:
                for order in offering:
                    self._by_weight(order, step, poured)
                continue
            offered = sum(poured.left[order.route] for order in offering)
            room = max(limit - float(poured.used_rps[group]), 0.0)
            part = min(room / offered, 1.0)
            poured.over_rps[group] = max(float(poured.over_rps[group]), offered - room)
            poured.offered_rps[group] += offered
            poured.used_rps[group] += offered * part
            for order in offering:
                left, taken, one = poured.left[order.route], poured.taken[order.route], order.weighted[step]
                taken[one] = taken.get(one, 0.0) + left * part
                poured.left[order.route] = left * (1 - part)

    def _by_weight(self, order: Order, step: int, poured: Poured) -> None:
        """All that is left goes to the groups of a tier that does not fill, by their weights."""
        last = order.weighted[step:]
        weight = self.network.weighted.weight[last].astype(np.float64)
        taken, left = poured.taken[order.route], poured.left[order.route]
        for one, part in zip(last, (weight / weight.sum()).tolist(), strict=True):
            taken[one] = taken.get(one, 0.0) + left * part
        poured.left[order.route] = 0.0

    def shares(self, demand_rps: Floats) -> Floats:
        """The shares of weighted groups; what nobody has room for goes by weight."""
        share, poured = self.choice.weighted_share.copy(), self.pour(demand_rps)
        for order in (order for orders in self.pools for order in orders):
            mine = np.flatnonzero(self.network.weighted.route == order.route)
            by_weight, whole = share[mine].copy(), float(demand_rps[order.route])
            if whole > 0:
                taken, left = poured.taken[order.route], poured.left[order.route]
                filled_share = np.array([taken.get(int(one), 0.0) for one in mine]) / whole
                rest = by_weight / max(by_weight.sum(), 1e-300) * left / whole
                share[mine] = (filled_share + rest) * by_weight.sum()
            elif order.weighted:
                # Nobody comes: the first who would be filled.
                share[mine] = np.where(mine == order.weighted[0], by_weight.sum(), 0.0)
        return share

    def after(self) -> dict[int, tuple[int, ...]]:
        """Per group those that come right after it, in some front's order."""
        found: dict[int, dict[int, None]] = {}
        for order in (order for orders in self.pools for order in orders):
            for one, other in itertools.pairwise(order.groups):
                found.setdefault(one, {})[other] = None
        return {group: tuple(others) for group, others in found.items()}


class Room(Struct, frozen=True):
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
    filling = Filling(network, choice, in_use)
    now, after = filling.pour(demand_rps), filling.after()

    @cache
    def over_rps(factor: float) -> Floats:
        return filling.pour(demand_rps * factor).over_rps

    return {
        group: Room(
            limit, float(now.used_rps[group]), float(now.offered_rps[group]), after.get(group, ()),
            _full_at(lambda factor, group=group: float(over_rps(factor)[group]), limit),  # type: ignore[misc]
        )
        for group, limit in filling.limits.items()
    }  # fmt: skip


def _full_at(over_rps: Callable[[float], float], limit: float) -> float:
    """The factor of all demand at which a group is full: what is too much for it grows with the factor by pieces of
    lines, and is 0 then. Found by false position (Illinois), which ends at once on a line."""
    if over_rps(FURTHEST) <= 0:
        return float("inf")
    low, high = 0.0, 1.0
    while over_rps(high) < 0:
        low, high = high, high * 2
    below, above = over_rps(low), over_rps(high)
    for _ in range(ROUNDS):
        middle = high - above * (high - low) / (above - below) if above > below else low
        value = over_rps(middle)
        if abs(value) <= CLOSE * limit or high - low <= CLOSE * high:
            return middle
        # The end that stays a second time counts half, so that the other comes closer, too.
        if value < 0:
            low, below, above = middle, value, above / 2
        else:
            high, above, below = middle, value, below / 2
    return high


def _fills_of(network: Network) -> dict[int, Fill]:
    """How far each group is filled, as the first tier says that fills it."""
    places = {one.name: place for place, one in enumerate(network.plan.target_groups)}
    tiers = [tier for pool in network.plan.pools for tier in pool.tiers if tier.fill]
    return {places[name]: tier.fill for tier in reversed(tiers) for name in tier.groups if tier.fill}


def limit_rps(network: Network, group: int, fill: Fill, member_used: Bools) -> float:
    """How much a group takes (requests/s): so many at each target in use, or a part of what these can do together."""
    mine = (network.members.group == group) & member_used
    if fill.rps_per_target is not None:
        return float(mine.sum()) * fill.rps_per_target
    return float(network.machines.capacity[distinct(network.members.machine[mine])].sum()) * (fill.utilisation or 1.0)


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
