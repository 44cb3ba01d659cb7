"""One pass, back: what becomes of requests, as shares of what is sent.

From the deepest level of balancers up."""

import numpy as np

from northgate.engine.base import (
    DEAD_FRONT,
    KINDS,
    LATE,
    QUIET,
    SERVED,
    SPENT,
    TIMED_OUT,
    UNMET,
    WORK,
    Bools,
    Floats,
    Ints,
    sum_rows,
    where_true,
)
from northgate.engine.formulas import Queue
from northgate.engine.solver.context import Back, Context, Sent, Stage, Stop
from northgate.engine.solver.passes.anyway import anyway, at_rows
from northgate.engine.solver.passes.loops import find_entries, find_excess, find_met, find_rows
from northgate.engine.solver.passes.waits import Waits


class Backward(Stage):
    """What becomes of requests, from the deepest level up."""

    def __init__(self, context: Context) -> None:
        super().__init__(context)
        # Per front: the share of its answers that its balancer's bandwidth does not let through.
        self.over = np.zeros(len(self.network.fronts.zone))
        # Per balancer: what it would answer, as a part of what its bandwidth lets through.
        self.bandwidth_used = np.zeros(len(self.network.balancers.layer))
        self.waits = Waits(context)
        self._nothing = np.zeros(len(self.frame.entry))

    def run(
        self, share: Floats, drawn: Floats, sent: Sent, queue: Queue, stops: list[Stop], waits: int = 0
    ) -> Back:  # fmt: skip
        """What becomes of requests, from the deepest level up, of those that `waits` connects before took their
        time-out."""
        values = self._at_machines(queue, waits)
        # By kind, the places where they are kept.
        pair = dict(zip(self._kinds.tolist(), values, strict=True))
        self.waits.follow(queue, values, waits)
        for stop in stops:
            self.waits.after_others(values, queue, stop, waits)
        back = self._to_rows(share, drawn, values, pair, sent, waits)
        for level in range(self.network.balancers.levels - 1 if len(self.frame.inner) else 0):
            self._take_back(pair, back, self.frame.onward, waits, level)
            back = self._to_rows(share, drawn, values, pair, sent, waits)
        return back

    def _find_excess(self, row: Floats, sent: Sent, pair: dict[int, Floats]) -> None:
        """Answers beyond a balancer's bandwidth are lost: the excess share 1 - 1/u of what would be served."""
        limit = self.network.balancers.bandwidth_mbps
        if not self.frame.limited:
            return
        fronts, frame, calls = self.network.fronts, self.frame, self.network.calls
        over_open = self.connected.served_by_row(pair[SERVED]) if self.connected.any else self._nothing
        self.bandwidth_used, over = np.zeros(len(limit)), np.empty(len(fronts.balancer))
        find_excess(
            row, sent.row, over_open, calls.megabits, frame.call, frame.front, fronts.balancer, limit,
            self.bandwidth_used, over,
        )  # fmt: skip
        self.over = self.connected.over = over
        if self.repeats.pinned:
            self.repeats.classes.over = self.over

    @property
    def _kinds(self) -> Ints:
        return self.unloaded.derived(anyway).kinds

    def _at_machines(self, queue: Queue, waits: int) -> Floats:
        """What becomes of a request of each fate at each pair: (kinds that may occur, fates, pairs)."""
        encounter, unloaded, known = self.state.encounter, self.unloaded, self.unloaded.derived(anyway)
        made = known.values.copy()
        find_met(
            known.place, self.network.pairs.machine, queue.latency_s, queue.excess, unloaded.answers,
            self.waits.late(queue, waits), encounter.bad_page, encounter.budget_s, encounter.connect_s,
            encounter.response_s, np.array([waits]), made,
        )  # fmt: skip
        return made

    def _to_rows(
        self, share: Floats, drawn: Floats, values: Floats, pair: dict[int, Floats], sent: Sent, waits: int
    ) -> Back:  # fmt: skip
        network, frame, unloaded = self.network, self.frame, self.unloaded
        kinds, weighted = self._kinds, network.weighted
        cell, row = np.zeros((KINDS, self.fates, self.cells)), unloaded.derived(at_rows).copy()
        by_route = np.empty((self.routes, self.fates, len(kinds)))
        find_rows(
            kinds, values, share, network.pairs.cell, weighted.cell, weighted.route, self.choice.weighted_share,
            unloaded.asks_pool, frame.some_route, unloaded.fate_of_row, frame.trip_s, by_route, cell, row,
        )  # fmt: skip
        if not waits:
            self._find_excess(row, sent, pair)
        entry = self._to_entries(row)
        book = self.repeats.outcomes(entry, drawn, kinds, values, row, self.waits.after_waits)
        return Back(pair, kinds, values, cell, row, entry, book)

    def _to_entries(self, row: Floats) -> Floats:
        """What becomes of an entry's requests: at its fronts, or outside; without any front they meet a dead one."""
        entries, frame = self.network.entries, self.frame
        made = np.zeros((len(entries.call), KINDS))
        find_entries(frame.entry, frame.front, self.unloaded.row_part, self.over, row, made)
        if len(frame.outside):
            made[frame.outside, SERVED] = 1.0
        if len(frame.nowhere):
            made[frame.nowhere, entries.fixed_cause[frame.nowhere]] = 1.0
        stranded = self.unloaded.stranded
        if len(stranded):
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
        kinds = where_true(occurs)
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
        for kind, value in pair.items():
            value[:, onward] = np.where(at_4 | (kind < UNMET), met[kind][:, member], 0.0)
        for kind in (TIMED_OUT, LATE):
            pair[kind][:, onward] += np.where(late, pair[SERVED][:, onward], 0.0)
        for kind in (SERVED, WORK):
            pair[kind][:, onward] = np.where(late, 0.0, pair[kind][:, onward])
