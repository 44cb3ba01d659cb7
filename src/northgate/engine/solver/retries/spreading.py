"""How attempts of held classes are spread over targets."""

import operator
from collections.abc import Sequence

import numpy as np
from msgspec import Struct

from northgate.engine.base import (
    KINDS,
    Bools,
    Floats,
    Ints,
    cached,
    ints,
)
from northgate.engine.formulas import Trying, room_to_try
from northgate.engine.solver.retries.classes import Pinned, Placed
from northgate.engine.solver.retries.loops import find_ends, find_weights, find_weights_of_free
from northgate.engine.solver.retries.returning import Returning
from northgate.engine.solver.unloaded import Unloaded


class Room(Struct, frozen=True):
    """Room for work at any course, beside that of `Trying`: `shares` (4, n) and `marks` (2, n) of targets, `waited`
    (silent ones, n); of lumps `known` (n, kinds) and `is_known`; and `good` (silent ones, kinds)."""

    trying: Trying
    shares: Floats
    marks: Bools
    waited: Floats
    known: Floats
    is_known: Bools
    good: Floats


class Ways(Struct, frozen=True):
    """How connects of a call that is followed by class go. At the arrivals that lead to a pool: the cells to which they
    may lead with what each sends there (arrivals, cells), the share of each entry's requests that it gets (entries,
    arrivals), what is `refused` there, whether it is at layer 4, its round trip (s), and its front. The arrivals at
    which all classes fare `alike`, with the same; and the entries that have none. Of the cells: where each class is
    held there (cells, classes), and which `course` goes on to others, at which `place`."""

    cells: Ints
    chosen: Floats
    part: Floats
    alike: Ints
    part_alike: Floats
    elsewhere: Bools
    refused: Floats
    at_4: Bools
    trip_s: Floats
    front: Ints
    pins: Ints
    course: Ints
    place: Ints


class Courses:
    """Each call that is followed by class at each cell where that makes a difference: a course.

    Per course its `fate`, and how often it goes on to others (`tries`). Its targets are those of `pair` from
    `target_from` on, its classes those of `place` and `quiet` (see `Placed`) from `class_from` on, the ways by which
    calls come to it those of `row` from `row_from` on, each with the row of the book of its first class, its `entry`,
    and which `part` of that one's calls comes by it. Lumps: as `Lumps.table`, but the places of pairs in their cells.
    `number`: each course, by its call and cell; `on` and `stays`: those at cells that go on to others, or do not.
    """

    def __init__(self, pinned: Sequence[Pinned], returning: Returning) -> None:
        cells, others = returning.network.cells, returning.others
        every = [(one, cell) for one in pinned for cell in one.pins]
        placed = [one.placed[cell] for one, cell in every]
        pairs = [cells.pairs[cell] for _, cell in every]
        self.number = {(one.call, cell): course for course, (one, cell) in enumerate(every)}
        # Of calls with one fate the last counts.
        last = {(one.fate, cell): course for course, (one, cell) in enumerate(every)}
        self.on = ints(course for (_, cell), course in last.items() if cell in others)
        self.stays = ints(course for (_, cell), course in last.items() if cell not in others)
        self.fate = ints(one.fate for one, _ in every)
        self.tries = ints(others.get(cell, 0) for _, cell in every)
        self.target_from, self.pair = _begins(pairs), np.concatenate(pairs)
        self.class_from = _begins([one.place for one in placed])
        self.quiet = np.concatenate([one.quiet for one in placed])
        self.place = np.concatenate([one.place for one in placed])
        self.row_from, self.row = _begins([one.rows for one in placed]), np.concatenate([one.rows for one in placed])
        books = [one.first + there.entry * len(one.weights) for (one, _), there in zip(every, placed, strict=True)]
        self.book, self.part = np.concatenate(books), np.concatenate([one.part for one in placed])
        entries = [one.entries[there.entry] for (one, _), there in zip(every, placed, strict=True)]
        self.entry = np.concatenate(entries)
        self.lump_from, members, self.lump_share = returning.lumps.table()
        self.lump_place = returning.frame.place_of_pair[members]
        self.fate_of_target = np.repeat(self.fate, np.diff(self.target_from))
        self.most_tries = int(self.tries.max(initial=0))
        # How connects of each call go, and which are its courses at some cells, as far as it was asked for.
        self.ways: dict[int, Ways] = {}
        self._at: dict[tuple[int, bytes], Ints] = {}

    @cached
    def room(self) -> Room:
        """Room for work at any course."""
        most, waits = int(np.diff(self.target_from).max(initial=0)), self.most_tries + 1
        trying = room_to_try(most, self.most_tries)
        size = trying.values.shape[1]
        return Room(
            trying, np.empty((4, size)), np.empty((2, size), dtype=bool), np.empty((waits, size)),
            np.empty((size, KINDS)), np.empty(size, dtype=bool), np.empty((waits, KINDS)),
        )  # fmt: skip

    @cached
    def targets_on(self) -> Ints:
        """The targets of `on`."""
        return self.targets(self.on)

    @cached
    def targets_staying(self) -> Ints:
        """The targets of `stays`."""
        return self.targets(self.stays)

    def at(self, call: int, cells: Ints) -> Ints:
        """The courses of a call at some cells."""
        key = call, cells.tobytes()
        if key not in self._at:
            self._at[key] = ints(self.number[call, cell] for cell in cells.tolist() if (call, cell) in self.number)
        return self._at[key]

    def targets(self, some: Ints) -> Ints:
        """The places of all targets of some courses."""
        every = [np.arange(self.target_from[course], self.target_from[course + 1]) for course in some]
        return np.concatenate([np.zeros(0, dtype=np.int64), *every])


class _Last(Struct):
    """The courses that were found last, and where the classes stand of which they are."""

    placed: list[dict[int, Placed]] = []
    courses: Courses | None = None


def _last(_: Unloaded) -> _Last:
    return _Last()


class Spreading:
    """How attempts of held classes are spread over targets; those that go on to others, until they end."""

    def __init__(self, returning: Returning, pinned: Sequence[Pinned]) -> None:
        self.returning, self.state, self.pinned = returning, returning.state, pinned
        self.courses = self._find_courses()

    def _find_courses(self) -> Courses:
        """The courses: as they were found last, where all classes stand as they did."""
        last, placed = self.returning.unloaded.derived(_last), [one.placed for one in self.pinned]
        alike = len(placed) == len(last.placed) and all(map(operator.is_, placed, last.placed))
        if not alike or last.courses is None:
            last.placed, last.courses = placed, Courses(self.pinned, self.returning)
        return last.courses

    def weights(self, connects: Floats, some: Ints) -> Floats:
        """The shares of the classes of some courses among the connects that come there, of so many by row of the
        book; where none comes, those among their call's sources."""
        courses, made = self.courses, np.zeros(len(self.courses.place))
        find_weights(
            some, courses.class_from, courses.row_from, courses.row, courses.book, self.returning.row_part, connects,
            self._of_sources, made,
        )  # fmt: skip
        return made

    @cached
    def _of_sources(self) -> Floats:
        """The shares of the classes of all courses among their call's sources."""
        return np.concatenate([one.weights for one in self.pinned for _ in one.pins])

    def ends(self, drawn: Floats, weights: Floats, some: Ints) -> tuple[Floats, Floats]:
        """Where attempts of some courses end, with these weights of their classes: the shares at all targets, and what
        of it comes to those who take it after 0, 1, ... silent ones. `drawn` (fates or 1, pairs): how all are drawn."""
        courses, room, trying = self.courses, self.courses.room, self.courses.room.trying
        share, waited = np.zeros(len(courses.pair)), np.zeros((courses.most_tries + 1, len(courses.pair)))
        find_ends(
            some, courses.fate, courses.tries, courses.target_from, courses.pair, courses.class_from, courses.quiet,
            courses.place, courses.lump_from, courses.lump_place, courses.lump_share, self.returning.takes,
            self.returning.silent, weights, drawn, trying.values, trying.counts, trying.table, room.shares, room.marks,
            room.waited, share, waited,
        )  # fmt: skip
        return share, waited

    def mix(self, share: Floats, connects: Floats) -> None:
        """Puts into `share` (fates, pairs) how attempts of held classes are spread where they go on to no others; it
        holds what is drawn anew."""
        courses, targets = self.courses, self.courses.targets_staying
        if len(targets):
            made, _ = self.ends(share, self.weights(connects, courses.stays), courses.stays)
            share[courses.fate_of_target[targets], courses.pair[targets]] = made[targets]

    def spread(self, call: int, drawn: Floats, connects: Floats) -> Floats:
        """How so many connects by row of the book, of a call that is followed, are spread over the pairs of all cells;
        `drawn` (pairs,) is how they are drawn where nothing holds them."""
        courses, made = self.courses, drawn.copy()
        some = ints(course for (of, _), course in courses.number.items() if of == call)
        targets = courses.targets(some)
        made[courses.pair[targets]] = self.ends(drawn[None, :], self.weights(connects, some), some)[0][targets]
        return made

    def opening(self, one: Pinned, cells: Ints, drawn: Floats, connected: Floats) -> tuple[Ints, Floats]:
        """How often a call of a source that no session holds comes to the targets of some cells, by the connects of
        those classes: the pairs, and how often; `drawn` per pair of the network."""
        courses = self.courses
        some, weights = courses.at(one.call, cells), np.zeros(len(courses.place))
        find_weights_of_free(
            some, courses.class_from, courses.row_from, courses.book, courses.part, courses.entry, connected,
            self.state.dns_share, one.weights, one.free_weights, weights,
        )  # fmt: skip
        targets = courses.targets(some)
        return courses.pair[targets], self.ends(drawn[None, :], weights, some)[0][targets]


def _begins(parts: Sequence[Ints]) -> Ints:
    return np.cumsum([0, *map(len, parts)])
