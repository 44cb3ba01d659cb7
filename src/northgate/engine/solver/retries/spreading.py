"""How attempts of held classes are spread over targets."""

from collections.abc import Sequence

import numpy as np
from msgspec import Struct

from northgate.engine.base import (
    Floats,
    Ints,
    cached,
    ints,
)
from northgate.engine.formulas import Trying, room_to_try
from northgate.engine.solver.retries.classes import Pinned
from northgate.engine.solver.retries.loops import find_ends, find_weights
from northgate.engine.solver.retries.returning import Returning


class Courses(Struct, frozen=True, dict=True):
    """Each call that is followed by class at each cell where that makes a difference: a course.

    Per course its `fate`, and how often it goes on to others (`tries`). Its targets are those of `pair` from
    `target_from` on, its classes those of `place` and `quiet` (see `Placed`) from `class_from` on, the ways by which
    calls come to it those of `row` from `row_from` on, each with the row of the book of its first class. `weight`: the
    shares of the classes among their call's. Lumps: as `Lumps.table`, but the places of pairs in their cells.
    """

    fate: Ints
    tries: Ints
    target_from: Ints
    pair: Ints
    class_from: Ints
    quiet: Ints
    place: Ints
    weight: Floats
    row_from: Ints
    row: Ints
    book: Ints
    lump_from: Ints
    lump_place: Ints
    lump_share: Floats

    @cached
    def fate_of_target(self) -> Ints:
        """The fate of the call of each target."""
        return np.repeat(self.fate, np.diff(self.target_from))

    @cached
    def most_tries(self) -> int:
        """How often any goes on at most."""
        return int(self.tries.max(initial=0))

    @cached
    def room(self) -> Trying:
        """Room for work at any course."""
        return room_to_try(int(np.diff(self.target_from).max(initial=0)))

    def targets(self, some: Ints) -> Ints:
        """The places of all targets of some courses."""
        every = [np.arange(self.target_from[course], self.target_from[course + 1]) for course in some]
        return np.concatenate([np.zeros(0, dtype=np.int64), *every])


class Spreading:
    """How attempts of held classes are spread over targets; those that go on to others, until they end."""

    def __init__(self, returning: Returning, pinned: Sequence[Pinned]) -> None:
        self.returning, self.network, self.state = returning, returning.network, returning.state
        self.entry, self.front, self.route = returning.entry, returning.front, returning.route
        self.frame, self.choice = returning.frame, returning.choice
        self.unloaded, self.others = returning.unloaded, returning.others
        self.pinned = pinned
        every = [(one, cell) for one in pinned for cell in one.pins]
        # The number of each course, by its call and cell.
        self.number = {(one.call, cell): course for course, (one, cell) in enumerate(every)}
        # Where calls of a fate go on to others at a cell, or do not: of calls with one fate the last counts.
        last = {(one.fate, cell): course for course, (one, cell) in enumerate(every)}
        self.on = ints(course for (_, cell), course in last.items() if cell in self.others)
        self.stays = ints(course for (_, cell), course in last.items() if cell not in self.others)

    @cached
    def courses(self) -> Courses:
        """All of them."""
        made = [(one, cell) for one in self.pinned for cell in one.pins]
        placed = [one.placed[cell] for one, cell in made]
        pairs = [self.network.cells.pairs[cell] for _, cell in made]
        begins, members, shares = self.returning.lumps.table()
        return Courses(
            np.array([one.fate for one, _ in made]),
            np.array([self.others.get(cell, 0) for _, cell in made]),
            _begins(pairs),
            np.concatenate(pairs),
            _begins([one.place for one in placed]),
            np.concatenate([one.quiet for one in placed]),
            np.concatenate([one.place for one in placed]),
            np.concatenate([one.weights for one, _ in made]),
            _begins([one.rows for one in placed]),
            np.concatenate([one.rows for one in placed]),
            np.concatenate([
                one.first + there.entry * len(one.weights) for (one, _), there in zip(made, placed, strict=True)
            ]),
            begins,
            self.frame.place_of_pair[members],
            shares,
        )  # fmt: skip

    def weights(self, connects: Floats, some: Ints) -> Floats:
        """The shares of the classes of some courses among the connects that come there, of so many by row of the
        book."""
        courses = self.courses
        made = np.zeros(len(courses.place))
        find_weights(
            some, courses.class_from, courses.row_from, courses.row, courses.book, self.returning.row_part, connects,
            courses.weight, made,
        )  # fmt: skip
        return made

    def ends(self, drawn: Floats, weights: Floats, some: Ints) -> tuple[Floats, Floats]:
        """Where attempts of some courses end, with these weights of their classes: the shares at all targets, and what
        of it comes to those who take it after 0, 1, ... silent ones. `drawn` (fates or 1, pairs): how all are drawn."""
        courses, room = self.courses, self.courses.room
        share, waited = np.zeros(len(courses.pair)), np.zeros((courses.most_tries + 1, len(courses.pair)))
        size = room.values.shape[1]
        find_ends(
            some, courses.fate, courses.tries, courses.target_from, courses.pair, courses.class_from, courses.quiet,
            courses.place, courses.lump_from, courses.lump_place, courses.lump_share, self.returning.takes,
            self.returning.silent, weights, drawn, room.values, room.counts, room.table, np.empty((4, size)),
            np.empty((2, size), dtype=bool), np.empty((courses.most_tries + 1, size)), share, waited,
        )  # fmt: skip
        return share, waited

    def mix(self, share: Floats, connects: Floats) -> None:
        """Puts into `share` (fates, pairs) how attempts of held classes are spread where they go on to no others; it
        holds what is drawn anew."""
        if len(self.stays):
            made, _ = self.ends(share, self.weights(connects, self.stays), self.stays)
            targets = self.courses.targets(self.stays)
            share[self.courses.fate_of_target[targets], self.courses.pair[targets]] = made[targets]

    def spread(self, call: int, drawn: Floats, connects: Floats) -> Floats:
        """How so many connects by row of the book, of a call that is followed, are spread over the pairs of all cells;
        `drawn` (pairs,) is how they are drawn where nothing holds them."""
        some = ints(course for (of, _), course in self.number.items() if of == call)
        made, targets = drawn.copy(), self.courses.targets(some)
        made[self.courses.pair[targets]] = self.ends(drawn[None, :], self.weights(connects, some), some)[0][targets]
        return made

    def opening(self, one: Pinned, cell: int, drawn: Floats, served: Floats, connected: Floats) -> Floats:
        """Per pair of a cell: how often a call of a source that no session holds is served there, by the connects of
        those classes; `drawn` and `served` per pair of the network."""
        mine, course = self.network.cells.pairs[cell], self.number.get((one.call, cell))
        if course is None:
            return np.zeros(len(mine))
        # Of one source of each class, then of those whom nothing holds; of classes that nobody is in: as if they
        # connected once.
        once = np.repeat(self.state.dns_share[one.entries][:, None], len(one.weights), axis=1)
        np.divide(connected[one.rows], one.weights, out=once, where=np.broadcast_to(one.weights > 0, once.shape))
        of_free, placed, courses = once * one.free_weights, one.placed[cell], self.courses
        made, weights, some = np.zeros(len(mine)), np.zeros(len(courses.place)), np.array([course])
        for row, entry in zip(placed.rows, placed.entry, strict=True):
            if not self.unloaded.arrives[row] or self.route[row] < 0:
                continue
            groups = (self.network.weighted.route == self.route[row]) & (self.network.weighted.cell == cell)
            weights[courses.class_from[course] : courses.class_from[course + 1]] = of_free[entry]
            share, _ = self.ends(drawn[None, :], weights, some)
            there = share[courses.target_from[course] : courses.target_from[course + 1]]
            made += float(self.choice.weighted_share[groups].sum()) * self.unloaded.row_part[row] * there
        return made * served[mine]


def _begins(parts: Sequence[Ints]) -> Ints:
    return np.cumsum([0, *map(len, parts)])
