"""Calls that are repeated when they fail: how often each is tried, and what becomes of it in the end.

A repeat keeps its DNS answer, its hash key and its session and redraws only the rest. So what fails again is worked out
per class of calls that are held at the same targets: `failed = Σ share x p^(r+1)`, tried `1 + p + ... + p^r` times, p
being what fails of one attempt of that class.
"""

from collections.abc import Iterator
from dataclasses import dataclass, field
from functools import cached_property

import numpy as np

from northgate.engine.flow import DEAD_FRONT, KINDS, NONE_HEALTHY, OVERLOADED, SERVED, WORK, Moment, Tried
from northgate.engine.network import Network
from northgate.engine.others import LastStops, last_of_orders, last_stops
from northgate.engine.shares import Choice, hash_table
from northgate.engine.sources import Segment
from northgate.engine.standing import frame_of
from northgate.engine.truth import ANSWERS, REFUSES
from northgate.engine.types import Bools, Floats, Ints, total_by

# A class whose calls are held at a target that takes no connect: they go on to others as those are drawn.
DRAWN = -1
# While classes are made, a pair that holds and what is spent before it are one number; NOBODY holds where none does.
STRIDE, NOBODY = 1 << 20, -1


@dataclass
class Stuck:
    """The classes of one call: their weights (the last class draws anew each time), and per cell the pair that holds
    each (-1: none there does). `attempts[e, k]`: how often entry e's calls of class k are tried. `spent`, per cell
    whose calls may go on to others: how many silent targets those of a class have met before, or DRAWN."""

    call: int
    fate: int
    entries: Ints
    weights: Floats
    pins: dict[int, Ints]
    spent: dict[int, Ints]
    attempts: Floats = field(default_factory=lambda: np.zeros((0, 0)))

    def drawn(self, entry: int) -> Floats:
        """The weights of the classes among an entry's attempts; sums to 1."""
        weighted = self.weights * self.attempts[entry]
        return np.asarray(weighted / weighted.sum())


class Repeats:
    """The repeating calls of one moment. `rows` are those of `Network.entry_fronts`, `row_part` the share of its
    entry's requests that each gets; `stops` where calls that go on to others have been found to end before."""

    def __init__(
        self, network: Network, moment: Moment, choice: Choice, fate_of_call: Ints, row_part: Floats,
        stops: dict[tuple[int, int, int, bytes], LastStops],
    ) -> None:  # fmt: skip
        self.network, self.moment, self.choice, self.row_part = network, moment, choice, row_part
        self.entry, self.front, self.route = network.entry_fronts
        tries = np.array([*(client.retries for client in network.plan.clients), 0], dtype=np.float64)
        entries = network.entries
        self.of_client: Floats = tries
        self.retries: Floats = np.where(entries.member < 0, tries[network.calls.client[entries.call]], 0.0)
        self.attempts = np.ones(len(entries.call)) if moment.attempts is None else moment.attempts.entry
        self.after_one = np.ones(len(entries.call))
        self.over = np.zeros(len(network.fronts.zone))
        met = moment.encounter.fate_met
        leads_on = network.members.leads_on[network.pairs.member]
        # Per fate and pair: whether a connect is taken; and whether one that is not takes its time-out.
        self.takes: Bools = (met == ANSWERS) | leads_on
        self.silent: Bools = met != REFUSES
        # The cells whose calls may go on to other targets, and how often; and what becomes of those there: per fate and
        # cell (silent ones before, pair of the cell, kind).
        self.others = dict(frame_of(network).with_others)
        self.after_waits: dict[tuple[int, int], Floats] = {}
        self.stops = stops
        self.stuck: list[Stuck] = []
        if self.retries.any():
            self.stuck = [one for call in self._sticky_calls() if (one := self._classes(call, fate_of_call))]

    @property
    def any(self) -> bool:
        """Whether any call is ever repeated."""
        return bool(self.retries.any())

    # Classes

    def _sticky_calls(self) -> Ints:
        """The calls that are repeated and may be held at a target."""
        through = self._cells_of_calls
        sticky = np.array([method == "source-hash" for method in self.network.cell_method], dtype=bool)
        for _, cells in self.network.session_kinds:
            sticky[cells] = True
        again = self.of_client[self.network.calls.client] > 0
        possible = sticky.any() and len(self.network.pairs.front) > 0
        return np.flatnonzero(again & (through[:, sticky].any(axis=1) if possible else False))

    @cached_property
    def _cells_of_calls(self) -> Bools:
        """Which cells each call may come to."""
        network, routes = self.network, self.network.routes
        made = np.zeros((len(network.calls.client), len(routes.cell_front)), dtype=bool)
        own = (network.entries.member[self.entry] < 0) & (self.route >= 0)
        for row in np.flatnonzero(own):
            lanes = routes.lane_route == self.route[row]
            made[network.entries.call[self.entry[row]], routes.lane_cell[lanes]] = True
        return made

    def _classes(self, call: int, fate_of_call: Ints) -> Stuck | None:
        reached = np.flatnonzero(self._cells_of_calls[call])
        weights = np.ones(1)
        pins: dict[int, Ints] = {}
        for more_weights, more_pins in self._ways_held(call, int(fate_of_call[call]), reached):
            weights, pins = _combined(weights, pins, more_weights, more_pins)
        if not pins:
            return None
        pins |= {
            int(cell): np.full(len(weights), NOBODY) for cell in reached if cell in self.others and cell not in pins
        }
        # The last class draws anew each time.
        weights, pins = np.append(weights, 0.0), {cell: np.append(pin, NOBODY) for cell, pin in pins.items()}
        entries = self.network.entries_of_call[call]
        started = np.repeat(self.attempts[entries][:, None], len(weights), axis=1)
        held = {cell: np.where(pin < 0, NOBODY, pin // STRIDE) for cell, pin in pins.items()}
        spent = {cell: np.where(pin < 0, 0, pin % STRIDE) + DRAWN for cell, pin in pins.items() if cell in self.others}
        return Stuck(call, int(fate_of_call[call]), entries, weights, held, spent, started)

    def _ways_held(self, call: int, fate: int, reached: Ints) -> Iterator[tuple[Floats, dict[int, Ints]]]:
        """By sessions, then by keys: the weights of the classes, and per cell where each is held."""
        yield from self._by_session(call, fate, reached)
        yield from self._by_key(call, fate, reached)

    def _by_session(self, call: int, fate: int, reached: Ints) -> Iterator[tuple[Floats, dict[int, Ints]]]:
        """Per kind of session that the call's sources may have: who is held where, and last those who are not."""
        network, moment = self.network, self.moment
        client = int(network.calls.client[call])
        for number, (whose, cells) in enumerate(network.session_kinds):
            mine = np.intersect1d(cells, reached)
            if whose != client or not len(mine) or moment.held is None:
                continue
            held = moment.held.sessions[number]
            members = np.flatnonzero(held > 0)
            pins = {}
            takes = self.takes[fate]
            for cell in mine:
                pairs = network.cell_pairs[int(cell)]
                pair_of = np.full(len(held), NOBODY)
                code = pairs * STRIDE + np.where(takes[pairs], 1, 0)
                pair_of[network.pairs.member[pairs]] = np.where(moment.in_use[pairs], code, NOBODY)
                pins[int(cell)] = np.append(pair_of[members], NOBODY)
            yield np.append(held[members], max(1 - held.sum(), 0.0)), pins

    def _by_key(self, call: int, fate: int, reached: Ints) -> Iterator[tuple[Floats, dict[int, Ints]]]:
        """Keys that fall to the same targets at every front are a class."""
        network = self.network
        segment = network.segments[int(network.calls.segment[call])]
        weight = self.choice.pair_weight
        hashed = [int(cell) for cell in reached if network.cell_method[int(cell)] == "source-hash"]
        hashed = [cell for cell in hashed if (weight[network.cell_pairs[cell]] > 0).any()]
        if not hashed or not len(segment.keys):
            return
        falls = np.array([self._fall(cell, fate, segment, weight[network.cell_pairs[cell]]) for cell in hashed])
        classes, count = np.unique(falls, axis=1, return_counts=True)
        yield count / count.sum(), {cell: classes[n] for n, cell in enumerate(hashed)}

    def _fall(self, cell: int, fate: int, segment: Segment, weight: Floats) -> Ints:
        """Where each key falls: the pair, and the silent ones that it has met before in its own order."""
        mine, table = self.network.cell_pairs[cell], hash_table(self.network)
        if cell not in self.others:
            return mine[table.winners(cell, segment, weight)] * STRIDE + 1
        order = table.orders(cell, segment, weight, self.others[cell])
        bad, silent = ~self.takes[fate, mine], self.silent[fate, mine]
        here, quiet = last_of_orders(order, bad, silent)
        return mine[here] * STRIDE + quiet + 1

    # Where they go

    def mix(self, share: Floats) -> None:
        """Puts into `share` (fates, pairs) how attempts of held classes are spread; it holds what is drawn anew."""
        network = self.network
        for one in self.stuck:
            for cell, pins in one.pins.items():
                if cell in self.others:
                    continue
                drawn, pinned, mine = self._drawn_classes(one, cell), pins >= 0, network.cell_pairs[cell]
                held = np.bincount(pins[pinned], drawn[pinned], minlength=share.shape[1])[mine]
                share[one.fate, mine] = held + drawn[~pinned].sum() * share[one.fate, mine]

    def _drawn_classes(self, one: Stuck, cell: int) -> Floats:
        """The weights of the classes among the attempts that come to a cell."""
        entry_of = {int(self.front[row]): int(self.entry[row]) for row in self._rows(one)}
        entry = entry_of[int(self.network.routes.cell_front[cell])]
        return one.drawn(int(np.flatnonzero(one.entries == entry)[0]))

    def held_at(self, cell: int, fate: int) -> Stuck | None:
        """The call of this fate whose classes are followed at a cell that goes on to others."""
        return next((one for one in self.stuck if one.fate == fate and cell in one.spent), None)

    def ends(self, one: Stuck, cell: int, drawn: Floats) -> LastStops:
        """Where the attempts of a call's classes end at a cell that goes on to others."""
        mine, pins, spent = self.network.cell_pairs[cell], one.pins[cell], one.spent[cell]
        if not len(mine):
            return LastStops(drawn, drawn[None, :])
        weight, place = self._drawn_classes(one, cell), np.searchsorted(mine, np.maximum(pins, 0))
        waited, share = np.zeros((self.others[cell] + 1, len(mine))), np.zeros(len(mine))
        known = (pins >= 0) & (spent != DRAWN)
        good = known & self.takes[one.fate, np.maximum(pins, 0)]
        np.add.at(waited, (spent[good], place[good]), weight[good])
        np.add.at(share, place[known & ~good], weight[known & ~good])
        share = share + waited.sum(axis=0)
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
            mine, tries = self.network.cell_pairs[cell], self.others[cell]
            first = drawn if start == len(mine) else np.eye(len(mine))[start]
            found = last_stops(first, drawn, ~self.takes[one.fate, mine], self.silent[one.fate, mine], tries)
            waited = np.zeros((tries + 1, len(mine)))
            waited[: len(found.waited)] = found.waited
            self.stops[key] = LastStops(found.share, waited)
        return self.stops[key]

    def _rows(self, one: Stuck) -> Ints:
        return np.flatnonzero(np.isin(self.entry, one.entries))

    # How often, and what becomes of them

    @cached_property
    def in_sets(self) -> Bools:
        """The entries of calls that go on to the next address of an answer when they meet a dead front."""
        lost, entries = self.moment.lost, self.network.entries
        if lost is None:
            return np.zeros(len(entries.call), dtype=bool)
        return np.asarray(~np.isnan(lost)[entries.call] & (entries.member < 0))

    def again(
        self, entry: Floats, share: Floats, pair: dict[int, Floats], row: Floats, spent: int = 0
    ) -> tuple[Floats, list[Floats]]:  # fmt: skip
        """How often each entry's calls are tried, given what becomes of one attempt; and the same by class. `spent`
        attempts have been made already."""
        made, by_class = tries_of(self._failing(entry), np.maximum(self.retries - spent, 0)), []
        for one in self.stuck:
            fails = self._class_failing(one, self._class_outcome(one, share, pair, row))
            by_class.append(tries_of(fails, self._left(one, fails, spent)))
            made[one.entries] = by_class[-1] @ one.weights
        return made, by_class

    def _left(self, one: Stuck, fails: Floats, spent: int) -> Floats:
        """How often calls of these classes are repeated at most."""
        return np.full(fails.shape, max(self.of_client[self.network.calls.client[one.call]] - spent, 0.0))

    def take(self, tried: Tried) -> None:
        """From now on calls are tried that often."""
        self.attempts, self.after_one = tried.entry, tried.after_one
        for one, of_class in zip(self.stuck, tried.by_class, strict=True):
            one.attempts = of_class

    def free_factor(self, fates: int) -> Floats:
        """Per fate and pair: how often calls that nothing holds are tried, against the mean of all."""
        made = np.ones((fates, len(self.network.pairs.front)))
        for one in self.stuck:
            mean = one.attempts @ one.weights
            for number, entry in enumerate(one.entries):
                fronts = self.front[self.entry == entry]
                mine = np.isin(self.network.pairs.front, fronts)
                made[one.fate, mine] = one.attempts[number, -1] / mean[number]
        return made

    def of_calls(
        self, entry: Floats, share: Floats, pair: dict[int, Floats], row: Floats, spent: int = 0
    ) -> tuple[Floats, Floats]:  # fmt: skip
        """What becomes of an entry's calls, counted once by their last attempt; and per call what it loses to dead
        fronts at every address (0 where that stands among the entries). `spent` attempts have been made already."""
        lost = np.zeros(len(self.moment.call_rps))
        if not self.any and self.moment.lost is None:
            return entry, lost
        fails = self._failing(entry)
        retries = np.maximum(self.retries - spent, 0)
        left = fails**retries
        made = by_last_attempt(entry, fails, retries)
        if self.moment.lost is not None:
            calls = self.network.entries.call[self.in_sets]
            lost[calls] = self.moment.lost[calls] * left[self.in_sets]
        for one in self.stuck:
            outcome = self._class_outcome(one, share, pair, row)
            fails = self._class_failing(one, outcome)
            often = self._left(one, fails, spent)
            made[one.entries] = np.einsum("k,ekx->ex", one.weights, by_last_attempt(outcome, fails, often))
            if self.moment.lost is not None and self.in_sets[one.entries].any():
                lost[one.call] = self.moment.lost[one.call] * float((fails**often)[0] @ one.weights)
        made[self.in_sets, DEAD_FRONT] = 0.0
        return made, lost

    def _failing(self, entry: Floats) -> Floats:
        """What fails of one attempt: at an entry, or of the whole call where it goes from one address to the next."""
        alone = np.clip(1 - entry[:, SERVED], 0.0, 1.0)
        if not self.in_sets.any():
            return alone
        mine = np.flatnonzero(self.in_sets)
        call = self.network.entries.call
        served = total_by(call[mine], self.moment.told[mine] * entry[mine, SERVED], len(self.moment.call_rps))
        return np.where(self.in_sets, np.clip(1 - served, 0.0, 1.0)[call], alone)

    def _class_failing(self, one: Stuck, outcome: Floats) -> Floats:
        """The same per class: (entries of the call, classes)."""
        alone = np.clip(1 - outcome[:, :, SERVED], 0.0, 1.0)
        if not self.in_sets[one.entries].any():
            return alone
        whole = np.clip(1 - self.moment.told[one.entries] @ outcome[:, :, SERVED], 0.0, 1.0)
        return np.broadcast_to(whole, alone.shape)

    def _class_outcome(self, one: Stuck, share: Floats, pair: dict[int, Floats], row: Floats) -> Floats:
        """What becomes of one attempt by entry of the call, class and kind.

        `share` is what is drawn anew; `row` is what becomes of it where no pool is asked.
        """
        network = self.network
        made = np.zeros((len(one.entries), len(one.weights), KINDS))
        place = {int(entry): number for number, entry in enumerate(one.entries)}
        for number in self._rows(one):
            routed = self.route[number] >= 0 and self._arrives(int(number))
            of_row = row[number][None, :]
            if routed:
                of_row = self._class_routed(one, int(self.route[number]), share, pair)
                excess = self.over[self.front[number]]
                of_row[:, OVERLOADED] += of_row[:, SERVED] * excess
                of_row[:, [SERVED, WORK]] *= 1 - excess
            made[place[int(self.entry[number])]] += self.row_part[number] * of_row
        stranded = total_by(self.entry, self.row_part, len(network.entries.call))[one.entries] == 0
        made[stranded & (network.entries.balancer[one.entries] >= 0), :, DEAD_FRONT] = 1.0
        return made

    def _class_routed(self, one: Stuck, route: int, share: Floats, pair: dict[int, Floats]) -> Floats:
        """The same of a route: (classes, kinds)."""
        routes = self.network.routes
        made = np.zeros((len(one.weights), KINDS))
        made[:, NONE_HEALTHY] = self.choice.route_refused[route]
        for lane in np.flatnonzero(routes.lane_route == route):
            cell = int(routes.lane_cell[lane])
            at_cell = self._class_at(one, cell, share, pair)
            made += self.choice.lane_share[lane] * at_cell
        return made

    def _arrives(self, row: int) -> bool:
        moment = self.moment
        return not moment.truth.front_dead[self.front[row]] and not moment.encounter.row_blocked[row]

    def _drawn_at(self, cell: int, fate: int, share: Floats, pair: dict[int, Floats]) -> Floats:
        mine = self.network.cell_pairs[cell]
        made = np.zeros(KINDS)
        drawn = share[min(fate, len(share) - 1), mine]
        for kind, value in pair.items():
            made[kind] = float(drawn @ value[fate, mine])
        return made

    def _class_at(self, one: Stuck, cell: int, share: Floats, pair: dict[int, Floats]) -> Floats:
        """What becomes of an attempt of each class at a cell: (classes, kinds), or one row for all."""
        if cell in one.spent:
            return self._class_after_others(one, cell, share)
        drawn = self._drawn_at(cell, one.fate, share, pair)[None, :]
        if cell not in one.pins:
            return drawn
        pins = one.pins[cell]
        made = np.zeros((len(pins), KINDS))
        for kind, value in pair.items():
            made[:, kind] = value[one.fate, np.maximum(pins, 0)]
        return np.where((pins >= 0)[:, None], made, drawn)

    def _class_after_others(self, one: Stuck, cell: int, share: Floats) -> Floats:
        """The same where calls go on to others: by the target at which a class ends, or by those that are drawn."""
        mine, pins, spent = self.network.cell_pairs[cell], one.pins[cell], one.spent[cell]
        if not len(mine):
            return np.zeros((1, KINDS))
        values, place = self.after_waits[one.fate, cell], np.searchsorted(mine, np.maximum(pins, 0))
        made = np.asarray(values[np.maximum(spent, 0), place])
        drawn = share[min(one.fate, len(share) - 1), mine]
        bad = ~self.takes[one.fate, mine]
        starts = np.where(pins < 0, len(mine), np.where(spent == DRAWN, place, NOBODY))
        for start in np.unique(starts[starts >= 0]):
            found = self._going_on(one, cell, int(start), drawn)
            made[starts == start] = np.einsum("sp,spk->k", found.waited, values) + (found.share * bad) @ values[0]
        return made


def tries_of(fails: Floats, repeats: Floats) -> Floats:
    """1 + p + ... + p^r."""
    made = np.ones_like(fails)
    for number in range(1, int(repeats.max(initial=0)) + 1):
        made += np.where(repeats >= number, fails**number, 0.0)
    return made


def by_last_attempt(outcome: Floats, fails: Floats, repeats: Floats) -> Floats:
    """What becomes of calls by their last attempt, of what becomes of one: outcome's axes are those of fails, kinds."""
    made = outcome * (fails**repeats)[..., None]
    tries = tries_of(fails, repeats)
    for kind in (SERVED, WORK):
        made[..., kind] = outcome[..., kind] * tries
    return made


def _combined(
    weights: Floats, pins: dict[int, Ints], others: Floats, other_pins: dict[int, Ints]
) -> tuple[Floats, dict[int, Ints]]:  # fmt: skip
    """Every class of the one with every class of the other, as independent; where both hold, the first does."""
    made = {cell: np.repeat(pin, len(others)) for cell, pin in pins.items()}
    for cell, pin in other_pins.items():
        tiled = np.tile(pin, len(weights))
        made[cell] = np.where(made[cell] >= 0, made[cell], tiled) if cell in made else tiled
    return np.outer(weights, others).ravel(), made
