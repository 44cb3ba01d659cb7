"""Calls that are tried more than once: at the next address of an answer, and again when an attempt fails.

A repeat keeps the set of addresses that DNS gave, its hash key and its session, and draws the rest anew. So what fails
again is worked out per class of calls that hold the same set and are held at the same targets: `failed = Σ share x
p^(r+1)`, tried `1 + p + ... + p^r` times, p being what fails of one attempt of that class (`tries`).

The book has a row for each entry, and one for each entry and class of calls that are held at targets: what becomes of a
connect there, and how often it is made.
"""

import math
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from northgate.engine.balancing import hash_table
from northgate.engine.base import (
    FAILS,
    KINDS,
    NONE_HEALTHY,
    QUIET,
    SERVED,
    SPENT,
    TURNED_AWAY,
    UNMET,
    WORK,
    Bools,
    Floats,
    Ints,
    total_by,
)
from northgate.engine.formulas import (
    Connects,
    LastStops,
    attempts,
    attempts_before,
    connects,
    last_of_orders,
    last_stops,
)
from northgate.engine.network import Network, Segment
from northgate.engine.solver.retries.classes import DRAWN, NOBODY, STRIDE, Part, Stuck
from northgate.engine.solver.retries.kinds import capped, met_of, with_trip
from northgate.engine.solver.retries.lumps import Lumps
from northgate.engine.solver.standing import Standing
from northgate.engine.solver.state import Moment
from northgate.engine.truth import ANSWERS, REFUSES

# Where fewer sources than this share have no open connection, what binds these few is what binds all.
ALL = 1e-12


# The least weight of a class where only their ratios count.
EMPTY = 1e-12


# So many classes of a call are followed at most; beyond that only every so-many-th of its sources' keys, evenly
# spread, of which n give each share to within about 1 / sqrt(n).
MOST_CLASSES = 400_000


# With more ways than this in which sessions hold a call, targets that fare alike are taken together.
MOST_TOGETHER = 2_000


@dataclass(frozen=True)
class Cases:
    """Calls of one class that hold one set of n addresses: (cases,) arrays, and per address its row of the book and the
    entry that this belongs to, (cases, n). `share` is the set's of the call's, `kind` the place of the class among
    those of all calls (0: the one class of calls that nothing holds)."""

    call: Ints
    share: Floats
    kind: Ints
    row: Ints
    entry: Ints


class Repeats:
    """The calls of one moment that may be tried more than once; `stops` where calls that go on to others have been
    found to end before."""

    def __init__(self, standing: Standing, moment: Moment) -> None:
        self.standing, self.frame = standing, standing.frame
        self.network, self.moment, self.choice = standing.network, moment, standing.choice
        network, moment = self.network, self.moment
        arrivals = network.arrivals
        self.entry, self.front, self.route = arrivals.entry, arrivals.front, arrivals.route
        clients = network.plan.clients
        self.of_client: Floats = np.array([*(client.retries for client in clients), 0], dtype=np.float64)
        self.row_part, self.stops = standing.row_part, standing.stops
        met = moment.encounter.fate_met
        leads_on = network.members.leads_on[network.pairs.member]
        # Per fate and pair: whether a connect is taken; and whether one that is not takes its time-out.
        self.takes: Bools = (met == ANSWERS) | leads_on
        self.silent: Bools = met != REFUSES
        # The cells whose calls may go on to other targets, and how often.
        self.others = dict(self.frame.with_others)
        self.over = np.zeros(len(network.fronts.zone))
        self.lumps = Lumps(len(network.pairs.front))
        self.stuck: list[Stuck] = []
        self.cases: list[Cases] = []
        self.size, self.kinds = len(network.entries.call), 1
        # The share of each class among its call's, and among those of its call whose connection has ended under them.
        self.weights, self.weights_after_one = np.ones(1), np.ones(1)
        if self.returning.any():
            self._find_cases()
        self.mult, self.after_one = np.ones(self.size), self.first_connects
        # Per call the share without an open connection, and with one that has just ended under it.
        self.free, self.anew = np.ones(len(moment.call_rps)), np.zeros(len(moment.call_rps))

    @property
    def any(self) -> bool:
        """Whether any call may be tried more than once."""
        return bool(self.cases)

    # Who

    @cached_property
    def returning(self) -> Bools:
        """Per call: whether it may be tried more than once: repeated, or at another address of a set."""
        made = (self.of_client[self.network.calls.client] > 0) | self._goes_on_by_key
        holder = self.moment.answers.holder
        for number in np.unique(holder[holder >= 0]):
            if any(len(leaves) > 1 for leaves in self.moment.answers.sets[int(number)]):
                made |= (holder == number) & self._goes_on & self._may_fail_to_connect
        return np.asarray(made)

    @cached_property
    def _goes_on_by_key(self) -> Bools:
        """Per call: whether a session may hold it at a target, after which it goes on to others by its key."""
        network = self.network
        both = np.zeros(len(network.cells.front), dtype=bool)
        for cell in self.others:
            both[cell] = network.cells.method[cell] == "source-hash"
        kept = np.zeros_like(both)
        for kind in network.kept.sessions:
            kept[kind.cells] = True
        of_client = network.calls.client < len(network.plan.clients)
        return np.asarray(of_client & (network.kept.at_cells[:, both & kept]).any(axis=1))

    @cached_property
    def _goes_on(self) -> Bools:
        """Per call: whether its client takes the next address after a failed connect."""
        takes = np.array([*(client.tries_next_address for client in self.network.plan.clients), False], dtype=bool)
        return takes[self.network.calls.client]

    @cached_property
    def _may_fail_to_connect(self) -> Bools:
        """Per call: whether a connect of it may fail: at a dead front, at none, behind a firewall, at layer 4."""
        network, entries = self.network, self.network.entries
        at_row = ~self.standing.arrives | (network.fronts.layer[self.front] == 4)
        at_row = (at_row | (entries.listener[self.entry] < 0)) & (self.row_part > 0)
        at_entry = total_by(self.entry, at_row, len(entries.call)) > 0
        at_entry[self.standing.stranded] = True
        at_entry &= entries.member < 0
        return total_by(entries.call, at_entry, len(network.calls.client)) > 0

    def _find_cases(self) -> None:
        """The classes of those who are held, and every case with the addresses that it holds."""
        network = self.network
        for call in self._sticky_calls():
            one = self._classes(int(call))
            if one is not None:
                one.first, one.first_kind = self.size, self.kinds
                self.size += len(one.entries) * len(one.weights)
                self.kinds += len(one.weights)
                self.stuck.append(one)
        self.weights = np.concatenate([np.ones(1), *(one.weights for one in self.stuck)])
        self.weights_after_one = self.weights
        stuck = {one.call: one for one in self.stuck}
        by_size: dict[int, list[Cases]] = {}
        for call in np.flatnonzero(self.returning):
            mine = network.entries.of_call[call]
            holder = int(self.moment.answers.holder[call])
            sets = self.moment.answers.sets[holder] if holder >= 0 else {(0,): 1.0}
            for leaves, share in sets.items():
                if leaves and share > 0:
                    by_size.setdefault(len(leaves), []).append(
                        self._case(int(call), mine, np.array(leaves), share, stuck.get(int(call)))
                    )
        for some in by_size.values():
            self.cases.append(
                Cases(*(np.concatenate([getattr(one, name) for one in some]) for name in Cases.__annotations__))
            )

    def _case(self, call: int, mine: Ints, leaves: Ints, share: float, one: Stuck | None) -> Cases:
        """The cases of a call that hold one set: one, or one for each class."""
        if one is None:
            own = mine[leaves][None, :]
            return Cases(np.array([call]), np.array([share]), np.zeros(1, dtype=np.int64), own, own)
        rows = one.rows[leaves].T
        entry = np.broadcast_to(mine[leaves], rows.shape)
        every = np.arange(len(rows)) + one.first_kind
        return Cases(np.full(len(rows), call), np.full(len(rows), share), every, rows, entry)

    # Classes

    def _sticky_calls(self) -> Ints:
        """The calls that may be tried again and may be held at a target."""
        through = self.network.kept.at_cells
        sticky = np.array([method == "source-hash" for method in self.network.cells.method], dtype=bool)
        for kind in self.network.kept.sessions:
            sticky[kind.cells] = True
        if not sticky.any() or not len(self.network.pairs.front):
            return np.zeros(0, dtype=np.int64)
        # Who only takes next addresses meets his target again at layer 4 alone.
        at_4 = sticky & (self.network.fronts.layer[self.network.cells.front] == 4)
        again = (self.of_client[self.network.calls.client] > 0) | self._goes_on_by_key
        held = np.where(again, through[:, sticky].any(axis=1), through[:, at_4].any(axis=1))
        return np.flatnonzero(self.returning & held)

    def _classes(self, call: int) -> Stuck | None:
        reached, fate = np.flatnonzero(self.network.kept.at_cells[call]), int(self.standing.fate_of_call[call])
        bound = self._by_session(call, fate, reached)
        hashed = self._hashed(call, reached)
        if len(bound) == 1 and not hashed:
            return None
        parts = list(self._by_key(call, fate, bound, hashed))
        weights = np.concatenate([part.weights for part in parts])
        free = np.concatenate([np.full(len(part.weights), part.free) for part in parts])
        cells = {cell for part in parts for cell in part.pins} | {int(cell) for cell in reached if cell in self.others}
        cells |= {int(cell) for kind in self.network.kept.sessions for cell in np.intersect1d(kind.cells, reached)}
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
        return Stuck(call, fate, entries, weights, free, held, spent, ways)

    def _by_session(self, call: int, fate: int, reached: Ints) -> list[Part]:
        """Which sessions bind the call's sources: those of each kind with those of every other, as independent."""
        network, moment = self.network, self.moment
        client, takes = int(network.calls.client[call]), self.takes[fate]
        found, kinds = [Part(np.ones(1), {}, free=True)], list[tuple[Ints, Ints, Floats, Ints]]()
        for number, kind in enumerate(network.kept.sessions):
            mine = np.intersect1d(kind.cells, reached)
            if kind.client != client or not len(mine) or moment.held is None:
                continue
            held = sessions_of_free(network, moment, number, call)
            pins = np.full((len(mine), len(held)), NOBODY)
            for row, cell in enumerate(mine):
                pairs = network.cells.pairs[int(cell)]
                code = pairs * STRIDE + np.where(takes[pairs], 1, 0)
                pins[row, network.pairs.member[pairs]] = np.where(moment.in_use[pairs], code, NOBODY)
            members = np.flatnonzero(moment.held.sessions[number] > 0)
            kinds.append((mine, pins, held, members))
        many = math.prod(len(members) + 1 for _, _, _, members in kinds) > MOST_TOGETHER
        for mine, pins, held, members in kinds:
            alone = [members[one : one + 1] for one in range(len(members))]
            alike = self._alike(fate, mine, pins, members) if many else alone
            bound = [self._held_at(mine, pins, held, some) for some in alike]
            none = Part(np.array([max(1 - held.sum(), 0.0)]), {}, free=True)
            found = [one.also(other) for one in found for other in [*bound, none]]
        return found

    def _held_at(self, cells: Ints, pins: Ints, held: Floats, some: Ints) -> Part:
        """Those whom a session holds at one of some members that fare alike."""
        made = {}
        for row, cell in enumerate(cells):
            pin = pins[row, some]
            if len(some) > 1 and pin[0] != NOBODY:
                pin = np.array(
                    [self.lumps.add(pin // STRIDE, np.maximum(held[some], EMPTY)) * STRIDE + pin[0] % STRIDE]
                )
            made[int(cell)] = pin[:1]
        return Part(np.array([held[some].sum()]), made, free=False)

    def _alike(self, fate: int, cells: Ints, pins: Ints, members: Ints) -> list[Ints]:
        """The members in lumps that fare alike: they meet the same at every front, and are machines of one make with
        queues as long. Who takes no connect at a cell that goes on to others stays alone, as all others go on without
        it."""
        network, truth = self.network, self.moment.truth
        machine = network.members.machine[members]
        made = [
            network.machines.capacity[machine], network.machines.service_s[machine], network.machines.queue_s[machine],
            truth.slowness[machine], np.round(self.moment.backlog_s[machine], 9), network.machines.zone[machine],
        ]  # fmt: skip
        for row, cell in enumerate(cells):
            pair = np.maximum(pins[row, members] // STRIDE, 0)
            met, bad = self.moment.encounter.fate_met[fate, pair], self.moment.encounter.bad_page[fate, pair]
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
        hashed = [int(cell) for cell in reached if self.network.cells.method[int(cell)] == "source-hash"]
        return [cell for cell in hashed if len(segment.keys) and (weight[self.network.cells.pairs[cell]] > 0).any()]

    def _by_key(self, call: int, fate: int, bound: Sequence[Part], hashed: Sequence[int]) -> Iterator[Part]:
        """Of those bound alike, the keys that fall to the same targets at every front are a class; where a session
        holds, its key decides nothing, but where its target takes no connect, who comes next."""
        if not hashed:
            yield from bound
            return
        segment = self.network.segments[int(self.network.calls.segment[call])]
        every = max(1, -(-len(segment.keys) * len(bound) // MOST_CLASSES))
        known: dict[tuple[int, ...], tuple[Ints, Floats]] = {}
        for part in bound:
            pattern = tuple(int(part.pins[cell][0]) if cell in part.pins else NOBODY for cell in hashed)
            if pattern not in known:
                falls = [self._fall(cell, fate, segment, pin, every) for cell, pin in zip(hashed, pattern, strict=True)]
                classes, count = np.unique(np.array(falls), axis=1, return_counts=True)
                known[pattern] = classes, count / count.sum()
            classes, share = known[pattern]
            pins = {cell: np.repeat(pin, len(share)) for cell, pin in part.pins.items()}
            pins |= {cell: classes[row] for row, cell in enumerate(hashed)}
            yield Part(part.weights[0] * share, pins, free=part.free)

    def _fall(self, cell: int, fate: int, segment: Segment, held: int, every: int) -> Ints:
        """Where each key (of so many one) falls, that a session holds already (NOBODY: none does): the pair, and the
        silent ones that it has met before in its own order."""
        mine, table = self.network.cells.pairs[cell], hash_table(self.network)
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

    def lose_connections(self, call: int, lost: Floats) -> None:
        """Of a call's connections those through these pairs have ended (shares of its sources): the sources are held
        where their connections led, as a key or a session has led both."""
        one = next((one for one in self.stuck if one.call == call), None)
        if one is None or lost.sum() <= 0:
            return
        made = np.zeros(len(one.weights))
        for pair in np.flatnonzero(lost):
            pins = one.pins.get(int(self.network.pairs.cell[pair]))
            there = np.zeros(1) if pins is None else self.lumps.hold(pins, int(pair))
            # A class may be empty among those without a connection.
            weights = there * np.maximum(one.weights, EMPTY) if there.any() else one.weights
            made += lost[pair] * weights / weights.sum()
        self.weights_after_one = self.weights_after_one.copy()
        self.weights_after_one[one.kinds] = made / made.sum()

    # Where they go

    @cached_property
    def first_connects(self) -> Floats:
        """Per row of the book: the connects of a call there if each attempt connected once, and was the only one."""
        made = np.zeros(self.size)
        made[: len(self.moment.told)] = self.moment.told
        for cases in self.cases:
            made[np.unique(cases.entry)] = 0.0
        for cases in self.cases:
            weight = cases.share * self.weights[cases.kind] / cases.row.shape[1]
            part = np.broadcast_to(weight[:, None], cases.row.shape)
            np.add.at(made, cases.row, part)
        return made

    @property
    def connects(self) -> Floats:
        """Per row of the book the connects of a call there."""
        return self.first_connects * self.mult

    @property
    def connects_after_one(self) -> Floats:
        """The same of a call that has one attempt behind it."""
        return self.after_one

    def coming(self, one: Stuck) -> Floats:
        """How often calls of each class connect at each entry, those whose connection has ended under them too:
        (entries, classes)."""
        made = self.free[one.call] * self.connects[one.rows]
        return np.asarray(made + self.anew[one.call] * self.connects_after_one[one.rows])

    @property
    def entry_connects(self) -> Floats:
        """Per entry the connects of a call there."""
        return self.by_entry(self.connects)

    @property
    def entry_connects_after_one(self) -> Floats:
        """The same of a call that has one attempt behind it."""
        return self.by_entry(self.connects_after_one)

    def by_entry(self, book: Floats) -> Floats:
        """Sums a value per row of the book by entry; the first axis may be followed by others."""
        made = book[: len(self.moment.told)].copy()
        for one in self.stuck:
            made[one.entries] += book[one.rows].sum(axis=1)
        return made

    def mix(self, share: Floats) -> None:
        """Puts into `share` (fates, pairs) how attempts of held classes are spread; it holds what is drawn anew."""
        for one in self.stuck:
            for cell in one.pins:
                if cell not in self.others:
                    mine = self.network.cells.pairs[cell]
                    weights = self._classes_at(one, cell, self.coming(one))
                    share[one.fate, mine] = self._spread(one, cell, weights, share[one.fate])

    def spread(self, one: Stuck, cell: int, drawn: Floats, connected: Floats) -> Floats:
        """How so many connects by row of the book are spread over a cell's pairs; `drawn` per pair of the network."""
        weights = self._classes_at(one, cell, connected[one.rows])
        if cell in self.others:
            return self._ends(one, cell, drawn[self.network.cells.pairs[cell]], weights).share
        return self._spread(one, cell, weights, drawn)

    def _spread(self, one: Stuck, cell: int, weights: Floats, drawn: Floats) -> Floats:
        """How attempts with these weights of the classes are spread over a cell's pairs."""
        mine, pins = self.network.cells.pairs[cell], one.pins[cell]
        pinned = pins >= 0
        held = self.lumps.onto_pairs(pins[pinned], weights[pinned])[mine]
        return np.asarray(held + weights[~pinned].sum() * drawn[mine])

    def _classes_at(self, one: Stuck, cell: int, connects_: Floats) -> Floats:
        """The shares of the classes among the connects that come to a cell, of so many at each entry: (entries,
        classes)."""
        rows = one.ways[self.front[one.ways] == self.network.cells.front[cell]]
        place = np.searchsorted(one.entries, self.entry[rows])
        coming = (connects_[place] * self.row_part[rows][:, None]).sum(axis=0)
        if coming.sum() <= 0:
            coming = one.weights
        return np.asarray(coming / coming.sum())

    def ends_at(self, one: Stuck, cell: int, drawn: Floats) -> LastStops:
        """Where the attempts of a call's classes end at a cell that goes on to others."""
        return self._ends(one, cell, drawn, self._classes_at(one, cell, self.coming(one)))

    def _ends(self, one: Stuck, cell: int, drawn: Floats, weight: Floats) -> LastStops:
        mine, pins, spent = self.network.cells.pairs[cell], one.pins[cell], one.spent[cell]
        if not len(mine):
            return LastStops(drawn, drawn[None, :])
        place = np.searchsorted(mine, np.maximum(pins, 0))
        waited, share = np.zeros((self.others[cell] + 1, len(mine))), np.zeros(len(mine))
        known = (pins >= 0) & (spent != DRAWN)
        good = known & (self.lumps.value(self.takes[one.fate].astype(np.float64), pins) > 0)
        for waits in np.unique(spent[good]):
            some = good & (spent == waits)
            waited[waits] = self.lumps.onto_pairs(pins[some], weight[some])[mine]
        share += self.lumps.onto_pairs(pins[known & ~good], weight[known & ~good])[mine] + waited.sum(axis=0)
        on = np.bincount(place[(pins >= 0) & ~known], weight[(pins >= 0) & ~known], minlength=len(mine))
        on = np.append(on, weight[pins < 0].sum())
        for start in np.flatnonzero(on):
            then = self._going_on(one, cell, int(start), drawn)
            share, waited = share + on[start] * then.share, waited + on[start] * then.waited
        return LastStops(share, waited)

    def _going_on(self, one: Stuck, cell: int, start: int, drawn: Floats) -> LastStops:
        """Where calls end that are first sent to the target at `start` of a cell (past its last: as all are drawn)."""
        key = (one.fate, cell, start, drawn.tobytes())
        if key not in self.stops:
            mine, tries = self.network.cells.pairs[cell], self.others[cell]
            first = drawn if start == len(mine) else np.eye(len(mine))[start]
            found = last_stops(first, drawn, ~self.takes[one.fate, mine], self.silent[one.fate, mine], tries)
            waited = np.zeros((tries + 1, len(mine)))
            waited[: len(found.waited)] = found.waited
            self.stops[key] = LastStops(found.share, waited)
        return self.stops[key]

    # How often, and what becomes of them

    def longest_wait(self) -> int:
        """How many connects may take their time-out before one of the same attempt is taken, at most."""
        most = [min(cases.row.shape[1], int(self._most_waits(cases.call).max())) - 1 for cases in self.cases]
        goes_on = [self._goes_on[cases.call].any() for cases in self.cases]
        return max([waits for waits, on in zip(most, goes_on, strict=True) if on], default=0)

    def _most_waits(self, call: Ints) -> Floats:
        """How many connects of one attempt may begin and take their time-out."""
        calls = self.network.calls
        wait_s = np.maximum(calls.connect_timeout_s[call], 1e-9)
        return np.maximum(np.ceil(calls.timeout_s[call] / wait_s - 1e-9), 1.0)

    def outcomes(
        self, entry: Floats, share: Floats, pair: Mapping[int, Floats], row: Floats, after: "AfterWaits"
    ) -> Floats:
        """What becomes of one connect by row of the book and kind; `share` is what is drawn anew, `row` what becomes of
        it by row of `Network.arrivals` where no pool is asked."""
        if not self.stuck:
            return entry
        made = np.zeros((self.size, KINDS))
        made[: len(entry)] = entry
        for one in self.stuck:
            made[one.rows] = self._class_outcome(one, entry, share, pair, row, after)
        return made

    def ended(self, outcomes: Sequence[Floats], spent: int = 0) -> tuple[Floats, Floats]:
        """Per row of the book the connects of a call there, and by kind what of the calls ends there, each counted once
        by its last attempt; of calls that have `spent` attempts behind them. `outcomes` of a connect after 0, 1, ...
        others that took their time-out (the last one for all further ones)."""
        connected = np.zeros(self.size)
        connected[: len(self.moment.told)] = self.moment.told
        ends = np.zeros((self.size, KINDS))
        ends[: len(self.moment.told)] = outcomes[0][: len(self.moment.told)] * self.moment.told[:, None]
        for cases in self.cases:
            mine = np.unique(cases.entry)
            connected[mine], ends[mine] = 0.0, 0.0
        for cases in self.cases:
            tried, ended = self._case_ends(cases, outcomes, spent)
            weight = cases.share * (self.weights_after_one if spent else self.weights)[cases.kind]
            np.add.at(connected, cases.row, tried * weight[:, None])
            np.add.at(ends, cases.row, ended * weight[:, None, None])
        return connected, ends

    def _case_ends(self, cases: Cases, outcomes: Sequence[Floats], spent: int) -> tuple[Floats, Floats]:
        """Per case and address: connects, and what ends there by kind."""
        calls = self.network.calls
        outcome = [one[cases.row] for one in outcomes]
        quiet = sum(outcome[0][:, :, UNMET + cause] for cause in QUIET)
        away = sum(outcome[0][:, :, UNMET + cause] for cause in TURNED_AWAY)
        made = connects(away, quiet, self._most_waits(cases.call), self._goes_on[cases.call].astype(np.float64))  # type: ignore[arg-type]
        wait_s, timeout_s = calls.connect_timeout_s[cases.call], calls.timeout_s[cases.call]
        ends = self._attempt_ends(made, outcome, wait_s, timeout_s, self._most_waits(cases.call), cases.call)
        served = ends[:, :, SERVED].sum(axis=1)
        fails, left = np.clip(1 - served, 0.0, 1.0), np.maximum(self.of_client[calls.client[cases.call]] - spent, 0)
        tries = attempts(fails, left)
        lost_s = ends[:, :, SPENT].sum(axis=1) * attempts_before(fails, left)
        worked, well = ends[:, :, WORK] * tries[:, None], ends[:, :, SERVED]
        ends = ends * (fails**left)[:, None, None]
        ends[:, :, SERVED] = well * tries[:, None]
        ends[:, :, WORK] = worked + well * lost_s[:, None]
        return made.tried.sum(axis=2) * tries[:, None], ends

    def _attempt_ends(
        self, made: Connects, outcome: Sequence[Floats], wait_s: Floats, timeout_s: Floats, most: Floats, call: Ints
    ) -> Floats:
        """What one attempt comes to, by case, address and kind."""
        cases, count, waits = made.tried.shape
        ends = np.zeros((cases, count, KINDS))
        moves = self._goes_on[call][:, None]
        for number in range(waits):
            found = outcome[min(number, len(outcome) - 1)]
            before_s = (number * wait_s)[:, None]
            tried, last = made.tried[:, :, number], made.last[:, :, number]
            # The time-out that uses up what is left is the last, whatever addresses there are.
            quiet_last = np.where(moves & (number + 1 >= most)[:, None], tried, last)
            met = met_of(found)
            fails = met[:, :, FAILS].sum(axis=2)
            met[:, :, WORK] += met[:, :, SERVED] * before_s
            met[:, :, SPENT] = np.minimum(met[:, :, SPENT] + fails * before_s, fails * timeout_s[:, None])
            ends += met * tried[:, :, None]
            for causes, weight, more_s in ((QUIET, quiet_last, 1.0), (TURNED_AWAY, last, 0.0)):
                spent_s = np.minimum(before_s + more_s * wait_s[:, None], timeout_s[:, None])
                for cause in causes:
                    part = found[:, :, UNMET + cause] * weight
                    ends[:, :, cause] += part
                    ends[:, :, SPENT] += part * spent_s
        return ends

    def take(self, mult: Floats, after_one: Floats) -> None:
        """From now on calls connect that often, against once each."""
        self.mult, self.after_one = mult, after_one

    def against_once(self, connected: Floats) -> Floats:
        """So many connects by row of the book, against once each."""
        once = self.first_connects
        return np.divide(connected, once, out=np.ones_like(once), where=once > 0)

    # What becomes of classes

    def _class_outcome(
        self, one: Stuck, entry: Floats, share: Floats, pair: Mapping[int, Floats], row: Floats, after: "AfterWaits"
    ) -> Floats:
        """What becomes of one connect by entry of the call, class and kind."""
        made = np.zeros((len(one.entries), len(one.weights), KINDS))
        place = {int(entry): number for number, entry in enumerate(one.entries)}
        somewhere = np.zeros(len(one.entries), dtype=bool)
        for number in one.ways:
            of_row, at = row[number][None, :], place[int(self.entry[number])]
            if self.route[number] >= 0 and self.standing.arrives[number]:
                of_row = self._class_routed(one, int(number), share, pair, after)
            made[at] += self.row_part[number] * of_row
            somewhere[at] = True
        # Outside, or without any front in the address: whatever holds a call, all fare alike.
        made[~somewhere] = entry[one.entries[~somewhere], None, :]
        return made

    def _class_routed(
        self, one: Stuck, number: int, share: Floats, pair: Mapping[int, Floats], after: "AfterWaits"
    ) -> Floats:
        """The same of a row that leads to a pool: (classes, kinds)."""
        network, front = self.network, int(self.front[number])
        route = int(self.route[number])
        made = np.zeros((len(one.weights), KINDS))
        for lane in np.flatnonzero(network.weighted.route == route):
            if self.choice.lane_share[lane] > 0:
                cell = int(network.weighted.cell[lane])
                made += self.choice.lane_share[lane] * self._class_at(one, cell, share, pair, after)
        refused = self.choice.route_refused[route]
        made[:, NONE_HEALTHY] += refused
        if self.network.fronts.layer[front] == 4:
            made[:, UNMET + NONE_HEALTHY] += refused
        with_trip(made, float(self.frame.trip_s[number]))
        capped(made, float(self.over[front]))
        return made

    def _class_at(
        self, one: Stuck, cell: int, share: Floats, pair: Mapping[int, Floats], after: "AfterWaits"
    ) -> Floats:
        """What becomes of an attempt of each class at a cell: (classes, kinds), or one row for all."""
        if cell in one.spent:
            return self._class_after_others(one, cell, share, after)
        mine = self.network.cells.pairs[cell]
        drawn = np.zeros((1, KINDS))
        for kind, value in pair.items():
            drawn[:, kind] = float(share[min(one.fate, len(share) - 1), mine] @ value[one.fate, mine])
        if cell not in one.pins:
            return drawn
        pins = one.pins[cell]
        made = np.zeros((len(pins), KINDS))
        for kind, value in pair.items():
            made[:, kind] = self.lumps.value(value[one.fate], pins)
        return np.where((pins >= 0)[:, None], made, drawn)

    def _class_after_others(self, one: Stuck, cell: int, share: Floats, after: "AfterWaits") -> Floats:
        """The same where calls go on to others: by the target at which a class ends, or by those that are drawn."""
        mine, pins, spent = self.network.cells.pairs[cell], one.pins[cell], one.spent[cell]
        if not len(mine):
            return np.zeros((1, KINDS))
        values, place = after[one.fate, cell], np.searchsorted(mine, np.maximum(pins, 0))
        made = np.zeros((len(pins), KINDS))
        by_pair = np.zeros((KINDS, len(self.network.pairs.front)))
        for waits in np.unique(spent[spent >= 0]):
            by_pair[:, mine] = values[waits].T
            some = spent == waits
            made[some] = self.lumps.value(by_pair, pins[some]).T
        drawn = share[min(one.fate, len(share) - 1), mine]
        bad = ~self.takes[one.fate, mine]
        starts = np.where(pins < 0, len(mine), np.where(spent == DRAWN, place, NOBODY))
        for start in np.unique(starts[starts >= 0]):
            found = self._going_on(one, cell, int(start), drawn)
            made[starts == start] = np.einsum("sp,spk->k", found.waited, values) + (found.share * bad) @ values[0]
        return made

    def opening(self, one: Stuck, cell: int, drawn: Floats, served: Floats, connected: Floats) -> Floats:
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
        rows = rows[self.standing.arrives[rows] & (self.route[rows] >= 0)]
        made = np.zeros(len(mine))
        for row in rows:
            lanes = (network.weighted.route == self.route[row]) & (network.weighted.cell == cell)
            coming = of_free[np.searchsorted(one.entries, self.entry[row])] * self.row_part[row]
            part = float(self.choice.lane_share[lanes].sum())
            if cell in one.spent:
                made += (
                    part * coming.sum() * self._ends(one, cell, drawn[mine], coming / max(coming.sum(), 1e-300)).share
                )
            else:
                made += part * self._spread(one, cell, coming, drawn)
        return made * served[mine]

    def _unweighted(self, one: Stuck) -> Floats:
        """The connects of classes that nobody is in: as if they connected once."""
        return np.repeat(self.moment.told[one.entries][:, None], len(one.weights), axis=1)


def sessions_of_free(network: Network, moment: Moment, number: int, call: int) -> Floats:
    """Of those sources of a call that have no open connection, the share that a session of a kind binds to each member.

    At layer 4 a connection leads where its source's session does; so who has none is bound as all are, less those who
    are connected there.
    """
    assert moment.held is not None
    held = moment.held.sessions[number]
    kind = network.kept.connection_of_call.get(call)
    if kind is None:
        return held
    connected = moment.held.connections[kind]
    free = 1 - float(connected.sum())
    if free <= ALL:
        return held
    bound = np.maximum(held - total_by(network.pairs.member, connected, len(held)), 0.0) / free
    return np.asarray(bound / max(float(bound.sum()), 1.0))


# What becomes of calls that have met silent targets before: per fate and cell (silent ones before, pair of the cell,
# kind).
AfterWaits = Mapping[tuple[int, int], Floats]


def _beginning_with(order: Ints, first: int) -> Ints:
    """The orders of keys (keys, targets) as they go on from a target to which something else has led them."""
    rest = order != first
    # Stable: those that are left keep their order, and the first one's place, or the last, is dropped.
    places = np.argsort(~rest, axis=1, kind="stable")[:, : order.shape[1] - 1]
    return np.concatenate([np.full((len(order), 1), first), np.take_along_axis(order, places, axis=1)], axis=1)
