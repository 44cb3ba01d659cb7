"""Where requests end that go on to other targets when connects fail."""

import numpy as np
from msgspec import Struct

from northgate.engine.base import (
    Bools,
    Bools1,
    Bools2,
    Floats,
    Floats1,
    Floats2,
    Floats3,
    Ints,
    Ints1,
    Ints2,
    cached,
    compiled,
    part,
    same,
    some,
    where_true,
)
from northgate.engine.formulas import LastStops, Trying, find_stops, last_stops, last_stops_in_order, room_to_try
from northgate.engine.solver.context import Stage, Stop
from northgate.engine.solver.unloaded import Unloaded
from northgate.engine.truth import ANSWERS, REFUSES


class Room(Struct, frozen=True):
    """Room for work, beside that of `Trying`: of the targets of a cell, (silent ones + 1, n); and by fate and pair
    whether requests stop `there` that have tried others, and what of them has met so many silent ones `before`
    (silent ones, fates, pairs)."""

    trying: Trying
    of_cell: Floats
    there: Bools
    before: Floats


def _room(unloaded: Unloaded) -> Room:
    others, shape = unloaded.frame.others, unloaded.answers.shape
    most, tries = int((others.end - others.begin).max(initial=0)), others.most_tries
    trying = room_to_try(most, tries)
    return Room(
        trying, np.empty((tries + 3, trying.values.shape[1])), np.empty(shape, dtype=bool),
        np.empty((tries + 1, *shape)),
    )  # fmt: skip


class GoingOn(Stage):
    """Where requests end that go on to other targets."""

    def trying(self, first: Floats, drawn: Floats, *, classes: bool = True) -> tuple[Floats, list[Stop]]:
        """Where requests end that go on to other targets when connects fail, given where they are first sent;
        `classes`: those that are held and repeated as their classes go, else like all that are drawn anew."""
        if not self.frame.with_others:
            return first, []
        ends = np.repeat(first, self.fates, axis=0) if len(first) == 1 else first.copy()
        others, room, count = self.frame.others, self.unloaded.derived(_room), np.zeros(1, dtype=np.int64)
        find_tried(
            others.begin, others.end, others.tries, self._left_out if classes else self._by_key, self._bad,
            self._silent, drawn, room.trying.values, room.trying.counts, room.trying.table, room.of_cell, ends,
            room.there, room.before, count,
        )  # fmt: skip
        for number in where_true(others.hashed).tolist():
            self._by_hash(number, ends, drawn, room, count, classes=classes)
        if classes and self._by_class:
            courses = self.repeats.spreading.courses
            share, waited = self.repeats.ends(drawn)
            put_classes(
                courses.targets_on, courses.fate_of_target, courses.pair, share, waited, self._bad, ends, room.there,
                room.before, count,
            )  # fmt: skip
        return ends, [self._stop(ends, room, int(count[0]))] if count[0] else []

    @staticmethod
    def _stop(ends: Floats, room: Room, count: int) -> Stop:
        """The requests that have tried others, by place."""
        fate, pair = np.empty((2, count), dtype=np.int64)
        share, waited = np.empty(count), np.empty((len(room.before), count))
        find_stopped(room.there, room.before, ends, fate, pair, share, waited)
        return Stop(fate, pair, share, waited)

    @cached
    def _bad(self) -> Bools:
        """Per fate and pair: whether a connect fails there, so that its request may go on to others."""
        return np.asarray((self.state.encounter.fate_met != ANSWERS) & ~self.frame.leads_on)

    @cached
    def _silent(self) -> Bools:
        """Per fate and pair: whether one that fails there takes its time-out."""
        return np.asarray(self.state.encounter.fate_met != REFUSES)

    @cached
    def _by_class(self) -> frozenset[tuple[int, int]]:
        """The fates and cells at which calls go on to others that are followed by class."""
        return frozenset((one.fate, cell) for one in self.repeats.pinned for cell in one.spent)

    @cached
    def _by_key(self) -> Bools:
        """Per fate and cell that goes on to others: whether keys decide who is tried."""
        return np.repeat(self.frame.others.hashed[None, :], self.fates, axis=0)

    @cached
    def _left_out(self) -> Bools:
        """As `_by_key`, or whether its calls are followed by class."""
        made, number = self._by_key.copy(), {cell: number for number, (cell, _) in enumerate(self.frame.with_others)}
        for fate, cell in self._by_class:
            made[fate, number[cell]] = True
        return made

    def _by_hash(
        self, number: int, ends: Floats, drawn: Floats, room: Room, count: Ints, *, classes: bool
    ) -> None:  # fmt: skip
        """Puts where requests end at a cell where keys decide who is tried."""
        cell, tries = self.frame.with_others[number]
        mine = slice(int(self.frame.others.begin[number]), int(self.frame.others.end[number]))
        for fate in range(self.fates):
            bad = self._bad[fate, mine]
            if (classes and (fate, cell) in self._by_class) or not some(ends[fate, mine] * bad):
                continue
            own = drawn[min(fate, len(drawn) - 1), mine]
            found = self._in_order(cell, fate, bad, self._silent[fate, mine], tries, ends[fate, mine], own)
            ends[fate, mine] = found.share
            room.there[fate, mine] = ~bad & (found.share > 0)
            room.before[:, fate, mine] = 0.0
            room.before[: len(found.waited), fate, mine] = found.waited
            count += np.count_nonzero(room.there[fate, mine])

    def _in_order(
        self, cell: int, fate: int, bad: Bools, silent: Bools, tries: int, first: Floats, drawn: Floats
    ) -> LastStops:  # fmt: skip
        """Of a hash's keys each goes on in its own order; everybody else as they are drawn."""
        segment = self.network.segments[int(self.state.encounter.fate_segment[fate])]
        if not len(segment.keys) or not same(first, drawn):
            return last_stops(first, drawn, bad, silent, tries)
        known = self.unloaded.stops_in_order
        if (fate, cell) not in known:
            weight = self.choice.pair_weight[self.network.cells.pairs[cell]]
            orders = self.unloaded.keys.orders(cell, segment, weight, tries)
            known[fate, cell] = last_stops_in_order(orders, bad, silent)
        return known[fate, cell]


@compiled
def find_tried(
    begin: Ints1, end: Ints1, tries: Ints1, left_out: Bools2, bad: Bools2, silent: Bools2, drawn: Floats2,
    values: Floats2, counts: Ints2, table: Floats1, of_cell: Floats2, ends: Floats2, there: Bools2, before: Floats3,
    count: Ints1,
) -> None:  # fmt: skip
    """Puts into `ends` (fates, pairs), which holds where requests are first sent, where those end that go on to others
    from cells, but for those `left_out` (fates, cells); and fills the rest of `Room`. `values`, `counts` and `table`
    are of `Trying`; `count` is of those who stop somewhere."""
    there[:] = False
    share, then, waited = of_cell[0], of_cell[1], of_cell[2:]
    for cell in range(len(begin)):
        first, size, most = begin[cell], end[cell] - begin[cell], min(tries[cell], end[cell] - begin[cell])
        for fate in range(ends.shape[0]):
            mine = ends[fate, first : end[cell]]
            if left_out[fate, cell] or not _goes_on(mine, bad[fate, first : end[cell]]):
                continue
            own = drawn[min(fate, drawn.shape[0] - 1), first : end[cell]]
            find_stops(
                mine, own, bad[fate, first : end[cell]], silent[fate, first : end[cell]], most, values, counts, table,
                then, share[:size], waited,
            )  # fmt: skip
            for place in range(size):
                _put(place, share[place], waited, most, bad, ends, there, before, fate, first + place, count)


@part
def _goes_on(first: Floats1, bad: Bools1) -> bool:
    """Whether any request is first sent to one who takes no connect."""
    goes_on = False
    for place in range(len(first)):
        goes_on = goes_on or (bad[place] and first[place] > 0)
    return goes_on


@part
def _put(
    place: int, share: float, waited: Floats2, tries: int, bad: Bools2, ends: Floats2, there: Bools2, before: Floats3,
    fate: int, pair: int, count: Ints1,
) -> None:  # fmt: skip
    """Puts down what ends at a pair, and what of it comes after so many silent ones (at a place of `waited`)."""
    ends[fate, pair] = share
    there[fate, pair] = not bad[fate, pair] and share > 0
    count[0] += there[fate, pair]
    for silent_ones in range(before.shape[0]):
        before[silent_ones, fate, pair] = waited[silent_ones, place] if silent_ones <= tries else 0.0


@compiled
def put_classes(
    targets: Ints1, fate: Ints1, pair: Ints1, share: Floats1, waited: Floats2, bad: Bools2, ends: Floats2,
    there: Bools2, before: Floats3, count: Ints1,
) -> None:  # fmt: skip
    """As `find_tried`, of some targets of `Courses`, at which the calls end that are followed by class."""
    for number in range(len(targets)):
        target = targets[number]
        tries = waited.shape[0] - 1
        _put(target, share[target], waited, tries, bad, ends, there, before, fate[target], pair[target], count)


@compiled
def find_stopped(
    there: Bools2, before: Floats3, ends: Floats2, fate: Ints1, pair: Ints1, share: Floats1, waited: Floats2
) -> None:  # fmt: skip
    """What stops somewhere, by place (see `Stop`)."""
    place = 0
    for of_fate in range(there.shape[0]):
        for at in range(there.shape[1]):
            if there[of_fate, at]:
                fate[place], pair[place], share[place] = of_fate, at, ends[of_fate, at]
                for silent_ones in range(before.shape[0]):
                    waited[silent_ones, place] = before[silent_ones, of_fate, at]
                place += 1
