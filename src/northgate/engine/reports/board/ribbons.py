"""The flows between parts of the board."""

import numpy as np
from msgspec import Struct

from northgate.engine.base import Ints
from northgate.engine.network import Network, outside_of
from northgate.engine.reports.board.model import Ribbon, rates_of
from northgate.engine.solver import Flow


class Ways(Struct, frozen=True):
    """Between which parts of the board entries, fronts and pairs lead: from what, to what, and which of them."""

    entries: list[tuple[str, str, Ints]]
    fronts: list[tuple[str, str, Ints]]
    pairs: list[tuple[str, str, Ints]]


def ribbons(flow: Flow) -> list[Ribbon]:
    """Flows from clients to names, on to balancers and their fronts, and from fronts to the zones of their targets."""
    network, places = flow.network, flow.places
    ways = network.derived(_ways)
    return [
        Ribbon(source=source, to=to, **rates_of(float(offered[mine].sum()), float(served[mine].sum())))
        for some, offered, served in (
            (ways.entries, places.entry_rps, places.entry_served),
            (ways.fronts, places.front_rps, places.front_served),
            (ways.pairs, places.pair_rps, flow.pair_served),
        )
        for source, to, mine in some
        if offered[mine].sum() > 0
    ]


def _ways(network: Network) -> Ways:
    """The ways of all entries, from clients to names and from names on; to all fronts; and of all pairs."""
    plan, entries, pairs = network.plan, network.entries, network.pairs
    clients, names, made = len(plan.clients), len(plan.names), list[tuple[str, str, Ints]]()
    for one, asked, mine in _groups_of(network.calls.client[entries.call], entries.name):
        if one < clients:
            name = plan.names[asked].name if asked < names else "address"
            made.append((f"client:{plan.clients[one].name}", f"name:{name}", mine))
    for asked, balancer, mine in _groups_of(entries.name, entries.balancer):
        # What leads nowhere leads to no part of the board.
        mine = mine if balancer >= 0 else mine[entries.fixed_cause[mine] < 0]  # noqa: PLW2901
        if asked < names and len(mine):
            leads = f"balancer:{plan.balancers[balancer].name}" if balancer >= 0 else f"zone:{outside_of(plan)}"
            made.append((f"name:{plan.names[asked].name}", leads, mine))
    fronts = [
        (f"balancer:{name}", f"front:{name}/{network.front_name(front)}", np.array([front]))
        for front, name in enumerate(map(network.balancer_of, range(len(network.fronts.zone))))
    ]
    zones = [
        (f"front:{network.balancer_of(front)}/{network.front_name(front)}", f"zone:{network.zones[zone]}", mine)
        for front, zone, mine in _groups_of(pairs.front, network.machines.zone[pairs.machine])
    ]
    return Ways(made, fronts, zones)


def _groups_of(one: Ints, other: Ints) -> list[tuple[int, int, Ints]]:
    """The positions of each combination of two indices that occurs, in rising order."""
    if not len(one):
        return []
    # Both count from -1 on, so that one number says which they are.
    wide = int(other.max()) + 2
    kinds, where = np.unique((one + 1) * wide + other + 1, return_inverse=True)
    pairs = (divmod(kind, wide) for kind in kinds.tolist())
    return [(a - 1, b - 1, np.flatnonzero(where == number)) for number, (a, b) in enumerate(pairs)]
