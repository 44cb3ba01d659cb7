"""What becomes of connects of held classes."""

import numpy as np
from msgspec import Struct

from northgate.engine.base import KINDS, Bools, Floats, Ints, ints
from northgate.engine.solver.retries.classes import NOBODY, Pinned
from northgate.engine.solver.retries.loops import add_routed, find_after_classes, find_held
from northgate.engine.solver.retries.returning import Returning
from northgate.engine.solver.retries.spreading import Spreading


class Ways(Struct, frozen=True):
    """How connects of a call that is followed by class go: the arrivals (`rows`) that lead to a pool, the cells to
    which they may lead with what each sends there (arrivals, cells), and the share of each entry's requests that it
    gets (entries, arrivals); those at which all classes fare `alike`, with the same; and the entries that have none."""

    cells: Ints
    rows: Ints
    chosen: Floats
    part: Floats
    alike: Ints
    part_alike: Floats
    elsewhere: Bools


class ClassOutcomes:
    """What becomes of one connect of each class; `over` per front: the share of answers that its bandwidth does not let
    through."""

    def __init__(self, returning: Returning, spreading: Spreading) -> None:
        self.returning, self.network, self.state = returning, returning.network, returning.state
        self.unloaded, self.frame, self.choice = returning.unloaded, returning.frame, returning.choice
        self.entry, self.front, self.route = returning.entry, returning.front, returning.route
        self.row_part, self.takes, self.silent = returning.row_part, returning.takes, returning.silent
        self.others, self.lumps = returning.others, returning.lumps
        self.spreading = spreading
        self.over = np.zeros(len(self.network.fronts.zone))
        self._ways: dict[int, Ways] = {}

    def of_class(
        self, one: Pinned, entry: Floats, share: Floats, kinds: Ints, values: Floats, row: Floats, after: Floats
    ) -> Floats:
        """What becomes of one connect by entry of the call, class and kind; `after` as of `Waits.after_waits`."""
        if one.call not in self._ways:
            self._ways[one.call] = self._find_ways(one)
        ways, classes = self._ways[one.call], len(one.weights)
        made = np.repeat((ways.part_alike @ row[ways.alike])[:, None], classes, axis=1)
        # Outside, or without any front in the address: whatever holds a call, all fare alike.
        made[ways.elsewhere] = entry[one.entries[ways.elsewhere], None]
        if len(ways.cells):
            rows = ways.rows
            add_routed(
                ways.chosen, self._at_cells(one, ways.cells, share, kinds, values[:, one.fate], after), ways.part,
                self.choice.route_refused[self.route[rows]], self.frame.at_4[rows], self.frame.trip_s[rows],
                self.over[self.front[rows]], np.empty(KINDS), made,
            )  # fmt: skip
        return made

    def _find_ways(self, one: Pinned) -> Ways:
        choice, weighted, mine = self.choice, self.network.weighted, one.ways
        part = np.where(one.entries[:, None] == self.entry[mine], self.row_part[mine], 0.0)
        routed = (self.route[mine] >= 0) & self.unloaded.arrives[mine]
        rows = mine[routed]
        chosen = np.zeros((len(rows), self.frame.cells))
        for place, number in enumerate(rows):
            groups = weighted.route == self.route[number]
            np.add.at(chosen[place], weighted.cell[groups], choice.weighted_share[groups])
        cells = np.flatnonzero(chosen.any(axis=0)) if len(rows) else np.zeros(0, dtype=np.int64)
        elsewhere = ~np.isin(one.entries, self.entry[mine])
        return Ways(cells, rows, chosen[:, cells], part[:, routed], mine[~routed], part[:, ~routed], elsewhere)

    def _at_cells(self, one: Pinned, cells: Ints, share: Floats, kinds: Ints, values: Floats, after: Floats) -> Floats:
        """What becomes of an attempt of each class at cells: (cells, classes, kinds)."""
        made = np.zeros((len(cells), len(one.weights), KINDS))
        pins = np.array([one.pins.get(int(cell), np.full(len(one.weights), NOBODY)) for cell in cells])
        find_held(
            kinds, self.lumps.with_means(values), share[min(one.fate, len(share) - 1)], self.network.pairs.cell, cells,
            pins, np.empty((len(cells), len(kinds))), made,
        )  # fmt: skip
        on = [place for place, cell in enumerate(cells.tolist()) if cell in one.spent]
        if on:
            some = ints(self.spreading.number[one.call, cell] for cell in cells[on].tolist())
            self._put_after_others(some, ints(on), share, after, made)
        return made

    def _put_after_others(self, some: Ints, places: Ints, share: Floats, after: Floats, made: Floats) -> None:
        """Puts into what becomes of attempts at cells, at these places of its first axis, what becomes of those at
        courses that go on to others."""
        courses, room = self.spreading.courses, self.spreading.courses.room
        size = room.values.shape[1]
        find_after_classes(
            some, places, courses.fate, courses.tries, courses.target_from, courses.pair, courses.class_from,
            courses.quiet, courses.place, courses.lump_from, courses.lump_place, courses.lump_share, self.takes,
            self.silent, share, after, room.values, room.counts, room.table, np.empty((4, size)),
            np.empty((2, size), dtype=bool), np.empty((size, KINDS)), np.empty(size, dtype=bool),
            np.empty((courses.most_tries + 1, KINDS)), made,
        )  # fmt: skip
