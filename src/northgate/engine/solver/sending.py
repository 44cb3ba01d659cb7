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
)
from northgate.engine.formulas import LastStops, Queue, last_stops, last_stops_in_order
from northgate.engine.solver.context import Back, Sent, Stage, Stop
from northgate.engine.solver.retries.holding import sessions_of_free
from northgate.engine.truth import ANSWERS, BARRED, REFUSES, SILENT


class Sending(Stage):
    """Where requests are sent, and where they end that go on to other targets."""

    def mixed(self, share: Floats) -> Floats:
        """The shares of all requests: of those that a session binds, while the front believes its target in use, and
        of the others."""
        held, network, pinned = self.state.held, self.network, self.repeats.pinned
        if not pinned and (held is None or not len(held.sessions)):
            return share
        made = np.repeat(share, self.fates, axis=0) if len(share) == 1 else share.copy()
        for number, (fates, cells) in enumerate(self.of_sessions):
            for fate, call in fates.items():
                of_kind = sessions_of_free(network, self.state, number, call)
                for cell in cells:
                    mine = network.cells.pairs[int(cell)]
                    bound = of_kind[network.pairs.member[mine]] * self.state.in_use[mine]
                    free = max(1 - float(bound.sum()), 0.0)
                    made[fate, mine] = bound + free * made[fate, mine]
        self.repeats.mix(made)
        return made

    @cached
    def of_sessions(self) -> list[tuple[dict[int, int], Ints]]:
        """Per kind of session: the fates of its client's calls, each with one of them, and the cells that keep it;
        without those calls whose classes are followed."""
        network, by_class = self.network, {one.fate for one in self.repeats.pinned}
        if self.state.held is None:
            return []
        made = []
        for kind in network.kept.sessions:
            calls = np.flatnonzero(network.calls.client == kind.client)
            fates = {int(self.fate_of_call[call]): int(call) for call in calls}
            made.append(({fate: call for fate, call in fates.items() if fate not in by_class}, kind.cells))
        return made

    def trying(self, first: Floats, drawn: Floats, *, classes: bool = True) -> tuple[Floats, list[Stop]]:
        """Where requests end that go on to other targets when connects fail, given where they are first sent;
        `classes`: those that are held and repeated as their classes go, else like all that are drawn anew."""
        if not self.frame.with_others:
            return first, []
        ends, stops = np.repeat(first, self.fates, axis=0) if len(first) == 1 else first.copy(), []
        met = self.state.encounter.fate_met
        for cell, tries in self.frame.with_others:
            mine = self.network.cells.pairs[cell]
            bad = (met[:, mine] != ANSWERS) & ~self.frame.leads_on[mine]
            held = {one.fate: one for one in self.repeats.pinned if cell in one.spent} if classes else {}
            for followed, one in held.items():
                found = self.repeats.ends_at(one, cell, drawn[min(followed, len(drawn) - 1), mine])
                ends[followed, mine] = found.share
                stops.append(Stop(followed, mine, bad[followed], found))
            for fate in np.flatnonzero((ends[:, mine] * bad).sum(axis=1) > 0):
                if int(fate) in held:
                    continue
                silent = met[fate, mine] != REFUSES
                own = drawn[min(int(fate), len(drawn) - 1), mine]
                found = self._by_hash(cell, int(fate), bad[fate], silent, tries, ends[fate, mine], own)
                ends[fate, mine] = found.share
                stops.append(Stop(int(fate), mine, bad[fate], found))
        return ends, stops

    def _by_hash(
        self, cell: int, fate: int, bad: Bools, silent: Bools, tries: int, first: Floats, drawn: Floats
    ) -> LastStops:  # fmt: skip
        """Of a hash's keys each goes on in its own order; everybody else as they are drawn."""
        segment = self.network.segments[int(self.state.encounter.fate_segment[fate])]
        if cell not in self.network.cells.by_key or not len(segment.keys) or (first != drawn).any():
            return last_stops(first, drawn, bad, silent, tries)
        weight = self.choice.pair_weight[self.network.cells.pairs[cell]]
        return last_stops_in_order(self.unloaded.keys.orders(cell, segment, weight, tries), bad, silent)

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
