"""Rates by place on the way."""

import numpy as np

from northgate.engine.base import (
    SERVED,
    Floats,
    cached,
    total_by,
)
from northgate.engine.solver.flow import Places
from northgate.engine.solver.totals.by_call import ByCall
from northgate.engine.solver.totals.solved import Solved
from northgate.engine.solver.unloaded import Unloaded


class ByPlace:
    """Rates by place on the way."""

    def __init__(self, solved: Solved, calls: ByCall) -> None:
        self.network = solved.context.network
        self.unloaded, self.frame = solved.context.unloaded, solved.context.unloaded.frame
        self.repeats, self.connected = solved.context.repeats, solved.context.connected
        self.share, self.sent, self.back = solved.share, solved.sent, solved.back
        self.becomes, self.ended, self.bound = calls.becomes, calls.ended, solved.bound
        self.through = 1 - solved.over

    @cached
    def in_time(self) -> tuple[Floats, Floats]:
        """Of what is served of a first connect, by row and by front: the share that is served in time of all connects,
        those after waits for other addresses too. So what is counted by place agrees with what is counted by call, even
        where attempts do not settle."""
        rows, fronts = np.ones(len(self.frame.entry)), np.ones(len(self.network.fronts.zone))
        if not self.repeats.any:
            return rows, fronts
        at_once = self.back.entry[:, SERVED] * self.sent.entry
        entries = np.divide(self.becomes[:, SERVED], at_once, out=np.ones_like(at_once), where=at_once > 0)
        for _ in range(self.network.balancers.levels):
            rows = entries[self.frame.entry]
            served = np.where(self.frame.routed, self.back.row[:, SERVED] * self.sent.row, 0.0)
            whole, well = (total_by(self.frame.front, value, len(fronts)) for value in (served, served * rows))
            fronts = np.divide(well, whole, out=np.ones_like(whole), where=whole > 0)
            if len(self.frame.inner):
                entries = np.where(self.frame.of_client, entries, self._in_time_behind(fronts))
        return rows, fronts

    def _in_time_behind(self, fronts: Floats) -> Floats:
        """Per entry behind a target: which share is served in time of what its fronts pass on."""
        pairs, entries = self.network.pairs, self.network.entries
        count = len(self.network.members.group)
        rate = (self.sent.cell[:, pairs.cell] * self.share).sum(axis=0)
        whole, well = (total_by(pairs.member, value, count) for value in (rate, rate * fronts[pairs.front]))
        part = np.divide(well, whole, out=np.ones(count), where=whole > 0)
        return np.asarray(part[np.maximum(entries.member, 0)])

    @cached
    def row_served(self) -> Floats:
        """Per row what is served (requests/s)."""
        made = self.back.row[:, SERVED] * self.sent.row * self.in_time[0]
        return np.asarray(made if self.bound is None else made + self.bound.row[:, SERVED])

    @cached
    def pair_served(self) -> Floats:
        """Per pair what is served (requests/s)."""
        served, share, cell = self.back.pair[SERVED], self.share, self.network.pairs.cell
        if len(share) > 1:
            made = (self.sent.cell[:, cell] * share * served).sum(axis=0)
        else:
            made = (self.sent.cell[:, cell] * served).sum(axis=0) * share[0]
        made = made * (self.through * self.in_time[1])[self.network.pairs.front]
        return np.asarray(made if self.bound is None else made + self.bound.served.sum(axis=0))

    @cached
    def at_machines(self) -> Floats:
        """Per pair what a machine serves (requests/s); nothing where a balancer passes it on."""
        return np.where(self.frame.leads_on, 0.0, self.pair_served) if len(self.frame.onward) else self.pair_served

    @cached
    def zone_served(self) -> Floats:
        """Per zone what is served there: by its targets, or by a front itself."""
        network, frame, zones = self.network, self.frame, len(self.network.zones)
        fixed = np.where(frame.routed, 0.0, self.row_served)
        made = total_by(network.fronts.zone[frame.front], fixed, zones)
        if len(frame.outside):
            made[-1] += float(self.becomes[frame.outside, SERVED].sum())
        return total_by(network.machines.zone[network.pairs.machine], self.at_machines, zones) + made

    def places(self) -> Places:
        """Rates by place on the way."""
        network, frame = self.network, self.frame
        cell_rps, weighted_rps = self.sent.cell.sum(axis=0), self.sent.weighted.sum(axis=0)
        pair_rps = (self.sent.cell[:, network.pairs.cell] * self.share).sum(axis=0)
        cell_served = (self.back.cell[SERVED] * self.sent.cell).sum(axis=0) * self.through[network.cells.front]
        weighted_served = (self.sent.weighted * self.back.cell[SERVED][:, network.weighted.cell]).sum(axis=0)
        weighted_served = weighted_served * self.through[network.cells.front[network.weighted.cell]]
        tried = self.sent.row
        if self.bound is not None:
            open_now, coming = self.connected, self.connected.coming
            cell_ok = open_now.by_cell(self.bound.served)
            tried, pair_rps = tried + self.bound.row_rps, pair_rps + coming.sum(axis=0)
            cell_rps, cell_served = cell_rps + open_now.by_cell(coming).sum(axis=0), cell_served + cell_ok.sum(axis=0)
            weighted_rps = weighted_rps + open_now.by_weighted(open_now.by_cell(coming))
            weighted_served = weighted_served + open_now.by_weighted(cell_ok)
        fronts, zone = len(network.fronts.zone), network.machines.zone[network.pairs.machine]
        elsewhere = np.where(network.pairs.same_zone, 0.0, self.at_machines)
        return Places(
            front_rps=total_by(frame.front, tried, fronts),
            front_dead_rps=total_by(frame.front, np.where(self.unloaded.dead, tried, 0.0), fronts),
            front_served=total_by(frame.front, self.row_served, fronts),
            entry_rps=self.ended[:, : SERVED + 1].sum(axis=1),
            entry_served=self.ended[:, SERVED],
            cell_rps=cell_rps,
            cell_served=cell_served,
            weighted_rps=weighted_rps,
            weighted_served=weighted_served,
            pair_rps=pair_rps,
            zone_from_elsewhere=total_by(zone, elsewhere, len(network.zones)),
        )


def accepts(unloaded: Unloaded) -> Floats:
    """Per entry the share of connections that a living front takes which believes some target in use; at an instance's
    own address, that the instance takes itself."""
    entries, frame = unloaded.network.entries, unloaded.frame
    found = np.where(frame.routed, 1.0, entries.listener[frame.entry] >= 0)
    if frame.routes:
        found -= np.where(frame.routed, unloaded.choice.route_refused[frame.some_route], 0.0)
    found = _taken_itself(unloaded, found)
    at_front = np.where(unloaded.arrives, found, 0.0) * unloaded.row_part
    return total_by(frame.entry, at_front, len(entries.call)) + (entries.balancer < 0)


def _taken_itself(unloaded: Unloaded, found: Floats) -> Floats:
    """`found` per row, at own addresses whether the one target answers there."""
    network, frame = unloaded.network, unloaded.frame
    mine = np.flatnonzero(frame.routed & network.fronts.own[frame.front])
    if not len(mine):
        return found
    cell = np.zeros(frame.routes, dtype=np.int64)
    cell[network.weighted.route] = network.weighted.cell
    pair = np.searchsorted(network.pairs.cell, cell[frame.some_route[mine]])
    fate = unloaded.fate_of_call[frame.call[mine]]
    taken = found.astype(np.float64)
    taken[mine] = unloaded.answers[fate, pair]
    return taken
