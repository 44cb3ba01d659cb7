"""How attempts of held classes are spread over targets."""

from collections.abc import Callable, Sequence

import numpy as np

from northgate.engine.base import (
    Floats,
    Ints,
    distinct,
)
from northgate.engine.formulas import (
    LastStops,
    last_stops,
)
from northgate.engine.solver.retries.classes import DRAWN, Pinned, Placed
from northgate.engine.solver.retries.loops import find_alike, find_ends
from northgate.engine.solver.retries.returning import Returning


class Spreading:
    """How attempts of held classes are spread over targets; those that go on to others, until they end."""

    def __init__(self, returning: Returning) -> None:
        self.returning, self.network, self.state = returning, returning.network, returning.state
        self.unloaded, self.frame, self.choice = returning.unloaded, returning.frame, returning.choice
        self.entry, self.front, self.route = returning.entry, returning.front, returning.route
        self.row_part, self.takes, self.silent = returning.row_part, returning.takes, returning.silent
        self.stops = returning.unloaded.stops
        self.others, self.lumps = returning.others, returning.lumps

    def mix(self, share: Floats, pinned: Sequence[Pinned], coming: Callable[[Pinned], Floats]) -> None:
        """Puts into `share` (fates, pairs) how attempts of held classes are spread; it holds what is drawn anew."""
        for one in pinned:
            for cell in one.pins:
                if cell not in self.others:
                    mine = self.network.cells.pairs[cell]
                    weights = self._classes_at(one, cell, coming(one))
                    share[one.fate, mine] = self._spread(one, cell, weights, share[one.fate])

    def spread(self, one: Pinned, cell: int, drawn: Floats, connected: Floats) -> Floats:
        """How so many connects by row of the book are spread over a cell's pairs; `drawn` per pair of the network."""
        weights = self._classes_at(one, cell, connected[one.rows])
        if cell in self.others:
            return self._ends(one, cell, drawn[self.network.cells.pairs[cell]], weights).share
        return self._spread(one, cell, weights, drawn)

    def _spread(self, one: Pinned, cell: int, weights: Floats, drawn: Floats) -> Floats:
        """How attempts with these weights of the classes are spread over a cell's pairs."""
        mine, pins = self.network.cells.pairs[cell], one.pins[cell]
        has_pin = pins >= 0
        held = self.lumps.onto_pairs(pins[has_pin], weights[has_pin])[mine]
        return np.asarray(held + weights[~has_pin].sum() * drawn[mine])

    def _classes_at(self, one: Pinned, cell: int, connects_: Floats) -> Floats:
        """The shares of the classes among the connects that come to a cell, of so many at each entry: (entries,
        classes)."""
        if cell not in one.coming:
            rows = one.ways[self.front[one.ways] == self.network.cells.front[cell]]
            one.coming[cell] = np.searchsorted(one.entries, self.entry[rows]), rows
        place, rows = one.coming[cell]
        coming = self.row_part[rows] @ connects_[place]
        if coming.sum() <= 0:
            coming = one.weights
        return np.asarray(coming / coming.sum())

    def ends_at(self, one: Pinned, cell: int, drawn: Floats, coming: Floats) -> LastStops:
        """Where the attempts of a call's classes end at a cell that goes on to others."""
        return self._ends(one, cell, drawn, self._classes_at(one, cell, coming))

    def _ends(self, one: Pinned, cell: int, drawn: Floats, weight: Floats) -> LastStops:
        mine, placed = self.network.cells.pairs[cell], self.placed(one, cell)
        tries, count = self.others[cell] + 1, len(mine)
        if not count:
            return LastStops(drawn, drawn[None, :])
        waited, share, on = np.zeros((tries, count)), np.zeros(count), np.zeros(count + 1)
        alike, taken = self.going_alike(one, cell, drawn), placed.taken
        if self.lumps.any:
            for waits in distinct(placed.quiet):
                some = taken[placed.quiet == waits]
                waited[waits] = self.lumps.onto_pairs(one.pins[cell][some], weight[some])[mine]
            taken = taken[:0]
        find_ends(
            weight, taken, placed.quiet, placed.place, placed.lost, placed.lost_at, placed.begin, placed.start, alike,
            waited, share, on,
        )  # fmt: skip
        for start in np.flatnonzero(on):
            then = self.going_on(one, cell, int(start), drawn)
            share, waited = share + on[start] * then.share, waited + on[start] * then.waited
        return LastStops(share, waited)

    def placed(self, one: Pinned, cell: int) -> Placed:
        """Where the classes of a call stand at a cell that goes on to others."""
        if cell not in one.placed:
            mine, pins, spent = self.network.cells.pairs[cell], one.pins[cell], one.spent[cell]
            place = np.searchsorted(mine, np.maximum(pins, 0))
            known = (pins >= 0) & (spent != DRAWN)
            takes = known & (self.lumps.value(self.takes[one.fate].astype(np.float64), pins) > 0)
            taken, lost, begin = np.flatnonzero(takes), np.flatnonzero(known & ~takes), np.flatnonzero(~known)
            start = np.where(pins < 0, len(mine), place)[begin]
            one.placed[cell] = Placed(taken, spent[taken], place[taken], lost, place[lost], begin, start)
        return one.placed[cell]

    def going_alike(self, one: Pinned, cell: int, drawn: Floats) -> Ints:
        """Per target of a cell, and for one past its last, the first from which calls go on in the same way: those that
        take no connect, fail alike, and are drawn with the same share."""
        mine = self.network.cells.pairs[cell]
        made = np.empty(len(mine) + 1, dtype=np.int64)
        find_alike(drawn, self.takes[one.fate, mine], self.silent[one.fate, mine], np.empty_like(made), made)
        return made

    def going_on(self, one: Pinned, cell: int, start: int, drawn: Floats) -> LastStops:
        """Where calls end that are first sent to the target at `start` of a cell (past its last: as all are drawn)."""
        key = (one.fate, cell, start, drawn.tobytes())
        if key not in self.stops:
            mine, tries = self.network.cells.pairs[cell], self.others[cell]
            first = drawn
            if start < len(mine):
                first = np.zeros(len(mine))
                first[start] = 1.0
            found = last_stops(first, drawn, ~self.takes[one.fate, mine], self.silent[one.fate, mine], tries)
            waited = np.zeros((tries + 1, len(mine)))
            waited[: len(found.waited)] = found.waited
            self.stops[key] = LastStops(found.share, waited)
        return self.stops[key]

    def opening(self, one: Pinned, cell: int, drawn: Floats, served: Floats, connected: Floats) -> Floats:
        """Per pair of a cell: how often a call of a source that no session holds is served there, by the connects of
        those classes; `drawn` and `served` per pair of the network."""
        network, mine = self.network, self.network.cells.pairs[cell]
        # Of one source of each class, then of those whom nothing holds.
        once = np.divide(
            connected[one.rows],
            one.weights,
            out=self._unweighted(one),
            where=np.broadcast_to(one.weights > 0, one.rows.shape),
        )
        of_free = once * one.free_weights
        rows = one.ways[self.front[one.ways] == network.cells.front[cell]]
        rows = rows[self.unloaded.arrives[rows] & (self.route[rows] >= 0)]
        made = np.zeros(len(mine))
        for row in rows:
            weighted_groups = (network.weighted.route == self.route[row]) & (network.weighted.cell == cell)
            coming = of_free[np.searchsorted(one.entries, self.entry[row])] * self.row_part[row]
            part = float(self.choice.weighted_share[weighted_groups].sum())
            if cell in one.spent:
                made += (
                    part * coming.sum() * self._ends(one, cell, drawn[mine], coming / max(coming.sum(), 1e-300)).share
                )
            else:
                made += part * self._spread(one, cell, coming, drawn)
        return made * served[mine]

    def _unweighted(self, one: Pinned) -> Floats:
        """The connects of classes that nobody is in: as if they connected once."""
        return np.repeat(self.state.dns_share[one.entries][:, None], len(one.weights), axis=1)
