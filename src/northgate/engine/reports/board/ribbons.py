"""The flows between parts of the board."""

import numpy as np

from northgate.engine.base import Ints
from northgate.engine.network import OUTSIDE
from northgate.engine.reports.board.model import Ribbon, rates_of
from northgate.engine.solver import Flow


def ribbons(flow: Flow) -> list[Ribbon]:
    """Flows from clients to names, on to balancers and their fronts, and from fronts to the zones of their targets."""
    network = flow.network
    plan, entries, pairs = network.plan, network.entries, network.pairs
    client = network.calls.client[entries.call]
    flows: list[Ribbon] = []

    def add(source: str, to: str, offered: float, served: float) -> None:
        if offered > 0:
            flows.append(Ribbon(source=source, to=to, **rates_of(offered, served)))

    for one, asked, mine in _groups_of(client, network.entries.name):
        if one >= len(plan.clients):
            continue
        name = plan.names[asked].name if asked < len(plan.names) else "address"
        add(
            f"client:{plan.clients[one].name}", f"name:{name}",
            float(flow.places.entry_rps[mine].sum()), float(flow.places.entry_served[mine].sum()),
        )  # fmt: skip
    for asked, balancer, mine in _groups_of(network.entries.name, entries.balancer):
        leads = f"balancer:{plan.balancers[balancer].name}" if balancer >= 0 else f"zone:{OUTSIDE}"
        if asked < len(plan.names):
            add(
                f"name:{plan.names[asked].name}", leads,
                float(flow.places.entry_rps[mine].sum()), float(flow.places.entry_served[mine].sum()),
            )  # fmt: skip
    for front in range(len(network.fronts.zone)):
        balancer_name, zone = network.balancer_of(front), network.front_name(front)
        add(
            f"balancer:{balancer_name}", f"front:{balancer_name}/{zone}",
            float(flow.places.front_rps[front]), float(flow.places.front_served[front]),
        )  # fmt: skip
    for front, zone_index, mine in _groups_of(pairs.front, network.machines.zone[pairs.machine]):
        add(
            f"front:{network.balancer_of(front)}/{network.front_name(front)}", f"zone:{network.zones[zone_index]}",
            float(flow.places.pair_rps[mine].sum()), float(flow.pair_served[mine].sum()),
        )  # fmt: skip
    return flows


def _groups_of(one: Ints, other: Ints) -> list[tuple[int, int, Ints]]:
    """The positions of each combination of two indices that occurs, in rising order."""
    if not len(one):
        return []
    # Both count from -1 on, so that one number says which they are.
    wide = int(other.max()) + 2
    kinds, where = np.unique((one + 1) * wide + other + 1, return_inverse=True)
    pairs = (divmod(kind, wide) for kind in kinds.tolist())
    return [(a - 1, b - 1, np.flatnonzero(where == number)) for number, (a, b) in enumerate(pairs)]
