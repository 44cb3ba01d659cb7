"""What becomes of connects of held classes."""

from collections.abc import Mapping

import numpy as np
from msgspec import Struct

from northgate.engine.base import KINDS, Bools, Floats, Ints, distinct
from northgate.engine.solver.retries.classes import NOBODY, Pinned
from northgate.engine.solver.retries.loops import add_routed, find_held
from northgate.engine.solver.retries.returning import Returning
from northgate.engine.solver.retries.spreading import Spreading

# What becomes of calls that have met silent targets before: per fate and cell (silent ones before, pair of the cell,
# kind).
AfterWaits = Mapping[tuple[int, int], Floats]


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
        self, one: Pinned, entry: Floats, share: Floats, kinds: Ints, values: Floats, row: Floats, after: AfterWaits
    ) -> Floats:
        """What becomes of one connect by entry of the call, class and kind."""
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

    def _at_cells(
        self, one: Pinned, cells: Ints, share: Floats, kinds: Ints, values: Floats, after: AfterWaits
    ) -> Floats:
        """What becomes of an attempt of each class at cells: (cells, classes, kinds)."""
        made = np.zeros((len(cells), len(one.weights), KINDS))
        pins = np.array([one.pins.get(int(cell), np.full(len(one.weights), NOBODY)) for cell in cells])
        find_held(
            kinds, self.lumps.with_means(values), share[min(one.fate, len(share) - 1)], self.network.pairs.cell, cells,
            pins, np.empty((len(cells), len(kinds))), made,
        )  # fmt: skip
        for place, cell in enumerate(cells):
            if int(cell) in one.spent:
                made[place] = self._class_after_others(one, int(cell), share, after)
        return made

    def _class_after_others(self, one: Pinned, cell: int, share: Floats, after: AfterWaits) -> Floats:
        """What becomes of one connect of each class where calls go on to others: by the target at which a class ends,
        or by those that are drawn."""
        mine, placed = self.network.cells.pairs[cell], self.spreading.placed(one, cell)
        if not len(mine):
            return np.zeros((1, KINDS))
        values, pins = after[one.fate, cell], one.pins[cell]
        made = np.zeros((len(pins), KINDS))
        if self.lumps.any:
            by_pair = np.zeros((KINDS, len(self.network.pairs.front)))
            for waits in distinct(placed.quiet):
                by_pair[:, mine] = values[waits].T
                some = placed.taken[placed.quiet == waits]
                made[some] = self.lumps.value(by_pair, pins[some]).T
        else:
            made[placed.taken] = values[placed.quiet, placed.place]
        made[placed.lost] = values[one.spent[cell][placed.lost], placed.lost_at]
        drawn = share[min(one.fate, len(share) - 1), mine]
        bad = ~self.takes[one.fate, mine]
        alike, known = self.spreading.going_alike(one, cell, drawn), dict[int, Floats]()
        for start, some in placed.starts:
            first = int(alike[start])
            if first not in known:
                found = self.spreading.going_on(one, cell, first, drawn)
                known[first] = np.tensordot(found.waited, values, 2) + (found.share * bad) @ values[0]
            made[some] = known[first]
        return made
