"""Who is chosen: tiers, groups and targets as each front sees them."""

import numpy as np
from msgspec import Struct

from northgate.engine.base import Bools, Floats, Ints, total_by
from northgate.engine.network import Network


class Choice(Struct, frozen=True):
    """How each front chooses: per cell the share of its route, per pair its weight in its cell, per route what fails.

    `weighted_share[l]` is the share of its route's requests that go through weighted group l; `route_refused` the share
    that finds nobody (cause none_healthy); `pair_weight` is 0 for those that are left out, `candidate` says who is not.
    `demand_rps` by route is what comes to it at first, where groups are filled.
    """

    route_tier: Ints
    weighted_share: Floats
    route_refused: Floats
    pair_weight: Floats
    candidate: Bools
    cell_in_use: Floats
    cell_targets: Floats
    cell_anyway: Bools
    demand_rps: Floats | None = None


def choose(network: Network, in_use: Bools, warmth: Floats, here: Bools) -> Choice:
    """Tiers, groups and candidates as each front sees them; `warmth` lowers the weight of those that start slowly,
    `here` says which pairs have a target at all."""
    pairs = network.pairs
    cells = len(network.cells.front)
    counted = (pairs.weight > 0) & here
    cell_in_use = total_by(pairs.cell, in_use & counted, cells)
    cell_targets = total_by(pairs.cell, counted, cells)
    tier_in_use = _sum_of_weighted(network, cell_in_use)
    route_tier = _serving_tier(network, tier_in_use, _sum_of_weighted(network, cell_targets))
    serving = route_tier[network.weighted.route] == network.weighted.tier
    anyway = (
        serving
        & (tier_in_use == 0)[network.weighted.tier]
        & network.groups.sends_anyway[network.cells.group[network.weighted.cell]]
    )
    anyway &= (cell_targets > 0)[network.weighted.cell]
    weighted_share, refused = _weighted_shares(
        network, serving, (cell_in_use > 0)[network.weighted.cell] | anyway, tier_in_use
    )
    cell_anyway = total_by(network.weighted.cell, anyway, cells) > 0
    candidate = counted & (in_use | cell_anyway[pairs.cell])
    weight = _weights(network, np.where(candidate, pairs.weight * warmth, 0.0))
    return Choice(
        route_tier, weighted_share, refused, weight, candidate & (weight > 0), cell_in_use, cell_targets, cell_anyway
    )


def _sum_of_weighted(network: Network, of_cell: Floats) -> Floats:
    """Sums a value of cells over the weighted groups of each tier."""
    return total_by(network.weighted.tier, of_cell[network.weighted.cell], len(network.tiers.route))


def _serving_tier(network: Network, known: Floats, whole: Floats) -> Ints:
    """Per route the first tier with enough targets in use, else the first with any, else the first."""
    choices = len(network.tiers.route)
    enough = (known >= network.tiers.min_count) & (known >= network.tiers.min_share * whole - 1e-9) & (known > 0)
    best = network.tiers.first.copy()
    for fitting in (known > 0, enough):
        first = np.full(len(best), choices)
        np.minimum.at(first, network.tiers.route[fitting], np.flatnonzero(fitting))
        best = np.where(first < choices, first, best)
    return best


def _weighted_shares(
    network: Network, serving: Bools, group_serves: Bools, tier_in_use: Floats
) -> tuple[Floats, Floats]:
    """The share of each route's requests per weighted group, and per route the share that finds nobody.

    An empty group's weight is shared out, or fails, as its tier says; when the whole tier is empty, each group's
    weight is its own affair.
    """
    count = len(network.routes.front)
    weight = np.where(serving, network.weighted.weight, 0.0)
    filled = np.where(group_serves, weight, 0.0)
    shares_out = network.tiers.shares_out & (tier_in_use > 0)
    based_on = np.where(shares_out[network.weighted.tier], filled, weight)
    base = total_by(network.weighted.route, based_on, count)[network.weighted.route]
    share = np.divide(filled, base, out=np.zeros_like(filled), where=base > 0)
    refused = np.divide(based_on - filled, base, out=np.zeros_like(filled), where=base > 0)
    lost = total_by(network.weighted.route, refused, count)
    given = total_by(network.weighted.route, share, count)
    return share, np.where(given + lost > 0, lost, 1.0)


def _weights(network: Network, weight: Floats) -> Floats:
    """The candidates' weights; a `prefer-zone` cell keeps to its own zone's while it has any."""
    pairs = network.pairs
    prefers = network.groups.prefers_zone
    if not prefers.any():
        return weight
    own = np.where(pairs.same_zone, weight, 0.0)
    has_own = total_by(pairs.cell, own, len(network.cells.front)) > 0
    return np.where((prefers[network.cells.group] & has_own)[pairs.cell], own, weight)
