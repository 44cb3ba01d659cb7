"""What becomes of connects of held classes."""

import numpy as np

from northgate.engine.base import KINDS, Floats, Ints, ints, where_true
from northgate.engine.solver.retries.classes import NOBODY, Pinned
from northgate.engine.solver.retries.kinds import add_routed, find_alike
from northgate.engine.solver.retries.loops import find_after_classes, find_held
from northgate.engine.solver.retries.returning import Returning
from northgate.engine.solver.retries.spreading import Spreading, Ways


class ClassOutcomes:
    """What becomes of one connect of each class; `over` per front: the share of answers that its bandwidth does not let
    through."""

    def __init__(self, returning: Returning, spreading: Spreading) -> None:
        self.network = returning.network
        self.unloaded, self.frame, self.choice = returning.unloaded, returning.frame, returning.choice
        self.entry, self.front, self.route = returning.entry, returning.front, returning.route
        self.row_part, self.takes, self.silent = returning.row_part, returning.takes, returning.silent
        self.lumps = returning.lumps
        self.spreading = spreading
        self.over = np.zeros(len(self.network.fronts.zone))

    def put(
        self, one: Pinned, entry: Floats, share: Floats, kinds: Ints, values: Floats, row: Floats, after: Floats,
        book: Floats,
    ) -> None:  # fmt: skip
        """Puts into the book what becomes of one connect by entry of the call, class and kind; `after` as of
        `Waits.after_waits`."""
        known, classes = self.spreading.courses.ways, len(one.weights)
        if one.call not in known:
            known[one.call] = self._find_ways(one)
        ways = known[one.call]
        shape = len(one.entries), classes
        # The rows of a call stand together.
        made = book[one.first : one.first + shape[0] * shape[1]].reshape(*shape, KINDS)
        find_alike(ways.part_alike, ways.alike, row, ways.elsewhere, one.entries, entry, made)
        if len(ways.refused):
            at_cells = self._at_cells(one, ways, share, kinds, values, after)
            add_routed(
                ways.chosen, at_cells, ways.part, ways.refused, ways.at_4, ways.trip_s, self.over, ways.front,
                np.empty(KINDS), made,
            )  # fmt: skip

    def _find_ways(self, one: Pinned) -> Ways:
        choice, weighted, mine = self.choice, self.network.weighted, one.ways
        part = np.where(one.entries[:, None] == self.entry[mine], self.row_part[mine], 0.0)
        routed = (self.route[mine] >= 0) & self.unloaded.arrives[mine]
        rows = mine[routed]
        chosen = np.zeros((len(rows), self.frame.cells))
        for place, number in enumerate(rows):
            groups = weighted.route == self.route[number]
            np.add.at(chosen[place], weighted.cell[groups], choice.weighted_share[groups])
        cells = where_true(chosen.any(axis=0)) if len(rows) else np.zeros(0, dtype=np.int64)
        elsewhere = ~np.isin(one.entries, self.entry[mine])
        pins = np.full((len(cells), len(one.weights)), NOBODY)
        for place, cell in enumerate(cells.tolist()):
            pins[place] = one.pins.get(cell, NOBODY)
        on = [place for place, cell in enumerate(cells.tolist()) if cell in one.spent]
        return Ways(
            cells, chosen.take(cells, axis=1), np.ascontiguousarray(part[:, routed]), mine[~routed],
            np.ascontiguousarray(part[:, ~routed]), elsewhere,
            choice.route_refused[self.route[rows]], self.frame.at_4[rows], self.frame.trip_s[rows], self.front[rows],
            pins, ints(self.spreading.courses.number[one.call, cell] for cell in cells[on].tolist()), ints(on),
        )  # fmt: skip

    def _at_cells(self, one: Pinned, ways: Ways, share: Floats, kinds: Ints, values: Floats, after: Floats) -> Floats:
        """What becomes of an attempt of each class at cells: (cells, classes, kinds)."""
        made = np.zeros((len(ways.cells), len(one.weights), KINDS))
        find_held(
            kinds, self.lumps.with_means(values), one.fate_alone, share, self.network.pairs.cell, ways.cells,
            ways.pins, np.empty((len(ways.cells), len(kinds))), made,
        )  # fmt: skip
        if len(ways.course):
            self._put_after_others(ways, share, after, made)
        return made

    def _put_after_others(self, ways: Ways, share: Floats, after: Floats, made: Floats) -> None:
        """Puts into what becomes of attempts at cells what becomes of those that go on to others."""
        courses, room, trying = self.spreading.courses, self.spreading.courses.room, self.spreading.courses.room.trying
        find_after_classes(
            ways.course, ways.place, courses.fate, courses.tries, courses.target_from, courses.pair, courses.class_from,
            courses.quiet, courses.place, courses.lump_from, courses.lump_place, courses.lump_share, self.takes,
            self.silent, share, after, trying.values, trying.counts, trying.table, room.shares, room.marks, room.known,
            room.is_known, room.good, made,
        )  # fmt: skip
