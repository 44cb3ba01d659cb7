"""Rates by place on the way."""

import numpy as np

from northgate.engine.base import (
    SERVED,
    Floats,
    cached,
    total_by,
    where_true,
)
from northgate.engine.solver.flow import Places
from northgate.engine.solver.totals.by_call import ByCall
from northgate.engine.solver.totals.loops import add_to_zones, find_in_time, find_pair_served, find_ratios
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
        self.over, self.through = solved.over, 1 - solved.over

    @cached
    def in_time(self) -> tuple[Floats, Floats]:
        """Of what is served of a first connect, by row and by front: the share that is served in time of all connects,
        those after waits for other addresses too. So what is counted by place agrees with what is counted by call, even
        where attempts do not settle."""
        frame, fronts = self.frame, len(self.network.fronts.zone)
        if not self.repeats.any:
            return np.ones(len(frame.entry)), np.ones(fronts)
        entries, rows = np.empty(len(self.sent.entry)), np.empty(len(frame.entry))
        find_ratios(self.back.entry, self.sent.entry, self.becomes, entries)
        work, made = np.empty((2, fronts))
        for _ in range(self.network.balancers.levels):
            find_in_time(
                frame.entry, frame.front, frame.routed, self.back.row, self.sent.row, entries, rows, work, made
            )  # fmt: skip
            if len(frame.inner):
                entries = np.where(frame.of_client, entries, self._in_time_behind(made))
        return rows, made

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
        pairs, served = self.network.pairs, self.back.pair[SERVED]
        made = np.empty(len(pairs.cell))
        over_open = np.zeros((0, len(made))) if self.bound is None else self.bound.served
        find_pair_served(
            self.sent.cell, pairs.cell, self.share, served, pairs.front, self.over, self.in_time[1], over_open, made
        )
        return made

    @cached
    def at_machines(self) -> Floats:
        """Per pair what a machine serves (requests/s); nothing where a balancer passes it on."""
        return np.where(self.frame.leads_on, 0.0, self.pair_served) if len(self.frame.onward) else self.pair_served

    @cached
    def zone_served(self) -> Floats:
        """Per zone what is served there: by its targets, or by a front itself."""
        network, frame = self.network, self.frame
        made, machines = np.zeros(len(network.zones)), network.machines
        add_to_zones(
            self.row_served, frame.routed, frame.front, network.fronts.zone, self.pair_served, frame.leads_on,
            network.pairs.machine, machines.zone, made,
        )  # fmt: skip
        if len(frame.outside):
            made[-1] += float(self.becomes[frame.outside, SERVED].sum())
        return made

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
    found = np.asarray(entries.listener[frame.entry] >= 0, dtype=np.float64)
    if frame.routes:
        # To whom it sends anyway is not in use.
        weighted, choice = unloaded.network.weighted, unloaded.choice
        in_use = choice.weighted_share * (choice.cell_in_use > 0)[weighted.cell]
        found = np.where(frame.routed, total_by(weighted.route, in_use, frame.routes)[frame.some_route], found)
    found = _taken_itself(unloaded, found)
    at_front = np.where(unloaded.arrives, found, 0.0) * unloaded.row_part
    return total_by(frame.entry, at_front, len(entries.call)) + ((entries.balancer < 0) & (entries.fixed_cause < 0))


def _taken_itself(unloaded: Unloaded, found: Floats) -> Floats:
    """`found` per row, at own addresses whether the one target answers there."""
    network, frame = unloaded.network, unloaded.frame
    mine = where_true(frame.routed & network.fronts.own[frame.front])
    if not len(mine):
        return found
    cell = np.zeros(frame.routes, dtype=np.int64)
    cell[network.weighted.route] = network.weighted.cell
    pair = np.searchsorted(network.pairs.cell, cell[frame.some_route[mine]])
    fate = unloaded.fate_of_call[frame.call[mine]]
    taken = found.astype(np.float64)
    taken[mine] = unloaded.answers[fate, pair]
    return taken
