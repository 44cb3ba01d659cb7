"""How requests at a front find their group, compiled; and how deep balancers stand behind each other."""

from collections.abc import Iterator

import numpy as np

from northgate.engine.base import CannotRun, Ints
from northgate.engine.network.names import NameBook
from northgate.engine.network.tables import Fronts, Machines, Members, Pairs, Routes, floats, ints
from northgate.plan import Plan, Problem
from northgate.plan.balancers import Action, Balancer
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


def fronts_of(plan: Plan, zone_at: dict[str, int]) -> Fronts:
    """Every balancer's fronts, in plan order."""
    rows = [(index, zone, balancer) for index, balancer in enumerate(plan.balancers) for zone in balancer.zones]
    return Fronts(
        balancer=ints(index for index, _, _ in rows),
        zone=ints(zone_at[zone] for _, zone, _ in rows),
        failover_s=floats(balancer.front_failover_s for _, _, balancer in rows),
    )


def actions_of(balancer: Balancer) -> Iterator[Action]:
    """Everything that a balancer's listeners may do with a request."""
    for listener in balancer.listeners:
        yield from (rule.do for rule in listener.rules)
        yield listener.otherwise


def routes_and_pairs(
    plan: Plan, machines: Machines, members: Members, fronts: Fronts, zone_region: Ints
) -> tuple[Routes, Pairs]:
    """How a request at each front finds its group, and who is within reach there; `zone_region` per zone."""
    pool_at = {pool.name: index for index, pool in enumerate(plan.pools)}
    group_at = {group.name: index for index, group in enumerate(plan.target_groups)}
    cells: dict[tuple[int, int], int] = {}
    routes: list[tuple[int, int]] = []
    choices: list[tuple[int, int, float, float, bool]] = []
    lanes: list[tuple[int, int, int]] = []
    used = [dict.fromkeys(a.pool for a in actions_of(balancer) if a.pool) for balancer in plan.balancers]
    for front, balancer in enumerate(fronts.balancer):
        for pool_name in used[int(balancer)]:
            pool = plan.pools[pool_at[pool_name]]
            routes.append((front, pool_at[pool_name]))
            for number, tier in enumerate(pool.tiers):
                bound = tier.min_healthy
                choices.append(
                    (len(routes) - 1, number, bound.count or 0, bound.share or 0, tier.empty_group == "share-out")
                )
                for group_name, weight in tier.groups.items():
                    cell = cells.setdefault((front, group_at[group_name]), len(cells))
                    lanes.append((len(choices) - 1, cell, weight))
    choice_table = np.array(choices, dtype=np.float64).reshape(-1, 5)
    lane_table = np.array(lanes, dtype=np.int64).reshape(-1, 3)
    cell_table = ints(cells).reshape(-1, 2)
    route_table = ints(routes).reshape(-1, 2)
    made = Routes(
        cell_front=cell_table[:, 0],
        cell_group=cell_table[:, 1],
        route_front=route_table[:, 0],
        route_pool=route_table[:, 1],
        choice_route=choice_table[:, 0].astype(np.int64),
        choice_tier=choice_table[:, 1].astype(np.int64),
        choice_min_count=choice_table[:, 2],
        choice_min_share=choice_table[:, 3],
        choice_shares_out=choice_table[:, 4].astype(bool),
        lane_choice=lane_table[:, 0],
        lane_cell=lane_table[:, 1],
        lane_weight=lane_table[:, 2].astype(np.float64),
    )
    return made, _pairs(plan, machines, members, fronts, zone_region, cell_table)


def _pairs(plan: Plan, machines: Machines, members: Members, fronts: Fronts, zone_region: Ints, cells: Ints) -> Pairs:
    front_parts, member_parts, cell_parts = [ints([])], [ints([])], [ints([])]
    of_group = [np.flatnonzero(members.group == index) for index in range(len(plan.target_groups))]
    for cell, (front, group) in enumerate(cells):
        candidates = of_group[int(group)]
        zones = machines.zone[members.machine[candidates]]
        reach = plan.target_groups[int(group)].reach
        # What leads on, or outside, is no place of its own: every front may use it.
        everywhere = ~machines.real[members.machine[candidates]]
        if reach == "zone":
            candidates = candidates[everywhere | (zones == fronts.zone[front])]
        elif reach != "any":
            candidates = candidates[everywhere | (zone_region[zones] == zone_region[fronts.zone[front]])]
        front_parts.append(np.full(len(candidates), front))
        member_parts.append(candidates)
        cell_parts.append(np.full(len(candidates), cell))
    front, member, cell_of = map(np.concatenate, (front_parts, member_parts, cell_parts))
    machine = members.machine[member]
    return Pairs(
        front=front,
        member=member,
        cell=cell_of,
        machine=machine,
        weight=members.weight[member],
        same_zone=(fronts.zone[front] == machines.zone[machine]) | members.leads_on[member],
    )
