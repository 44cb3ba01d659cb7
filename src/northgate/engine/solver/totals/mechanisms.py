"""Why calls fail."""

import numpy as np

from northgate.engine.base import (
    BAD_STATUS,
    BLOCKED,
    DEAD_FRONT,
    LATE,
    NONE_HEALTHY,
    OVERLOADED,
    REFUSED,
    RESET,
    TIMED_OUT,
    Floats,
)
from northgate.engine.solver.totals.solved import Solved
from northgate.plan.models.drills import CAUSES


def by_mechanism(solved: Solved, fails: Floats) -> Floats:
    """Failing calls per second by mechanism, in the order of `MECHANISMS`; `fails` per entry and kind."""
    entries, dns_share = solved.context.network.entries, solved.context.state.dns_share
    fresh = dns_share if solved.context.state.fresh is None else solved.context.state.fresh
    old = np.divide(np.clip(dns_share - fresh, 0, None), dns_share, out=np.zeros_like(dns_share), where=dns_share > 0)
    mine = np.flatnonzero(solved.context.unloaded.frame.of_client)
    fails, old, pool = fails[mine], old[mine], entries.pool[mine] >= 0
    of_old = fails[:, : len(CAUSES)].sum(axis=1) * old
    kept = fails * (1 - old)[:, None]
    # Who turns away from what a listener shows fails by that, whatever pool stands behind it.
    encounter, rows = solved.context.state.encounter, solved.context.unloaded.frame.entry
    turned = np.zeros(len(dns_share), dtype=bool)
    turned[rows[encounter.row_turned]] = True
    pool &= ~turned[mine]
    waits = kept[:, REFUSED] + kept[:, TIMED_OUT] - kept[:, LATE] + kept[:, BAD_STATUS]
    return np.array(
        [
            waits[pool].sum(),
            kept[:, DEAD_FRONT].sum(),
            of_old.sum(),
            (kept[:, OVERLOADED] + kept[:, LATE]).sum(),
            kept[:, NONE_HEALTHY].sum(),
            kept[:, BLOCKED].sum(),
            waits[~pool].sum(),
            kept[:, RESET].sum(),
        ]
    )
