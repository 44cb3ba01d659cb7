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
    # Who turns away from what a listener shows fails by that, whatever pool stands behind it.
    encounter, rows = solved.context.state.encounter, solved.context.unloaded.frame.entry
    turned = np.zeros(len(dns_share), dtype=bool)
    turned[rows[encounter.row_turned]] = True
    pool &= ~turned[mine]
    # By kind, what fails of those who hold the answer of now, where a pool stands behind and elsewhere; of the others.
    kept = 1 - old
    at_pool, elsewhere, of_old = np.stack([kept * pool, kept * ~pool, old]) @ fails
    all_kept = at_pool + elsewhere
    waits_at_pool, waits_elsewhere = (
        one[REFUSED] + one[TIMED_OUT] - one[LATE] + one[BAD_STATUS] for one in (at_pool, elsewhere)
    )
    return np.array(
        [
            waits_at_pool,
            all_kept[DEAD_FRONT],
            of_old[: len(CAUSES)].sum(),
            all_kept[OVERLOADED] + all_kept[LATE],
            all_kept[NONE_HEALTHY],
            all_kept[BLOCKED],
            waits_elsewhere,
            all_kept[RESET],
        ]
    )
