"""Where requests are sent: those that a session binds, and those that are drawn."""

import numpy as np

from northgate.engine.balancing import put_busy_shares
from northgate.engine.base import (
    SERVED,
    WORK,
    Bools,
    Floats,
    Ints,
    cached,
    ints,
    where_true,
)
from northgate.engine.formulas import Queue
from northgate.engine.solver.context import Back, Sent, Stage
from northgate.engine.solver.passes.loops import find_holds, mix_bound, put_busy
from northgate.engine.solver.retries.holding import sessions_of_free
from northgate.engine.solver.unloaded import Unloaded
from northgate.engine.truth import ANSWERS, BARRED, REFUSES, SILENT


class Sending(Stage):
    """Where requests are first sent."""

    def mixed(self, share: Floats) -> Floats:
        """The shares of all requests: of those that a session binds, while the front sends them there, and of the
        others."""
        held, pairs = self.state.held, self.network.pairs
        if not self.repeats.pinned and (held is None or not len(held.sessions)):
            return share
        made = np.repeat(share, self.fates, axis=0) if len(share) == 1 else share.copy()
        fates, bound, keeps = self._of_sessions
        if len(fates):
            mix_bound(fates, bound, keeps, pairs.cell, pairs.member, self.unloaded.may_lead, np.empty(self.cells), made)
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
            calls = where_true(self.network.calls.client == kind.client)
            of_fate = {int(self.fate_of_call[call]): int(call) for call in calls}
            for fate in [fate for fate in of_fate if fate not in by_class]:
                fates.append(fate)
                bound.append(sessions_of_free(self.network, self.state, number, of_fate[fate]))
                keeping.append(keeps)
        return ints(fates), np.array(bound), np.array(keeping)

    def busy_shares(self, share: Floats, sent: Sent, queue: Queue, back: Back | None) -> Floats:
        """The shares that would follow from the load that these shares make; `back`: what becomes of it, where targets
        pass it on."""
        pairs, (answers, refuses, silent) = self.network.pairs, self.unloaded.derived(_met)
        hold, rps = np.empty(len(pairs.cell)), np.zeros(self.cells)
        find_holds(answers, silent, pairs.machine, queue.latency_s, pairs.connect_timeout_s, sent.cell, hold, rps)
        if back is not None:
            worked, served = back.pair[WORK].mean(axis=0), back.pair[SERVED].mean(axis=0)
            of_onward = np.divide(worked, served, out=np.zeros(len(hold)), where=served > 0)
            hold = np.where(self.frame.leads_on, of_onward, hold)
        of_busy, made = share[0].copy(), np.empty(share.shape)
        put_busy_shares(self.frame.busy_cells, self.choice.pair_weight, hold, refuses, silent, rps, of_busy)
        put_busy(self.frame.by_busy, of_busy, share, made)
        return made


def _met(unloaded: Unloaded) -> tuple[Bools, Bools, Bools]:
    """Per pair whether a target answers, refuses, or is silent, to whoever has no firewall between."""
    met = unloaded.state.encounter.met
    return met == ANSWERS, met == REFUSES, (met == SILENT) | (met == BARRED)
