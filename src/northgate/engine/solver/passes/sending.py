"""Where requests are sent: those that a session binds, those that are drawn, and those that go on to other targets."""

import numpy as np

from northgate.engine.balancing import busy_shares
from northgate.engine.base import (
    SERVED,
    WORK,
    Bools,
    Floats,
    Ints,
    cached,
    ints,
    sum_columns,
)
from northgate.engine.formulas import LastStops, Queue, last_stops, last_stops_in_order, last_stops_of_two
from northgate.engine.solver.context import Back, Sent, Stage, Stop, together
from northgate.engine.solver.passes.loops import mix_bound
from northgate.engine.solver.retries.holding import sessions_of_free
from northgate.engine.truth import ANSWERS, BARRED, REFUSES, SILENT


class Sending(Stage):
    """Where requests are sent, and where they end that go on to other targets."""

    def mixed(self, share: Floats) -> Floats:
        """The shares of all requests: of those that a session binds, while the front believes its target in use, and
        of the others."""
        held, pairs = self.state.held, self.network.pairs
        if not self.repeats.pinned and (held is None or not len(held.sessions)):
            return share
        made = np.repeat(share, self.fates, axis=0) if len(share) == 1 else share.copy()
        fates, bound, keeps = self._of_sessions
        if len(fates):
            mix_bound(fates, bound, keeps, pairs.cell, pairs.member, self.state.in_use, np.empty(self.cells), made)
        self.repeats.mix(made)
        return made

    @cached
    def _of_sessions(self) -> tuple[Ints, Floats, Bools]:
        """Of the calls of the clients of each kind of session, one of each fate, without those whose classes are
        followed: its fate, whom the session binds to each member (calls, members), and which cells keep it (calls,
        cells)."""
        kept, by_class = self.network.kept, {one.fate for one in self.repeats.pinned}
        fates, bound, keeping = list[int](), list[Floats](), list[Bools]()
        kinds = zip(kept.sessions, self.frame.keeps, strict=True) if self.state.held is not None else ()
        for number, (kind, keeps) in enumerate(kinds):
            calls = np.flatnonzero(self.network.calls.client == kind.client)
            of_fate = {int(self.fate_of_call[call]): int(call) for call in calls}
            for fate in [fate for fate in of_fate if fate not in by_class]:
                fates.append(fate)
                bound.append(sessions_of_free(self.network, self.state, number, of_fate[fate]))
                keeping.append(keeps)
        return ints(fates), np.array(bound), np.array(keeping)

    def trying(self, first: Floats, drawn: Floats, *, classes: bool = True) -> tuple[Floats, list[Stop]]:
        """Where requests end that go on to other targets when connects fail, given where they are first sent;
        `classes`: those that are held and repeated as their classes go, else like all that are drawn anew."""
        if not self.frame.with_others:
            return first, []
        ends = np.repeat(first, self.fates, axis=0) if len(first) == 1 else first.copy()
        by_class = self._by_class if classes else frozenset()
        stops = self._to_one_more(ends, drawn, classes=classes)
        for cell, tries in self._more:
            mine = self.network.cells.pairs[cell]
            bad = self._bad.take(mine, axis=1)
            for fate in np.flatnonzero((ends[:, mine] * bad).any(axis=1)).tolist():
                if (fate, cell) not in by_class:
                    silent, own = self.state.encounter.fate_met[fate, mine] != REFUSES, drawn[self._row(drawn, fate)]
                    found = self._by_hash(cell, fate, bad[fate], silent, tries, ends[fate, mine], own[mine])
                    ends[fate, mine] = found.share
                    at = np.flatnonzero(~bad[fate] & (found.share > 0))
                    stops.append(Stop(np.full(len(at), fate), mine[at], found.share[at], found.waited.take(at, axis=1)))
        if by_class:
            stops.append(self._of_classes(ends, drawn))
        return ends, together(stops)

    def _of_classes(self, ends: Floats, drawn: Floats) -> Stop:
        """Puts into `ends` where the requests of classes end that are followed."""
        fate, pair, share, waited = self.repeats.ends(drawn)
        ends[fate, pair] = share
        some = np.flatnonzero(~self._bad[fate, pair] & (share > 0))
        return Stop(fate[some], pair[some], share[some], waited.take(some, axis=1))

    @staticmethod
    def _row(shares: Floats, fate: int) -> int:
        return min(fate, len(shares) - 1)

    @cached
    def _more(self) -> list[tuple[int, int]]:
        """The cells that go on to more than one other, or by key, and to how many."""
        one_more = set(self.frame.one_more)
        return [(cell, tries) for cell, tries in self.frame.with_others if cell not in one_more]

    @cached
    def _bad(self) -> Bools:
        """Per fate and pair: whether a connect fails there, so that its request may go on to others."""
        return np.asarray((self.state.encounter.fate_met != ANSWERS) & ~self.frame.leads_on)

    @cached
    def _by_class(self) -> frozenset[tuple[int, int]]:
        """The fates and cells at which calls go on to others that are followed by class."""
        return frozenset((one.fate, cell) for one in self.repeats.pinned for cell in one.spent)

    @cached
    def _bad_one_more(self) -> Bools:
        """As `_bad`, at the pairs of cells that go on to one other at most; without those followed by class."""
        mine = self.frame.one_more_pairs
        bad, cell = self._bad[:, mine], self.network.pairs.cell[mine]
        for fate, of_class in self._by_class:
            bad[fate, cell == of_class] = False
        return bad

    def _to_one_more(self, ends: Floats, drawn: Floats, *, classes: bool) -> list[Stop]:
        """Puts into `ends` where requests end that go on to one other at most; `classes`: without those followed by
        class."""
        mine, group, groups = self.frame.one_more_pairs, self.frame.one_more_group, len(self.frame.one_more)
        first, bad = ends[:, mine], self._bad_one_more if classes else self._bad[:, mine]
        goes_on = sum_columns(group, np.where(bad, first, 0.0), groups)[:, group] > 0
        if not goes_on.any():
            return []
        silent = self.state.encounter.fate_met[:, mine] != REFUSES
        found = last_stops_of_two(first, np.broadcast_to(drawn[:, mine], first.shape), bad, silent, group, groups)
        ends[:, mine] = np.where(goes_on, found.share, first)
        fate, place = np.nonzero(goes_on & ~bad & (found.share > 0))
        return [Stop(fate, mine[place], found.share[fate, place], found.waited[:, fate, place])]

    def _by_hash(
        self, cell: int, fate: int, bad: Bools, silent: Bools, tries: int, first: Floats, drawn: Floats
    ) -> LastStops:  # fmt: skip
        """Of a hash's keys each goes on in its own order; everybody else as they are drawn."""
        segment = self.network.segments[int(self.state.encounter.fate_segment[fate])]
        if cell not in self.network.cells.by_key or not len(segment.keys) or (first != drawn).any():
            return last_stops(first, drawn, bad, silent, tries)
        known = self.unloaded.stops_in_order
        if (fate, cell) not in known:
            weight = self.choice.pair_weight[self.network.cells.pairs[cell]]
            orders = self.unloaded.keys.orders(cell, segment, weight, tries)
            known[fate, cell] = last_stops_in_order(orders, bad, silent)
        return known[fate, cell]

    def busy_shares(self, share: Floats, sent: Sent, queue: Queue, back: Back | None) -> Floats:
        """The shares that would follow from the load that these shares make; `back`: what becomes of it, where targets
        pass it on."""
        network, met = self.network, self.state.encounter.met
        silent = (met == SILENT) | (met == BARRED)
        hold = np.where(met == ANSWERS, queue.latency_s[network.pairs.machine], 0.0)
        hold = np.where(silent, network.pairs.connect_timeout_s, hold)
        onward = self.frame.leads_on
        if back is not None:
            worked, served = back.pair[WORK].mean(axis=0), back.pair[SERVED].mean(axis=0)
            hold = np.where(onward, np.divide(worked, served, out=np.zeros_like(hold), where=served > 0), hold)
        made = busy_shares(
            network, self.choice.pair_weight, hold, met == REFUSES, silent, sent.cell.sum(axis=0), share[0]
        )
        return np.where(self.frame.by_busy, made[None, :], share)
