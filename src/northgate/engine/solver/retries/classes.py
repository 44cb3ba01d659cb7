"""Classes of calls that are held at targets, by keys and sessions."""

import math
from collections.abc import Iterator, Sequence

import numpy as np
from msgspec import Struct, field

from northgate.engine.base import (
    Bools,
    Floats,
    Ints,
    cached,
    distinct,
)
from northgate.engine.formulas import (
    last_of_orders,
)
from northgate.engine.network import Segment
from northgate.engine.solver.retries.holding import sessions_of_free
from northgate.engine.solver.retries.returning import Returning

# A class whose calls are held at a target that takes no connect: they go on to others as those are drawn.
DRAWN = -1
# While classes are made, a pair that holds and what is spent before it are one number; NOBODY holds where none does.
STRIDE, NOBODY = 1 << 20, -1
# The least weight of a class where only their ratios count.
EMPTY = 1e-12
# So many classes of a call are followed at most; beyond that only every so-many-th of its sources' keys, evenly
# spread, of which n give each share to within about 1 / sqrt(n).
MOST_CLASSES = 400_000
# With more ways than this in which sessions hold a call, targets that fare alike are taken together.
MOST_TOGETHER = 2_000


class Placed(Struct, frozen=True, dict=True):
    """Where the classes of a call stand at a cell whose calls may go on to others: `taken` those whose target takes
    them, after `quiet` silent ones, at the `place`-th of the cell's pairs; `lost` those whose target takes none, and
    there is nobody else; `begin` the others, who go on as those are drawn, from the `start`-th of its pairs (past the
    last: as all are drawn). Indices of classes, and for each of them a number."""

    taken: Ints
    quiet: Ints
    place: Ints
    lost: Ints
    lost_at: Ints
    begin: Ints
    start: Ints

    @cached
    def starts(self) -> list[tuple[int, Ints]]:
        """Each start, with the classes that begin there."""
        return [(int(start), self.begin[self.start == start]) for start in distinct(self.start)]


class Pinned(Struct, dict=True):
    """The classes of one call: their weights, which of them no session holds (`free`; the last draws anew each time),
    and per cell the pair that holds each (-1: none there does). `spent`, per cell whose calls may go on to others: how
    many silent targets those of a class have met before, or DRAWN. `placed` and `coming`: what is worked out of that
    when it is asked for, by cell. Row `first + e * classes + k` of the book is entry
    e's, of `entries`, for class k; `ways` are the rows of `Network.arrivals` that these entries may take."""

    call: int
    fate: int
    entries: Ints
    weights: Floats
    free: Bools
    pins: dict[int, Ints]
    spent: dict[int, Ints]
    ways: Ints
    first: int = 0
    first_kind: int = 0
    placed: dict[int, Placed] = field(default_factory=dict)
    coming: dict[int, tuple[Ints, Ints]] = field(default_factory=dict)

    @property
    def kinds(self) -> slice:
        """The places of these classes among those of all calls."""
        return slice(self.first_kind, self.first_kind + len(self.weights))

    @cached
    def rows(self) -> Ints:
        """The rows of the book, (entries, classes); asked for once the book is made."""
        shape = len(self.entries), len(self.weights)
        return self.first + np.arange(shape[0] * shape[1]).reshape(shape)

    @cached
    def free_weights(self) -> Floats:
        """The weights of the classes among those whom no session holds; sums to 1."""
        free = np.where(self.free, self.weights, 0.0)
        if free.sum() <= 0:
            free = (np.arange(len(free)) == len(free) - 1).astype(np.float64)
        return np.asarray(free / free.sum())


class Part(Struct, frozen=True):
    """Classes of a call's sources: their weights, per cell the pair that holds each (as one number with what is spent
    before it), and which of them no session holds."""

    weights: Floats
    pins: dict[int, Ints]
    free: Bools

    def also(self, other: "Part") -> "Part":
        """Those who are in one class of each, which hold at different cells."""
        mine, others = len(self.weights), len(other.weights)
        pins = {cell: np.repeat(pin, others) for cell, pin in self.pins.items()}
        pins |= {cell: np.tile(pin, mine) for cell, pin in other.pins.items()}
        return Part(
            np.outer(self.weights, other.weights).ravel(), pins, np.logical_and.outer(self.free, other.free).ravel()
        )

    def and_nobody(self) -> "Part":
        """With one more class: those whom none of this holds."""
        pins = {cell: np.append(pin, NOBODY) for cell, pin in self.pins.items()}
        return Part(np.append(self.weights, max(1 - self.weights.sum(), 0.0)), pins, np.append(self.free, True))

    def alone(self) -> "Iterator[Part]":
        """Each class by itself."""
        for one in range(len(self.weights)):
            some = slice(one, one + 1)
            yield Part(self.weights[some], {cell: pin[some] for cell, pin in self.pins.items()}, self.free[some])


class ClassMaker:
    """Makes the classes of calls that keys and sessions hold at targets."""

    def __init__(self, returning: Returning) -> None:
        self.returning, self.network, self.state = returning, returning.network, returning.state
        self.unloaded, self.frame, self.choice = returning.unloaded, returning.frame, returning.choice
        self.entry, self.front, self.route = returning.entry, returning.front, returning.route
        self.row_part, self.takes, self.silent = returning.row_part, returning.takes, returning.silent
        self.others, self.lumps = returning.others, returning.lumps

    def sticky_calls(self) -> Ints:
        """The calls that may be tried again and may be held at a target."""
        through = self.network.kept.at_cells
        sticky = np.zeros(len(self.network.cells.method), dtype=bool)
        sticky[list(self.network.cells.by_key)] = True
        for kind in self.network.kept.sessions:
            sticky[kind.cells] = True
        if not sticky.any() or not len(self.network.pairs.front):
            return np.zeros(0, dtype=np.int64)
        # Who only takes next addresses meets his target again at layer 4 alone.
        at_4 = sticky & (self.network.fronts.layer[self.network.cells.front] == 4)
        again = (self.returning.of_client[self.network.calls.client] > 0) | self.returning.goes_on_by_key
        held = np.where(again, through[:, sticky].any(axis=1), through[:, at_4].any(axis=1))
        return np.flatnonzero(self.returning.calls & held)

    def classes(self, call: int) -> Pinned | None:
        """The classes of a call; None where nothing holds it."""
        at, fate = self.network.kept.at_cells[call], int(self.unloaded.fate_of_call[call])
        reached = np.flatnonzero(at)
        bound = self._by_session(call, fate)
        hashed = self._hashed(call, reached)
        if len(bound.weights) == 1 and not hashed:
            return None
        parts = list(self._by_key(call, fate, bound, hashed)) if hashed else [bound]
        weights, free = np.concatenate([part.weights for part in parts]), np.concatenate([part.free for part in parts])
        cells = {cell for part in parts for cell in part.pins} | {int(cell) for cell in reached if cell in self.others}
        cells |= {int(cell) for kind in self.network.kept.sessions for cell in kind.cells[at[kind.cells]]}
        pins = {
            cell: np.concatenate([part.pins.get(cell, np.full(len(part.weights), NOBODY)) for part in parts])
            for cell in sorted(cells)
        }
        # The last class draws anew each time.
        weights, free = np.append(weights, 0.0), np.append(free, False)
        pins = {cell: np.append(pin, NOBODY) for cell, pin in pins.items()}
        held = {cell: np.where(pin < 0, NOBODY, pin // STRIDE) for cell, pin in pins.items()}
        spent = {cell: np.where(pin < 0, 0, pin % STRIDE) + DRAWN for cell, pin in pins.items() if cell in self.others}
        entries = self.network.entries.of_call[call]
        ways = np.flatnonzero(np.isin(self.entry, entries) & (self.row_part > 0))
        return Pinned(call, fate, entries, weights, free, held, spent, ways)

    def _by_session(self, call: int, fate: int) -> Part:
        """Which sessions bind the call's sources: those of each kind with those of every other, as independent."""
        network, state = self.network, self.state
        client, takes = int(network.calls.client[call]), self.takes[fate]
        found, kinds = Part(np.ones(1), {}, np.ones(1, dtype=bool)), list[tuple[Ints, Ints, Floats, Ints]]()
        for number, kind in enumerate(network.kept.sessions):
            mine = kind.cells[network.kept.at_cells[call, kind.cells]]
            if kind.client != client or not len(mine) or state.held is None:
                continue
            held = sessions_of_free(network, state, number, call)
            pins = np.full((len(mine), len(held)), NOBODY)
            for row, cell in enumerate(mine):
                pairs = network.cells.pairs[int(cell)]
                code = pairs * STRIDE + np.where(takes[pairs], 1, 0)
                pins[row, network.pairs.member[pairs]] = np.where(state.in_use[pairs], code, NOBODY)
            members = np.flatnonzero(state.held.sessions[number] > 0)
            kinds.append((mine, pins, held, members))
        many = math.prod(len(members) + 1 for _, _, _, members in kinds) > MOST_TOGETHER
        for mine, pins, held, members in kinds:
            weights, places = held[members], pins[:, members]
            if many:
                alike = self._alike(fate, mine, pins, members)
                weights = np.array([held[some].sum() for some in alike])
                places = np.array([[self._lump(pin[some], held[some]) for some in alike] for pin in pins])
            bound = Part(
                weights, {int(cell): places[row] for row, cell in enumerate(mine)}, np.zeros(len(weights), bool)
            )
            found = found.also(bound.and_nobody())
        return found

    def _lump(self, pins: Ints, held: Floats) -> int:
        """Where those are held whom sessions hold at these pins, which fare alike."""
        if len(pins) == 1 or pins[0] == NOBODY:
            return int(pins[0])
        return int(self.lumps.add(pins // STRIDE, np.maximum(held, EMPTY)) * STRIDE + pins[0] % STRIDE)

    def _alike(self, fate: int, cells: Ints, pins: Ints, members: Ints) -> list[Ints]:
        """The members in lumps that fare alike: they meet the same at every front, and are machines of one make with
        queues as long. Who takes no connect at a cell that goes on to others stays alone, as all others go on without
        it."""
        network, truth = self.network, self.state.truth
        machine = network.members.machine[members]
        made = [
            network.machines.capacity[machine], network.machines.service_s[machine], network.machines.queue_s[machine],
            truth.slowness[machine], np.round(self.state.backlog_s[machine], 9), network.machines.zone[machine],
        ]  # fmt: skip
        for row, cell in enumerate(cells):
            pair = np.maximum(pins[row, members] // STRIDE, 0)
            met, bad = self.state.encounter.fate_met[fate, pair], self.state.encounter.bad_page[fate, pair]
            nobody = pins[row, members] == NOBODY
            made += [nobody, np.where(nobody, -1, met), ~nobody & bad]
            if int(cell) in self.others:
                made.append(np.where(~nobody & ~self.takes[fate, pair], members, -1))
        table = np.stack([np.asarray(one, dtype=np.float64) for one in made], axis=1)
        _, kind = np.unique(table, axis=0, return_inverse=True)
        order = np.argsort(kind.ravel(), kind="stable")
        return np.split(members[order], np.cumsum(np.bincount(kind.ravel()))[:-1])

    def _hashed(self, call: int, reached: Ints) -> list[int]:
        """The cells that a call may come to and whose targets its key decides."""
        weight, segment = self.choice.pair_weight, self.network.segments[int(self.network.calls.segment[call])]
        hashed = [int(cell) for cell in reached if int(cell) in self.network.cells.by_key]
        return [cell for cell in hashed if len(segment.keys) and (weight[self.network.cells.pairs[cell]] > 0).any()]

    def _by_key(self, call: int, fate: int, bound: Part, hashed: Sequence[int]) -> Iterator[Part]:
        """Of those bound alike, the keys that fall to the same targets at every front are a class; where a session
        holds, its key decides nothing, but where its target takes no connect, who comes next."""
        segment = self.network.segments[int(self.network.calls.segment[call])]
        every = max(1, -(-len(segment.keys) * len(bound.weights) // MOST_CLASSES))
        known, mine = self.unloaded.falls, int(self.network.calls.segment[call])
        for part in bound.alone():
            pattern = tuple(int(part.pins[cell][0]) if cell in part.pins else NOBODY for cell in hashed)
            key = mine, fate, every, tuple(hashed), pattern
            if key not in known:
                falls = [self._fall(cell, fate, segment, pin, every) for cell, pin in zip(hashed, pattern, strict=True)]
                known[key] = _counted(np.array(falls))
            classes, share = known[key]
            pins = {cell: np.repeat(pin, len(share)) for cell, pin in part.pins.items()}
            pins |= {cell: classes[row] for row, cell in enumerate(hashed)}
            yield Part(part.weights[0] * share, pins, np.repeat(part.free, len(share)))

    def _fall(self, cell: int, fate: int, segment: Segment, held: int, every: int) -> Ints:
        """Where each key (of so many one) falls, that a session holds already (NOBODY: none does): the pair, and the
        silent ones that it has met before in its own order."""
        mine, table = self.network.cells.pairs[cell], self.unloaded.keys
        weight = self.choice.pair_weight[mine]
        count = len(segment.keys[::every])
        if held != NOBODY and (held % STRIDE or cell not in self.others):
            return np.full(count, held)
        if cell not in self.others:
            return mine[table.winners(cell, segment, weight)[::every]] * STRIDE + 1
        order = table.orders(cell, segment, weight, self.others[cell] + 1)[::every]
        if held != NOBODY:
            order = _beginning_with(order, int(np.searchsorted(mine, held // STRIDE)))
        bad, silent = ~self.takes[fate, mine], self.silent[fate, mine]
        here, quiet = last_of_orders(order[:, : self.others[cell] + 1], bad, silent)
        return mine[here] * STRIDE + quiet + 1


def _counted(falls: Ints) -> tuple[Ints, Floats]:
    """The different columns, and the share of each; where lumps of targets stand for many, a column is one number."""
    order = np.lexsort(falls[::-1])
    ordered = falls[:, order]
    starts = np.flatnonzero(np.append(True, (ordered[:, 1:] != ordered[:, :-1]).any(axis=0)))
    count = np.diff(np.append(starts, falls.shape[1]))
    return ordered[:, starts], count / falls.shape[1]


def _beginning_with(order: Ints, first: int) -> Ints:
    """The orders of keys (keys, targets) as they go on from a target to which something else has led them."""
    rest = order != first
    # Stable: those that are left keep their order, and the first one's place, or the last, is dropped.
    places = np.argsort(~rest, axis=1, kind="stable")[:, : order.shape[1] - 1]
    return np.concatenate([np.full((len(order), 1), first), np.take_along_axis(order, places, axis=1)], axis=1)
