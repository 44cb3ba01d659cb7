"""What becomes of connects of held classes."""

from collections.abc import Callable, Mapping
from functools import cache

import numpy as np

from northgate.engine.base import (
    KINDS,
    NONE_HEALTHY,
    UNMET,
    Floats,
)
from northgate.engine.solver.retries.classes import Pinned
from northgate.engine.solver.retries.kinds import capped, with_trip
from northgate.engine.solver.retries.returning import Returning
from northgate.engine.solver.retries.spreading import Spreading

# What becomes of calls that have met silent targets before: per fate and cell (silent ones before, pair of the cell,
# kind).
AfterWaits = Mapping[tuple[int, int], Floats]


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

    def of_class(
        self, one: Pinned, entry: Floats, share: Floats, pair: Mapping[int, Floats], row: Floats, after: AfterWaits
    ) -> Floats:
        """What becomes of one connect by entry of the call, class and kind."""
        made = np.zeros((len(one.entries), len(one.weights), KINDS))
        place = {int(entry): number for number, entry in enumerate(one.entries)}
        somewhere = np.zeros(len(one.entries), dtype=bool)
        at_cell = cache(lambda cell: self._class_at(one, cell, share, pair, after))
        for number in one.ways:
            of_row, at = row[number][None, :], place[int(self.entry[number])]
            if self.route[number] >= 0 and self.unloaded.arrives[number]:
                of_row = self._class_routed(one, int(number), at_cell)
            made[at] += self.row_part[number] * of_row
            somewhere[at] = True
        # Outside, or without any front in the address: whatever holds a call, all fare alike.
        made[~somewhere] = entry[one.entries[~somewhere], None, :]
        return made

    def _class_routed(self, one: Pinned, number: int, at_cell: Callable[[int], Floats]) -> Floats:
        """What becomes of one connect of each class at an arrival that leads to a pool: (classes, kinds)."""
        network, front = self.network, int(self.front[number])
        route = int(self.route[number])
        made = np.zeros((len(one.weights), KINDS))
        for weighted in np.flatnonzero(network.weighted.route == route):
            if self.choice.weighted_share[weighted] > 0:
                cell = int(network.weighted.cell[weighted])
                made += self.choice.weighted_share[weighted] * at_cell(cell)
        refused = self.choice.route_refused[route]
        made[:, NONE_HEALTHY] += refused
        if self.network.fronts.layer[front] == 4:
            made[:, UNMET + NONE_HEALTHY] += refused
        with_trip(made, float(self.frame.trip_s[number]))
        capped(made, float(self.over[front]))
        return made

    def _class_at(self, one: Pinned, cell: int, share: Floats, pair: Mapping[int, Floats], after: AfterWaits) -> Floats:
        """What becomes of an attempt of each class at a cell: (classes, kinds), or one row for all."""
        if cell in one.spent:
            return self._class_after_others(one, cell, share, after)
        mine = self.network.cells.pairs[cell]
        drawn, kinds = np.zeros((1, KINDS)), list(pair)
        values = np.array([value[one.fate] for value in pair.values()])
        drawn[0, kinds] = values[:, mine] @ share[min(one.fate, len(share) - 1), mine]
        if cell not in one.pins:
            return drawn
        pins = one.pins[cell]
        made = np.zeros((len(pins), KINDS))
        made[:, kinds] = self.lumps.value(values, pins).T
        return np.where((pins >= 0)[:, None], made, drawn)

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
            for waits in np.unique(placed.quiet):
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
