"""Who is within reach of each front, compiled: cells and pairs, and which of them are probed."""

from collections.abc import Mapping

import numpy as np

from northgate.engine.base import Bools, CannotRun, Ints, distinct, ints
from northgate.engine.network.routes import Ways
from northgate.engine.network.tables import (
    Balancers,
    Cells,
    Entries,
    Fronts,
    Groups,
    Machines,
    Members,
    Pairs,
    Probed,
)
from northgate.plan import Plan, Problem

# For each sort of requests at each front and target a number: eight times as many as the largest plan that the bench
# runs has.
MOST_VALUES = 10_000_000


def cells_and_pairs(
    plan: Plan, ways: Ways, machines: Machines, members: Members, groups: Groups, balancers: Balancers, fronts: Fronts,
    entries: Entries, zone_region: Ints, outcomes: int,
) -> tuple[Cells, Pairs]:  # fmt: skip
    """The cells, and every front with every member within its reach there; `zone_region` per zone. What becomes of
    so many sorts of requests (`outcomes`) is computed for each; raises CannotRun where that is too much."""
    of_group = [np.flatnonzero(members.group == index) for index in range(len(groups.method))]
    parts, count = [np.zeros((3, 0), dtype=np.int64)], 0
    for cell, (front, group) in enumerate(zip(ways.cell_front, ways.cell_group, strict=True)):
        mine = of_group[int(group)]
        mine = mine[_in_reach(groups.reach[int(group)], mine, int(fronts.zone[front]), machines, members, zone_region)]
        count += len(mine)
        if count * outcomes > MOST_VALUES:
            told = f"{outcomes:,} sorts of requests at {count:,} pairs of fronts and targets, or more, are too many"
            raise CannotRun([Problem("/balancers", f"{told}: {MOST_VALUES:,} values can be computed")])
        parts.append(np.stack([np.full(len(mine), front), mine, np.full(len(mine), cell)]))
    front, member, cell_of = np.concatenate(parts, axis=1)
    machine, group = members.machine[member], members.group[member]
    at_7 = fronts.layer[front] == 7
    # At layer 4 the client itself hangs, for as long as clients have patience on the mean.
    own = [client.connect_timeout_s for client in plan.clients]
    first = np.isin(fronts.balancer[front], distinct(entries.balancer[entries.member < 0]))
    pairs = Pairs(
        front=front,
        member=member,
        cell=cell_of,
        group=group,
        machine=machine,
        weight=members.weight[member],
        same_zone=(fronts.zone[front] == machines.zone[machine]) | members.leads_on[member],
        region=zone_region[fronts.zone[front]],
        connect_timeout_s=np.where(at_7, groups.connect_timeout_s[group], sum(own) / len(own) if own else 0.0),
        response_timeout_s=np.where(at_7, groups.response_timeout_s[group], np.inf),
        first=first,
        behind=_behind(balancers, fronts.balancer[front], member, entries, first),
    )
    sizes = np.bincount(cell_of, minlength=len(ways.cell_front))
    of_cell = tuple(np.split(np.arange(len(front)), np.cumsum(sizes)[:-1])) if len(sizes) else ()
    method = tuple(groups.method[int(group)] for group in ways.cell_group)
    return Cells(ways.cell_front, ways.cell_group, method, of_cell), pairs


def _in_reach(
    reach: str, mine: Ints, front_zone: int, machines: Machines, members: Members, zone_region: Ints
) -> Bools:  # fmt: skip
    zones = machines.zone[members.machine[mine]]
    # What leads on, or outside, is no place of its own: every front may use it.
    everywhere = ~machines.real[members.machine[mine]]
    if reach == "zone":
        return np.asarray(everywhere | (zones == front_zone))
    if reach == "any":
        return np.ones(len(mine), dtype=bool)
    return np.asarray(everywhere | (zone_region[zones] == zone_region[front_zone]))


def _behind(
    balancers: Balancers, balancer: Ints, member: Ints, entries: Entries, first: Bools
) -> tuple[tuple[Ints, Ints], ...]:  # fmt: skip
    """As `Pairs.behind` says; `balancer`, `member` and `first` per pair."""
    found = []
    for inner in np.argsort(balancers.level, kind="stable"):
        into = np.flatnonzero((balancer == inner) & ~first)
        members = entries.member[(entries.balancer == inner) & (entries.member >= 0)]
        before = np.flatnonzero(np.isin(member, members))
        if len(into) and len(before):
            found.append((into, before))
    return tuple(found)


def probed_of(groups: Groups, pairs: Pairs, probe_calls: Mapping[int, int]) -> Probed:
    """The pairs that are probed; `probe_calls` are the calls that stand for the probes of members that lead on."""
    watched = np.array([probe is not None for probe in groups.probe], dtype=bool)
    timeout_s = np.array([probe.timeout_s if probe else np.inf for probe in groups.probe], dtype=np.float64)
    pair = np.flatnonzero(watched[pairs.group])
    onward = np.flatnonzero(np.isin(pairs.member[pair], ints(probe_calls)))
    calls = ints(probe_calls[int(member)] for member in pairs.member[pair[onward]])
    return Probed(pair, timeout_s[pairs.group[pair]], onward, calls)
