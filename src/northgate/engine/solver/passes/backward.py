"""One pass, back: what becomes of requests, as shares of what is sent.

From the deepest level of balancers up."""

import numpy as np

from northgate.engine.base import (
    BAD_STATUS,
    DEAD_FRONT,
    KINDS,
    LATE,
    OVERLOADED,
    QUIET,
    SERVED,
    SPENT,
    TIMED_OUT,
    UNMET,
    WORK,
    Bools,
    Floats,
    Ints,
    sum_columns,
    sum_rows,
    total_by,
)
from northgate.engine.formulas import Queue, overload
from northgate.engine.solver.context import Back, Context, Sent, Stage, Stop
from northgate.engine.solver.passes.anyway import at_pairs, at_rows
from northgate.engine.solver.passes.waits import Waits
from northgate.engine.solver.retries.kinds import capped, with_trip


class Backward(Stage):
    """What becomes of requests, from the deepest level up."""

    def __init__(self, context: Context) -> None:
        super().__init__(context)
        # Per front: the share of its answers that its balancer's bandwidth does not let through.
        self.over = np.zeros(len(self.network.fronts.zone))
        # Per balancer: what it would answer, as a part of what its bandwidth lets through.
        self.bandwidth_used = np.zeros(len(self.network.balancers.layer))
        self.waits = Waits(context)

    def run(
        self, share: Floats, drawn: Floats, sent: Sent, queue: Queue, stops: list[Stop], waits: int = 0
    ) -> Back:  # fmt: skip
        """What becomes of requests, from the deepest level up, of those that `waits` connects before took their
        time-out."""
        pair = self._at_machines(queue, waits)
        self.waits.follow(queue, pair, waits)
        for stop in stops:
            self.waits.after_others(pair, queue, stop, waits)
        back = self._to_rows(share, drawn, pair, sent, waits)
        for level in range(self.network.balancers.levels - 1 if len(self.frame.inner) else 0):
            self._take_back(pair, back, self.frame.onward, waits, level)
            back = self._to_rows(share, drawn, pair, sent, waits)
        return back

    def _find_excess(self, row: Floats, sent: Sent, pair: dict[int, Floats]) -> None:
        """Answers beyond a balancer's bandwidth are lost: the excess share 1 - 1/u of what would be served."""
        limit = self.network.balancers.bandwidth_mbps
        if not np.isfinite(limit).any():
            return
        balancer = self.network.fronts.balancer
        megabits = self.network.calls.megabits
        served = row[:, SERVED] * sent.row * megabits[self.frame.call]
        if self.connected.any:
            served = served + self.connected.served_by_row(pair) * megabits[self.frame.call]
        demand = total_by(balancer[self.frame.front], served, len(limit))
        self.bandwidth_used = demand / limit
        over = overload(self.bandwidth_used)[1]
        self.over = self.repeats.classes.over = self.connected.over = over[balancer]

    def _at_machines(self, queue: Queue, waits: int) -> dict[int, Floats]:
        """Per kind what becomes of a request of each fate at each pair; kinds that do not occur are left out."""
        machine, encounter, unloaded = self.network.pairs.machine, self.state.encounter, self.unloaded
        latency_s, excess, late = queue.latency_s[machine], queue.excess[machine], self.waits.late(queue, waits)
        made = {kind: met.copy() for kind, met in unloaded.derived(at_pairs).items()}
        taken = served = unloaded.answered.copy()
        if excess.any():
            taken = served = taken * (1 - excess)
            made[OVERLOADED] = unloaded.answered * excess
        spent_s = list[Floats]()
        if late.any():
            made[LATE] = np.where(late, taken, 0.0)
            made[TIMED_OUT] = made.get(TIMED_OUT, 0.0) + made[LATE]
            spent_s.append(made[LATE] * self._patience_s(waits))
            served = np.where(late, 0.0, taken)
        if encounter.bad_page.any():
            made[BAD_STATUS] = np.where(encounter.bad_page, served, 0.0)
            spent_s.append(made[BAD_STATUS] * latency_s)
            served = np.where(encounter.bad_page, 0.0, served)
        for more_s in spent_s:
            made[SPENT] = made.get(SPENT, 0.0) + more_s
        return made | {SERVED: served, WORK: served * latency_s}

    def _patience_s(self, waits: int) -> Floats:
        """How long an answer is waited for that comes too late, of those that have waited before; 0 where that is not
        known."""
        encounter = self.state.encounter
        patience_s = np.minimum(np.maximum(encounter.patience_s(waits), 0.0), encounter.response_s)
        return np.where(np.isfinite(patience_s), patience_s, 0.0)

    def _to_rows(self, share: Floats, drawn: Floats, pair: dict[int, Floats], sent: Sent, waits: int) -> Back:
        network, frame = self.network, self.frame
        cell = np.zeros((KINDS, self.fates, self.cells))
        row, fate = self.unloaded.derived(at_rows).copy(), self.unloaded.fate_of_row
        if self.routes:
            kinds = list(pair)
            values = (np.stack([pair[kind] for kind in kinds]) * share).reshape(len(kinds) * self.fates, -1)
            by_cell = sum_columns(network.pairs.cell, values, self.cells)
            by_route = sum_columns(
                network.weighted.route, by_cell[:, network.weighted.cell] * self.choice.weighted_share, self.routes
            )
            cell[kinds] = by_cell.reshape(len(kinds), self.fates, self.cells)
            of_row = by_route.reshape(len(kinds), self.fates, self.routes)[:, fate, frame.some_route]
            row[:, kinds] += np.where(self.unloaded.asks_pool, of_row, 0.0).T
        with_trip(row, frame.trip_s)
        if not waits:
            self._find_excess(row, sent, pair)
        capped(row, self.over[frame.front])
        entry = self._to_entries(row)
        return Back(pair, cell, row, entry, self.repeats.outcomes(entry, drawn, pair, row, self.waits.after_waits))

    def _to_entries(self, row: Floats) -> Floats:
        """What becomes of an entry's requests: at its fronts, or outside; without any front they meet a dead one."""
        entries, frame = self.network.entries, self.frame
        made = np.zeros((len(entries.call), KINDS))
        np.add.at(made, frame.entry, row * self.unloaded.row_part[:, None])
        made[frame.outside, SERVED] = 1.0
        made[frame.nowhere, entries.fixed_cause[frame.nowhere]] = 1.0
        stranded = self.unloaded.stranded
        made[stranded, SERVED] = 0.0
        made[stranded, DEAD_FRONT] = made[stranded, UNMET + DEAD_FRONT] = 1.0
        return made

    def _take_back(self, pair: dict[int, Floats], back: Back, onward: Ints, waits: int, level: int) -> None:
        """What becomes of requests that are passed on is what becomes of them at the next balancer."""
        network, entries = self.network, self.network.entries
        members = len(network.members.group)
        inner = self.frame.inner
        flat = self.fate_of_call[entries.call[inner]] * members + entries.member[inner]
        ends = back.entry[inner]
        occurs: Bools = np.asarray(ends.any(axis=0))
        occurs[[SERVED, WORK, SPENT, TIMED_OUT, LATE]] = True
        # Kinds that do not occur are left out, here too.
        kinds = np.flatnonzero(occurs)
        sums = sum_rows(flat, ends[:, kinds] * self.dns_share[inner][:, None], self.fates * members)
        met = np.zeros((KINDS, self.fates, members))
        met[kinds] = sums.T.reshape(len(kinds), self.fates, members)
        mean = np.divide(met[WORK], met[SERVED], out=np.zeros_like(met[WORK]), where=met[SERVED] > 0)
        member = network.pairs.member[onward]
        patience_s = self.state.encounter.patience_s(waits)[:, onward]
        late = self.waits.lateness.say((level, "onward", waits), mean[:, member] > patience_s)
        at_4 = network.fronts.layer[network.pairs.front[onward]] == 4
        # To a layer 7 balancer a failed connect is a failure like others, after its own time-out.
        quiet = np.sum([met[UNMET + cause] for cause in QUIET], axis=0)[:, member]
        met[SPENT][:, member] += np.where(at_4, 0.0, quiet * network.pairs.connect_timeout_s[onward])
        for kind in {*kinds.tolist(), *pair}:
            value = pair.setdefault(kind, np.zeros((self.fates, len(network.pairs.front))))
            value[:, onward] = np.where(at_4 | (kind < UNMET), met[kind][:, member], 0.0)
        for kind in (TIMED_OUT, LATE):
            pair[kind][:, onward] += np.where(late, pair[SERVED][:, onward], 0.0)
        for kind in (SERVED, WORK):
            pair[kind][:, onward] = np.where(late, 0.0, pair[kind][:, onward])
