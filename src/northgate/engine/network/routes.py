"""Balancers, groups, and how requests at a front find their group, compiled."""

from collections.abc import Iterator

import numpy as np
from msgspec import Struct, field

from northgate.engine.base import CannotRun, Ints, bools, columns, floats, ints
from northgate.engine.network.names import NameBook
from northgate.engine.network.own_addresses import is_own
from northgate.engine.network.tables import Balancers, Fronts, Groups, Routes, Tiers, WeightedGroups
from northgate.plan import Plan, Problem
from northgate.plan.models.balancers import Action, Balancer
from northgate.plan.problems import pointer


def levels_of(plan: Plan, names: NameBook) -> Ints:
    """How deep each balancer stands behind others: 0 where only clients ask it. Raises CannotRun when they go round."""
    depth = np.zeros(len(plan.balancers), dtype=np.int64)
    behind = onward_balancers(plan, names)
    for _ in plan.balancers:
        for balancer, others in enumerate(behind):
            for other in others:
                depth[other] = max(depth[other], depth[balancer] + 1)
    if len(depth) and depth.max() >= len(depth):
        deep = [plan.balancers[int(one)].name for one in np.flatnonzero(depth == depth.max())]
        where = pointer(("balancers", int(depth.argmax())))
        raise CannotRun([Problem(where, f"what stands behind {' and '.join(deep)} leads back to it")])
    return depth


def onward_balancers(plan: Plan, names: NameBook) -> list[set[int]]:
    """Which balancers stand directly behind each balancer, as targets of the groups that it uses."""
    balancer_at = {balancer.name: index for index, balancer in enumerate(plan.balancers)}
    groups = {group.name: group for group in plan.target_groups}
    pools = {pool.name: pool for pool in plan.pools}
    found: list[set[int]] = []
    for balancer in plan.balancers:
        used = {action.pool for action in actions_of(balancer) if action.pool in pools}
        targets = [
            target
            for pool in used
            for tier in pools[pool or ""].tiers
            for name in tier.groups
            if name in groups
            for target in groups[name].targets
        ]
        found.append({leaf.balancer for target in targets for leaf in names.leaves_of_target(target, balancer_at)})
    return [{one for one in some if one >= 0} for some in found]


def balancers_of(plan: Plan, names: NameBook) -> Balancers:
    """The balancers, in plan order; raises CannotRun when what stands behind some leads back to them."""
    return Balancers(
        layer=ints(balancer.layer for balancer in plan.balancers),
        level=levels_of(plan, names),
        bandwidth_mbps=floats(balancer.bandwidth_mbps or np.inf for balancer in plan.balancers),
        withdraws=bools(balancer.withdraw_when == "no-targets" for balancer in plan.balancers),
    )


def fronts_of(plan: Plan, zone_at: dict[str, int]) -> Fronts:
    """Every balancer's fronts, in plan order."""
    rows = [(index, zone, balancer) for index, balancer in enumerate(plan.balancers) for zone in balancer.zones]
    return Fronts(
        balancer=ints(index for index, _, _ in rows),
        layer=ints(balancer.layer for _, _, balancer in rows),
        zone=ints(zone_at[zone] for _, zone, _ in rows),
        failover_s=floats(balancer.front_failover_s for _, _, balancer in rows),
        own=bools(is_own(balancer.name) for _, _, balancer in rows),
    )


def groups_of(plan: Plan) -> Groups:
    """The settings of the target groups, in plan order."""
    groups, probes = plan.target_groups, {probe.name: probe for probe in plan.probes}
    return Groups(
        probe=tuple(probes.get(group.probe or "") for group in groups),
        method=tuple(group.balance for group in groups),
        reach=tuple(group.reach for group in groups),
        try_others=ints(group.try_others for group in groups),
        connect_timeout_s=floats(group.connect_timeout_s for group in groups),
        response_timeout_s=floats(group.response_timeout_s for group in groups),
        drain_s=floats(group.drain_s for group in groups),
        slow_start_s=floats(group.slow_start_s for group in groups),
        resets_when_out=bools(group.on_out == "reset" for group in groups),
        sends_anyway=bools(group.when_none_healthy == "send-anyway" for group in groups),
    )


def actions_of(balancer: Balancer) -> Iterator[Action]:
    """Everything that a balancer's listeners may do with a request."""
    for listener in balancer.listeners:
        yield from (rule.do for rule in listener.rules)
        yield listener.otherwise


class _Rows(Struct):
    """Cells, routes, tiers and weighted groups while they are collected."""

    cells: dict[tuple[int, int], int] = field(default_factory=dict)
    routes: list[tuple[int, int]] = field(default_factory=list)
    tiers: list[tuple[int, int, float, float, bool]] = field(default_factory=list)
    weighted: list[tuple[int, int, int]] = field(default_factory=list)


class Ways(Struct, frozen=True):
    """How requests at fronts find their groups; `cell_front` and `cell_group` are the cells."""

    routes: Routes
    tiers: Tiers
    weighted: WeightedGroups
    cell_front: Ints
    cell_group: Ints


def ways_of(plan: Plan, fronts: Fronts) -> Ways:
    """How requests at fronts find their groups."""
    rows = _Rows()
    pool_at = {pool.name: index for index, pool in enumerate(plan.pools)}
    used = [dict.fromkeys(a.pool for a in actions_of(balancer) if a.pool) for balancer in plan.balancers]
    for front, balancer in enumerate(fronts.balancer):
        for pool_name in used[int(balancer)]:
            _add_route(plan, rows, front, pool_at[pool_name])
    tier = columns(np.array(rows.tiers, dtype=np.float64).reshape(-1, 5))
    tier_of, cell_of, weight = columns(np.array(rows.weighted, dtype=np.int64).reshape(-1, 3))
    tiers = Tiers(
        route=tier[0].astype(np.int64),
        number=tier[1].astype(np.int64),
        min_count=tier[2],
        min_share=tier[3],
        shares_out=tier[4].astype(bool),
    )
    groups = WeightedGroups(tier_of, tiers.route[tier_of], cell_of, weight.astype(np.float64))
    cell, route = columns(ints(rows.cells).reshape(-1, 2)), columns(ints(rows.routes).reshape(-1, 2))
    return Ways(Routes(*route), tiers, groups, *cell)


def _add_route(plan: Plan, rows: _Rows, front: int, pool: int) -> None:
    group_at = {group.name: index for index, group in enumerate(plan.target_groups)}
    rows.routes.append((front, pool))
    for number, tier in enumerate(plan.pools[pool].tiers):
        bound = tier.min_healthy
        shares_out = tier.empty_group == "share-out"
        rows.tiers.append((len(rows.routes) - 1, number, bound.count or 0, bound.share or 0, shares_out))
        for group_name, weight in tier.groups.items():
            cell = rows.cells.setdefault((front, group_at[group_name]), len(rows.cells))
            rows.weighted.append((len(rows.tiers) - 1, cell, weight))
