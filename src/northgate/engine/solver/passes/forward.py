"""One pass, forward: from entries to fronts, groups and targets, and through their queues.

Requests go forward one level of balancers after the other."""

import numpy as np

from northgate.engine.base import Floats, sum_columns
from northgate.engine.formulas import Queue, Stations
from northgate.engine.solver.context import Sent, Stage
from northgate.engine.solver.passes.loops import find_offered, find_sent
from northgate.engine.solver.unloaded import Unloaded


class Forward(Stage):
    """From entries to fronts, groups and targets, and through their queues."""

    def run(self, share: Floats) -> Sent:
        """Every request's way to the pairs; what leads on from there is sent again, a level deeper."""
        inner, rps = self.frame.inner, self.repeats.setting_out()
        sent = self.to_cells(rps)
        for _ in range(self.network.balancers.levels - 1 if len(inner) else 0):
            rps[inner] = self._passed_on(share, sent)[inner] * self.dns_share[inner]
            sent = self.to_cells(rps)
        return sent

    def to_cells(self, rps: Floats) -> Sent:
        """Rates of entries (requests/s) on their way to cells."""
        frame, unloaded, weighted = self.frame, self.unloaded, self.network.weighted
        row, by_route = np.empty(len(frame.entry)), np.empty((self.fates, self.routes))
        by_weighted, cell = np.empty((self.fates, len(weighted.route))), np.empty((self.fates, self.cells))
        find_sent(
            rps, frame.entry, unloaded.row_part, unloaded.asks_pool, frame.route, unloaded.fate_of_row, weighted.route,
            weighted.cell, self.choice.weighted_share, row, by_route, by_weighted, cell,
        )  # fmt: skip
        return Sent(rps.copy(), row, by_route, by_weighted, cell)

    def _passed_on(self, share: Floats, sent: Sent) -> Floats:
        """Per entry behind a target: the rate at which its call comes through that target."""
        pairs, entries, onward = self.network.pairs, self.network.entries, self.frame.onward
        rate = sent.cell[:, pairs.cell[onward]] * np.broadcast_to(share, (self.fates, share.shape[1]))[:, onward]
        if self.connected.any:
            rate = rate + self.connected.arriving(self.fates)[:, onward]
        count = len(self.network.members.group)
        by_member = sum_columns(pairs.member[onward], rate, count)
        return by_member[self.fate_of_call[entries.call], np.maximum(entries.member, 0)]

    def queues(self, share: Floats, sent: Sent) -> Queue:
        """How the machines' queues stand under what reaches them."""
        pairs, offered = self.network.pairs, np.zeros(len(self.network.machines.names))
        find_offered(
            sent.cell, share, self.unloaded.answers, pairs.cell, pairs.machine, self.frame.leads_on,
            self.connected.coming, self.connected.fate, offered,
        )  # fmt: skip
        return self.unloaded.derived(_stations).queues(offered, self.state.backlog_s)


def _stations(unloaded: Unloaded) -> Stations:
    """The machines, as slow as they truly are."""
    return unloaded.network.machines.stations(unloaded.state.truth.slowness)
