"""What of a network never changes, as the solver looks at it."""

import numpy as np

from northgate.engine.base import Bools, Floats, Ints
from northgate.engine.network import Network


class Frame:
    """What of a network never changes, as the solver looks at it. Rows are those of `Network.arrivals`."""

    def __init__(self, network: Network) -> None:
        self.network = network
        pairs, entries = network.pairs, network.entries
        arrivals = network.arrivals
        self.entry, self.front, self.route = arrivals.entry, arrivals.front, arrivals.route
        self.call = entries.call[self.entry]
        self.routed = self.route >= 0
        self.some_route = np.where(self.routed, self.route, 0)
        self.routes, self.cells = len(network.routes.front), len(network.cells.front)
        self.of_client = entries.member < 0
        self.inner = np.flatnonzero(entries.member >= 0)
        self.leads_on: Bools = network.members.leads_on[pairs.member]
        self.onward = np.flatnonzero(self.leads_on)
        # Where each front has an address of its own, those who were told it come to it, in the answer or not.
        self.own_address = entries.front[self.entry] >= 0
        self.anycast = np.array([one.address_kind == "anycast" for one in network.plan.balancers], dtype=bool)
        self.by_busy = np.isin(np.array(network.cells.method), ("least-connections", "two-choices"))[pairs.cell]
        self.busy = bool(self.by_busy.any())
        self.busy_machines = np.unique(pairs.machine[self.by_busy])
        self.hashed = [cell for cell, method in enumerate(network.cells.method) if method == "source-hash"]
        tries = network.groups.try_others
        # The cells, at layer 7, whose requests may go on to other targets; and how often.
        self.with_others: list[tuple[int, int]] = [
            (cell, int(tries[group]))
            for cell, group in enumerate(network.cells.group)
            if tries[group] and network.fronts.layer[network.cells.front[cell]] == 7
        ]
        cause = entries.fixed_cause
        self.fixed = np.flatnonzero(~self.routed)
        self.fixed_cause: Ints = cause[self.entry][self.fixed]
        self.outside = np.flatnonzero((entries.balancer < 0) & (cause < 0))
        self.nowhere = np.flatnonzero((entries.balancer < 0) & (cause >= 0))
        self.at_4: Bools = network.fronts.layer[self.front] == 4
        # Rows at which nothing listens.
        self.unheard = np.flatnonzero(entries.listener[self.entry] < 0)
        self.behind_front = entries.balancer >= 0
        self._find_trips(network)

    def _find_trips(self, network: Network) -> None:
        """Per row the client's round trip (s), 0 behind another balancer; and whether it alone is beyond his
        patience."""
        calls, region = network.calls, network.zone_region[network.fronts.zone[self.front]]
        trip_s = np.where(self.of_client[self.entry], network.calls.round_trip_s[self.call, region], 0.0)
        self.too_far: Bools = trip_s > calls.timeout_s[self.call]
        # Who waits for an answer from too far away waits as long as his patience lasts.
        self.trip_s: Floats = np.where(self.too_far, calls.timeout_s[self.call], trip_s)
