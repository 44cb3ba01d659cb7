"""Classes of calls that are held at targets, by keys and sessions."""

import math
from collections.abc import Iterator, Sequence

import numpy as np
from msgspec import Struct
from msgspec.structs import replace

from northgate.engine.base import (
    Bools,
    Floats,
    Ints,
    cached,
    where_true,
)
from northgate.engine.formulas import (
    last_of_orders,
)
from northgate.engine.network import Segment, keyed_cells
from northgate.engine.solver.retries.holding import sessions_of_free
from northgate.engine.solver.retries.lumps import EMPTY
from northgate.engine.solver.retries.returning import Returning
from northgate.engine.solver.unloaded import Unloaded

# A class whose calls are held at a target that takes no connect: they go on to others as those are drawn.
DRAWN = -1
# While classes are made, a pair that holds and what is spent before it are one number; NOBODY holds where none does.
STRIDE, NOBODY = 1 << 20, -1
# As many are bound by no session at least: how they would fare tells how sessions are opened as the first one ends.
NEXT_TO_NOBODY = 1e-15
# So many classes of a call are followed at most; beyond that only every so-many-th of its sources' keys, evenly
# spread, of which n give each share to within about 1 / sqrt(n).
MOST_CLASSES = 400_000
# With more ways than this in which sessions hold a call, targets that fare alike are taken together.
MOST_TOGETHER = 2_000


class Placed(Struct, frozen=True):
    """Where the classes of a call stand at a cell: each at the `place`-th of its pairs, or past the last, for all that
    are drawn, or beyond, at a lump; after so many `quiet` silent ones, or DRAWN: it goes on to others as those are
    drawn. The `rows` of `Network.arrivals` by which calls come there, the place of each one's entry among the
    call's, and which `part` of the entry's calls comes by it."""

    quiet: Ints
    place: Ints
    rows: Ints
    entry: Ints
    part: Floats


class Pinned(Struct, dict=True):
    """The classes of one call: their weights, which of them no session holds (`free`; the last draws anew each time),
    and per cell the pair that holds each (-1: none there does). `spent`, per cell whose calls may go on to others: how
    many silent targets those of a class have met before, or DRAWN. `placed`: what is worked out of that, by cell;
    `table` (cells, classes): `pins` in one, `row_of_cell` says in which row (-1: in none). Row `first + e * classes +
    k` of the book is entry e's, of `entries`, for class k; `ways` are the rows of `Network.arrivals` that these entries
    may take."""

    call: int
    fate: int
    entries: Ints
    weights: Floats
    free: Bools
    pins: dict[int, Ints]
    spent: dict[int, Ints]
    ways: Ints
    placed: dict[int, Placed]
    table: Ints
    row_of_cell: Ints
    first: int = 0
    first_kind: int = 0

    @cached
    def fate_alone(self) -> Ints:
        """The fate, as loops ask for it."""
        return np.array([self.fate])

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


class Bound(Struct, frozen=True):
    """A kind of session that may bind a call's sources: the cells at which it holds, and the members to which it binds
    anybody, with their shares of the sources."""

    cells: Ints
    members: Ints
    shares: Floats


class Pattern(Struct, frozen=True):
    """The classes of a call whatever their weights: each is a `share` of those who are bound in the `way`-th way by
    sessions, of which there is one for each choice of a member, or of nobody, of every kind of session."""

    like: Pinned
    way: Ints
    share: Floats

    def with_ways(self, weights: Floats) -> Pinned:
        """The classes where so large shares of the sources are bound in each way."""
        made = np.zeros(len(self.way) + 1)
        np.multiply(weights[self.way], self.share, out=made[:-1])
        return replace(self.like, weights=made)


class Part(Struct, frozen=True):
    """Classes of a call's sources: as shares of the ways in which sessions bind them, per cell the pair that holds each
    (as one number with what is spent before it), and which of them no session holds."""

    way: Ints
    share: Floats
    pins: dict[int, Ints]
    free: Bools

    def also(self, places: Ints, cells: Ints) -> "Part":
        """Each of them with each of those whom another kind of session binds at these cells to these `places` (cells,
        members), and with those whom it does not bind."""
        mine, others = len(self.way), places.shape[1] + 1
        pins = {cell: np.repeat(pin, others) for cell, pin in self.pins.items()}
        pins |= {int(cell): np.tile(np.append(pin, NOBODY), mine) for cell, pin in zip(cells, places, strict=True)}
        nobody = np.tile(np.arange(others) == others - 1, mine)
        return Part(np.arange(mine * others), np.ones(mine * others), pins, np.repeat(self.free, others) & nobody)


def _patterns(_: Unloaded) -> dict[int, tuple[tuple[bytes, ...], Pattern | None]]:
    """By call the classes that were found last, and whom sessions bound then."""
    return {}


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
        return where_true(self.returning.calls & self.frame.may_be_held)

    def classes(self, call: int) -> Pinned | None:
        """The classes of a call; None where nothing holds it."""
        bound, known = self._bound(call), self.unloaded.derived(_patterns)
        key, shares = tuple(one.members.tobytes() for one in bound), [one.shares for one in bound]
        if math.prod(len(one.members) + 1 for one in bound) > MOST_TOGETHER:
            pattern, shares = self._pattern_of_lumps(call, bound)
        else:
            # The last one is kept: those who are bound change less often than how many these are.
            if call not in known or known[call][0] != key:
                known[call] = key, self._pattern(call, [(one.cells, self._pins(call, one)) for one in bound])
            pattern = known[call][1]
        return pattern.with_ways(_independent(shares)) if pattern else None

    def _pattern(self, call: int, bound: Sequence[tuple[Ints, Ints]]) -> Pattern | None:
        """The classes of a call that sessions of each kind bind at cells to places (cells, members)."""
        at, fate = self.network.kept.at_cells[call], int(self.unloaded.fate_of_call[call])
        reached = where_true(at)
        ways = Part(np.zeros(1, dtype=np.int64), np.ones(1), {}, np.ones(1, dtype=bool))
        for at_cells, places in bound:
            ways = ways.also(places, at_cells)
        # Whom his key binds has no other.
        keyed = keyed_cells(self.network.kept)
        keyed &= {cell for at_cells, places in bound if places.shape[1] for cell in at_cells.tolist()}
        hashed = [cell for cell in self._hashed(call, reached) if cell not in keyed]
        if len(ways.way) == 1 and not hashed:
            return None
        parts = list(self._by_key(call, fate, ways, hashed)) if hashed else [ways]
        free = np.concatenate([part.free for part in parts])
        way, share = np.concatenate([part.way for part in parts]), np.concatenate([part.share for part in parts])
        cells = {cell for part in parts for cell in part.pins} | {int(cell) for cell in reached if cell in self.others}
        cells |= {int(cell) for kind in self.network.kept.sessions for cell in kind.cells[at[kind.cells]]}
        # The last class draws anew each time.
        pins = {
            cell: np.concatenate(
                [*(part.pins.get(cell, np.full(len(part.way), NOBODY)) for part in parts), np.array([NOBODY])]
            )
            for cell in sorted(cells)
        }
        held = {cell: np.where(pin < 0, NOBODY, pin // STRIDE) for cell, pin in pins.items()}
        spent = {cell: np.where(pin < 0, 0, pin % STRIDE) + DRAWN for cell, pin in pins.items() if cell in self.others}
        entries = self.network.entries.of_call[call]
        ways_there = where_true(np.isin(self.entry, entries) & (self.row_part > 0))
        row_of_cell, table = np.full(len(self.network.cells.front), -1), np.empty((len(held), len(share) + 1), np.int64)
        for row, (cell, pin) in enumerate(held.items()):
            row_of_cell[cell], table[row] = row, pin
        free = np.append(free, False)
        like = Pinned(call, fate, entries, share, free, held, spent, ways_there, {}, table, row_of_cell)
        like.placed |= {cell: self._placed(like, cell) for cell in held}
        return Pattern(like, way, share)

    def _placed(self, one: Pinned, cell: int) -> Placed:
        count, pins, pairs = len(self.network.cells.pairs[cell]), one.pins[cell], len(self.network.pairs.cell)
        at_pair = self.frame.place_of_pair[np.minimum(np.maximum(pins, 0), pairs - 1)]
        place = np.where(pins < 0, count, np.where(pins < pairs, at_pair, count + 1 + pins - pairs))
        quiet = np.where(pins < 0, DRAWN, one.spent.get(cell, 0))
        rows = one.ways[self.front[one.ways] == self.network.cells.front[cell]]
        return Placed(quiet, place, rows, np.searchsorted(one.entries, self.entry[rows]), self._part(rows, cell))

    def _part(self, rows: Ints, cell: int) -> Floats:
        """Which part of their entries' calls comes to a cell by these arrivals."""
        weighted, route = self.network.weighted, self.route[rows]
        comes = self.unloaded.arrives[rows] & (route >= 0)
        mine = (weighted.route[None, :] == route[:, None]) & (weighted.cell == cell)
        return np.asarray(np.where(comes, self.row_part[rows] * (mine @ self.choice.weighted_share), 0.0))

    def _bound(self, call: int) -> list[Bound]:
        """Which sessions bind the call's sources."""
        network, state, made = self.network, self.state, list[Bound]()
        client = int(network.calls.client[call])
        for number, kind in enumerate(network.kept.sessions):
            if kind.client != client or state.held is None:
                continue
            mine = kind.cells[network.kept.at_cells[call, kind.cells]]
            if len(mine):
                members = where_true(state.held.sessions[number] > 0)
                made.append(Bound(mine, members, sessions_of_free(network, state, number, call)[members]))
        return made

    def _pins(self, call: int, one: Bound) -> Ints:
        """Where a kind of session binds: (its cells, its members)."""
        network, takes = self.network, self.takes[self.unloaded.fate_of_call[call]]
        pins = np.full((len(one.cells), len(network.members.group)), NOBODY)
        for row, cell in enumerate(one.cells):
            pairs = network.cells.pairs[int(cell)]
            code = pairs * STRIDE + np.where(takes[pairs], 1, 0)
            pins[row, network.pairs.member[pairs]] = np.where(self.unloaded.may_lead[pairs], code, NOBODY)
        return np.asarray(pins[:, one.members])

    def _pattern_of_lumps(self, call: int, bound: Sequence[Bound]) -> tuple[Pattern | None, list[Floats]]:
        """As `_pattern`, of members that are taken together where they fare alike; and the shares of these."""
        fate, places, shares = int(self.unloaded.fate_of_call[call]), list[tuple[Ints, Ints]](), list[Floats]()
        for one in bound:
            pins = self._pins(call, one)
            alike = self._alike(fate, one.cells, pins, one.members)
            shares.append(np.array([one.shares[some].sum() for some in alike]))
            lumps = [[self._lump(pin[some], one.shares[some]) for some in alike] for pin in pins]
            places.append((one.cells, np.array(lumps)))
        return self._pattern(call, places), shares

    def _lump(self, pins: Ints, held: Floats) -> int:
        """Where those are held whom sessions hold at these pins, which fare alike."""
        if len(pins) == 1 or pins[0] == NOBODY:
            return int(pins[0])
        return int(self.lumps.add(pins // STRIDE, np.maximum(held, EMPTY)) * STRIDE + pins[0] % STRIDE)

    def _alike(self, fate: int, cells: Ints, pins: Ints, members: Ints) -> list[Ints]:
        """Members, by their places, in lumps that fare alike: they meet the same at every front, and are machines of
        one make with queues as long. Who takes no connect at a cell that goes on to others stays alone, as all others
        go on without it."""
        network, truth = self.network, self.state.truth
        machine = network.members.machine[members]
        made = [
            network.machines.capacity[machine], network.machines.service_s[machine], network.machines.queue_s[machine],
            truth.slowness[machine], np.round(self.state.backlog_s[machine], 9), network.machines.zone[machine],
        ]  # fmt: skip
        for row, cell in enumerate(cells):
            pair = np.maximum(pins[row] // STRIDE, 0)
            met, bad = self.state.encounter.fate_met[fate, pair], self.state.encounter.bad_page[fate, pair]
            nobody = pins[row] == NOBODY
            made += [nobody, np.where(nobody, -1, met), ~nobody & bad]
            if int(cell) in self.others:
                made.append(np.where(~nobody & ~self.takes[fate, pair], members, -1))
        table = np.stack([np.asarray(one, dtype=np.float64) for one in made], axis=1)
        _, kind = np.unique(table, axis=0, return_inverse=True)
        order = np.argsort(kind.ravel(), kind="stable")
        return np.split(order, np.cumsum(np.bincount(kind.ravel()))[:-1])

    def _hashed(self, call: int, reached: Ints) -> list[int]:
        """The cells that a call may come to and whose targets its key decides."""
        weight, segment = self.choice.pair_weight, self.network.segments[int(self.network.calls.segment[call])]
        hashed = [int(cell) for cell in reached if int(cell) in self.network.cells.by_key]
        return [cell for cell in hashed if len(segment.keys) and (weight[self.network.cells.pairs[cell]] > 0).any()]

    def _by_key(self, call: int, fate: int, ways: Part, hashed: Sequence[int]) -> Iterator[Part]:
        """Of those bound alike, the keys that fall to the same targets at every front are a class; where a session
        holds, its key decides nothing, but where its target takes no connect, who comes next."""
        segment = self.network.segments[int(self.network.calls.segment[call])]
        every = max(1, -(-len(segment.keys) * len(ways.way) // MOST_CLASSES))
        known, mine = self.unloaded.falls, int(self.network.calls.segment[call])
        for number, way in enumerate(ways.way):
            pattern = tuple(int(ways.pins[cell][number]) if cell in ways.pins else NOBODY for cell in hashed)
            key = mine, fate, every, tuple(hashed), pattern
            if key not in known:
                falls = [self._fall(cell, fate, segment, pin, every) for cell, pin in zip(hashed, pattern, strict=True)]
                known[key] = _counted(np.array(falls))
            classes, share = known[key]
            pins = {cell: np.full(len(share), pin[number]) for cell, pin in ways.pins.items()}
            pins |= {cell: classes[row] for row, cell in enumerate(hashed)}
            yield Part(np.full(len(share), way), share, pins, np.full(len(share), ways.free[number]))

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


def _independent(kinds: Sequence[Floats]) -> Floats:
    """The shares of the ways in which sessions bind sources, those of each kind as independent of every other; the last
    of a kind are those whom it does not bind."""
    made = np.ones(1)
    for shares in kinds:
        mine = np.empty(len(shares) + 1)
        mine[:-1], mine[-1] = shares, max(1 - float(shares.sum()), NEXT_TO_NOBODY)
        made = np.outer(made, mine).ravel() if len(made) > 1 else made[0] * mine
    return made


def _counted(falls: Ints) -> tuple[Ints, Floats]:
    """The different columns, and the share of each; where lumps of targets stand for many, a column is one number."""
    order = np.lexsort(falls[::-1])
    ordered = falls[:, order]
    starts = where_true(np.append(True, (ordered[:, 1:] != ordered[:, :-1]).any(axis=0)))
    count = np.diff(np.append(starts, falls.shape[1]))
    return ordered[:, starts], count / falls.shape[1]


def _beginning_with(order: Ints, first: int) -> Ints:
    """The orders of keys (keys, targets) as they go on from a target to which something else has led them."""
    rest = order != first
    # Stable: those that are left keep their order, and the first one's place, or the last, is dropped.
    places = np.argsort(~rest, axis=1, kind="stable")[:, : order.shape[1] - 1]
    return np.concatenate([np.full((len(order), 1), first), np.take_along_axis(order, places, axis=1)], axis=1)
