"""Layer 4 connections that are open: where the calls over them go, and what becomes of those.

A connection that is idle for longer than its balancer's time-out is closed. Whoever sends a request before he hears of
that, within one round trip, sends it in vain: it is reset, and repeated without a connection, if he repeats.

A call over an open connection asks no name and chooses no target: it meets the front and the target to which its
connection leads. Only calls of sources without one go through the fronts' choice; the share of them that is served
opens one.
"""

import math

import numpy as np
from msgspec import Struct

from northgate.engine.base import (
    BLOCKED,
    DEAD_FRONT,
    KINDS,
    RESET,
    SERVED,
    SPENT,
    UNMET,
    WORK,
    Bools,
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
    some,
    sum_columns,
    total_by,
    unit,
)
from northgate.engine.formulas import idle_ends, repeated
from northgate.engine.solver.retries.kinds import add_trip, cap
from northgate.engine.solver.state import State
from northgate.engine.solver.unloaded import Unloaded
from northgate.engine.truth import BARRED, SILENT


class Bound(Struct, frozen=True):
    """What becomes of the calls over open connections, in calls/s: per row of `Network.arrivals` and kind of outcome,
    the attempts per row, and what is served by kind of connection and pair."""

    row: Floats
    row_rps: Floats
    served: Floats


class OpenConnections:
    """The calls over open connections at one moment: `rps[k, p]` by kind and pair; `free` is per call the share of its
    sources that have none."""

    def __init__(self, unloaded: Unloaded, state: State) -> None:
        self.network, self.state, self.frame = unloaded.network, state, unloaded.frame
        self.kinds, ways = self.network.kept.connections, unloaded.open_ways
        self.calls, self.row, self.retries, self.trip_s = ways.calls, ways.row, ways.retries, ways.trip_s
        self.fate, self.dead, self.blocked = ways.fate, ways.dead, ways.blocked
        self.held = np.zeros(ways.trip_s.shape) if state.held is None else state.held.connections
        self.free, self.anew = np.ones(len(state.call_rps)), np.zeros(len(state.call_rps))
        self.over = np.zeros(len(self.network.fronts.zone))
        self.call_rps: Floats = state.call_rps[self.calls]
        self.rps = self.held * self.call_rps[:, None]
        # Whether any connection is open.
        self.any = some(self.rps)
        self.tries = np.ones(self.rps.shape)
        # Per kind and pair the share of calls that are sent into a connection just closed for being idle.
        self.reset = np.zeros(self.held.shape)
        if len(self.kinds):
            self.free[self.calls] = unit(1 - self.held.sum(axis=1))
            self.reset = self._reset()
            self.free[self.calls] -= self.reset.sum(axis=1)

    def _reset(self) -> Floats:
        """Of λ calls a second and source, δ of its connections being closed a second, δ / λ (1 - e^(-λ r)) are sent
        within the round trip r after one was; never more than there are calls without a connection."""
        made, (sources, ends, idle_s) = np.zeros(self.held.shape), self.network.kept.terms[1]
        rate, free = self.call_rps / sources, self.free[self.calls]
        _find_reset(self.held, rate, ends, idle_s, self.trip_s, self.dead, self.blocked, free, made)
        return made

    @cached
    def ends_at_first_failure(self) -> Bools:
        """Per kind and pair: nothing answers there, so that a connection ends with its first failed call."""
        met = self.state.encounter.fate_met[self.fate]
        return np.asarray(((met == SILENT) | (met == BARRED) | self.blocked) & ~self.dead)

    @property
    def coming(self) -> Floats:
        """Per kind and pair the attempts/s that come to the target; those through dead fronts do not."""
        made = np.zeros(self.rps.shape)
        _find_coming(self.rps, self.tries, self.dead, self.blocked, made)
        return made

    def arriving(self, fates: int) -> Floats:
        """Per fate and pair the attempts/s that come to the target."""
        made = np.zeros((fates, self.rps.shape[1]))
        np.add.at(made, self.fate, self.coming)
        return made

    def wanted(self, served: Floats) -> tuple[Floats, Floats]:
        """Per kind and pair how often a call is tried over its connection, again as long as that stands; and the share
        of calls under which a connection ends there, and which are repeated without one. `served` (fates, pairs): what
        of one attempt is; as in `ended`."""
        tries, lost = np.empty((2, *self.rps.shape))
        if not self.kinds:
            return tries, lost
        _find_tries(
            served, self.fate, self.dead, self.blocked, self.over, self.network.pairs.front, self.retries,
            self.ends_at_first_failure, tries, lost,
        )  # fmt: skip
        return tries, lost

    def ended_under_calls(self, lost: Floats) -> Floats:
        """Per kind and pair: the share of sources whose connection has ended under a call that they repeat without
        one, that of calls there being `lost`; those who were reset too."""
        made = np.zeros(self.held.shape)
        _find_ended_under(self.held, lost, self.reset, self.retries, made)
        return made

    def spent_before(self, served: Floats) -> Floats:
        """Per call the mean time that those have spent whose connection has ended under them (s): all the patience of
        the first attempt, or the round trip that it takes to be reset; `served` as in `wanted`."""
        spent, made = np.zeros(len(self.kinds)), np.zeros(len(self.free))
        _find_spent(
            self.held, self.wanted(served)[1], self.reset, self.retries, self.network.calls.timeout_s[self.calls],
            self.trip_s, spent,
        )  # fmt: skip
        made[self.calls] = spent
        return made

    def by_call(self, by_kind_pair: Floats) -> Floats:
        """Sums a value per kind of connection and pair by call."""
        made = np.zeros(len(self.free))
        _add_by_call(self.calls, by_kind_pair, made)
        return made

    def ended(self, kinds: Ints, values: Floats) -> Bound:
        """What becomes of the calls over connections, each counted by its last attempt there; `values` of these kinds
        what becomes of a request of each fate at each pair."""
        network, rows = self.network, len(self.network.arrivals.entry)
        made = Bound(np.zeros((rows, KINDS)), np.zeros(rows), np.empty_like(self.rps))
        _find_ended(
            kinds, values, self.fate, self.dead, self.blocked, self.over, network.pairs.front, self.trip_s,
            network.calls.timeout_s[self.calls], self.retries, self.ends_at_first_failure, self.rps, self.tries,
            self.reset * self.call_rps[:, None], self.row, np.empty(KINDS), made.row, made.row_rps,
            made.served,
        )  # fmt: skip
        return made

    def served_by_row(self, served: Floats) -> Floats:
        """What of the calls over connections would be served per row of `Network.arrivals` (calls/s), were no
        bandwidth to limit that; `served` as in `wanted`."""
        made = np.zeros(len(self.network.arrivals.entry))
        _find_served(
            served, self.fate, self.dead, self.blocked, self.retries, self.ends_at_first_failure, self.rps, self.row,
            made,
        )  # fmt: skip
        return made

    def by_weighted(self, by_kind_cell: Floats) -> Floats:
        """Sums a value per kind and cell over the weighted groups by which those connections go."""
        weighted_groups = np.array([kind.weighted_of_cell for kind in self.kinds], dtype=np.int64)
        used = weighted_groups >= 0
        return total_by(weighted_groups[used], by_kind_cell[used], len(self.network.weighted.cell))

    def by_cell(self, by_pair: Floats) -> Floats:
        """Sums a value per kind and pair over the cells."""
        return sum_columns(self.network.pairs.cell, by_pair, len(self.network.cells.front))


@compiled
def _find_reset(
    held: Floats2, rate: Floats1, ends: Floats1, idle_s: Floats1, trip_s: Floats2, dead: Bools2, blocked: Bools2,
    free: Floats1, made: Floats2,
) -> None:  # fmt: skip
    """`OpenConnections._reset`; `rate` (calls/s and source) and `free` by kind."""
    for kind in range(held.shape[0]):
        if rate[kind] <= 0:
            continue
        closed, whole = idle_ends(rate[kind], ends[kind], idle_s[kind]) / rate[kind], 0.0
        for pair in range(held.shape[1]):
            if not (dead[kind, pair] or blocked[kind, pair]):
                made[kind, pair] = held[kind, pair] * closed * -math.expm1(-rate[kind] * trip_s[kind, pair])
                whole += made[kind, pair]
        if whole > free[kind]:
            for pair in range(held.shape[1]):
                made[kind, pair] *= free[kind] / whole


@compiled
def _find_coming(rps: Floats2, tries: Floats2, dead: Bools2, blocked: Bools2, made: Floats2) -> None:
    """`OpenConnections.coming`."""
    for kind in range(rps.shape[0]):
        for pair in range(rps.shape[1]):
            if not (dead[kind, pair] or blocked[kind, pair]):
                made[kind, pair] = rps[kind, pair] * tries[kind, pair]


@compiled
def _find_ended_under(held: Floats2, lost: Floats2, reset: Floats2, retries: Floats1, made: Floats2) -> None:
    """`OpenConnections.ended_under_calls`."""
    for kind in range(held.shape[0]):
        for pair in range(held.shape[1]):
            made[kind, pair] = held[kind, pair] * lost[kind, pair] + (reset[kind, pair] if retries[kind] > 0 else 0.0)


@compiled
def _add_by_call(calls: Ints1, values: Floats2, made: Floats1) -> None:
    """`OpenConnections.by_call`."""
    for kind in range(values.shape[0]):
        for pair in range(values.shape[1]):
            made[calls[kind]] += values[kind, pair]


@part
def _served(kind: int, pair: int, served: Floats2, fate: Ints1, dead: Bools2, blocked: Bools2) -> float:
    """What of one attempt is served through a connection, whatever bandwidth lets through."""
    return 0.0 if dead[kind, pair] or blocked[kind, pair] else served[fate[kind], pair]


@compiled
def _find_tries(
    served: Floats2, fate: Ints1, dead: Bools2, blocked: Bools2, over: Floats1, front: Ints1, retries: Floats1,
    ends_at_once: Bools2, tries: Floats2, lost: Floats2,
) -> None:  # fmt: skip
    """`OpenConnections.wanted`."""
    for kind in range(tries.shape[0]):
        for pair in range(tries.shape[1]):
            through = _served(kind, pair, served, fate, dead, blocked) * (1 - over[front[pair]])
            fails = min(max(1 - through, 0.0), 1.0)
            tries[kind, pair] = repeated(fails, 0.0 if ends_at_once[kind, pair] else retries[kind])[0]
            lost[kind, pair] = fails if ends_at_once[kind, pair] and retries[kind] > 0 else 0.0


@compiled
def _find_served(
    served: Floats2, fate: Ints1, dead: Bools2, blocked: Bools2, retries: Floats1, ends_at_once: Bools2, rps: Floats2,
    row: Ints2, made: Floats1,
) -> None:  # fmt: skip
    """`OpenConnections.served_by_row`."""
    for kind in range(rps.shape[0]):
        for pair in range(rps.shape[1]):
            if not (ends_at_once[kind, pair] and retries[kind] > 0):
                through = _served(kind, pair, served, fate, dead, blocked)
                repeats = 0.0 if ends_at_once[kind, pair] else retries[kind]
                tries = repeated(min(max(1 - through, 0.0), 1.0), repeats)[0]
                made[max(row[kind, pair], 0)] += through * tries * rps[kind, pair]


@compiled
def _find_spent(
    held: Floats2, lost: Floats2, reset: Floats2, retries: Floats1, timeout_s: Floats1, trip_s: Floats2, spent: Floats1
) -> None:  # fmt: skip
    """`OpenConnections.spent_before`, by kind."""
    for kind in range(held.shape[0]):
        whole, total_s = 0.0, 0.0
        for pair in range(held.shape[1]):
            by_reset, under_calls = reset[kind, pair] if retries[kind] > 0 else 0.0, held[kind, pair] * lost[kind, pair]
            whole += under_calls + by_reset
            total_s += under_calls * timeout_s[kind] + by_reset * trip_s[kind, pair]
        spent[kind] = total_s / whole if whole > 0 else 0.0


@compiled
def _find_ended(
    kinds: Ints1, values: Floats3, fate: Ints1, dead: Bools2, blocked: Bools2, over: Floats1, front: Ints1,
    trip_s: Floats2, timeout_s: Floats1, retries: Floats1, ends_at_once: Bools2, rps: Floats2, tries: Floats2,
    reset_rps: Floats2, row: Ints2, met: Floats1, row_ends: Floats2, row_rps: Floats1, served: Floats2,
) -> None:  # fmt: skip
    """`OpenConnections.ended`; `met` (kinds,) is for work."""
    for kind in range(rps.shape[0]):
        for pair in range(rps.shape[1]):
            place = max(row[kind, pair], 0)
            row_rps[place] += rps[kind, pair] * tries[kind, pair] + reset_rps[kind, pair]
            if retries[kind] == 0:
                row_ends[place, RESET] += reset_rps[kind, pair]
            served[kind, pair] = 0.0
            repeats = 0.0 if ends_at_once[kind, pair] else retries[kind]
            # Who repeats without a connection that has ended at once is counted among those who have none.
            if rps[kind, pair] == 0 or (ends_at_once[kind, pair] and retries[kind] > 0):
                continue
            met[:] = 0.0
            if dead[kind, pair] or blocked[kind, pair]:
                met[DEAD_FRONT if dead[kind, pair] else BLOCKED] = 1.0
                met[SPENT] = timeout_s[kind]
            else:
                unheard = _find_attempt(kinds, values, fate[kind], pair, met)
                add_trip(met, trip_s[kind, pair])
                cap(met, over[front[pair]])
                # Nobody connects there, and so takes no next address: he waits until his patience is over.
                met[SPENT] = unheard * timeout_s[kind] if unheard > 0 else met[SPENT]
            often, before, left = repeated(min(max(1 - met[SERVED], 0.0), 1.0), repeats)
            worked = met[WORK] * often + met[SERVED] * met[SPENT] * before
            served[kind, pair] = met[SERVED] * often * rps[kind, pair]
            for one in range(KINDS):
                if one not in (SERVED, WORK):
                    row_ends[place, one] += met[one] * left * rps[kind, pair]
            row_ends[place, SERVED] += served[kind, pair]
            row_ends[place, WORK] += worked * rps[kind, pair]


@part
def _find_attempt(kinds: Ints1, values: Floats3, fate: int, pair: int, met: Floats1) -> float:
    """What becomes of one attempt over an open connection; and what of it nobody hears."""
    unheard = 0.0
    for number in range(len(kinds)):
        if kinds[number] < UNMET:
            met[kinds[number]] = values[number, fate, pair]
        else:
            unheard += values[number, fate, pair]
    return unheard
