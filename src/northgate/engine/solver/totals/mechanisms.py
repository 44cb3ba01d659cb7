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
from northgate.engine.solver.unloaded import Unloaded
from northgate.plan.models.drills import CAUSES


def by_mechanism(solved: Solved, fails: Floats) -> Floats:
    """Failing calls per second by mechanism, in the order of `MECHANISMS`; `fails` per entry and kind."""
    state, whose = solved.context.state, solved.context.unloaded.derived(_whose)
    # By kind, what fails of those who hold the answer of now, where a pool stands behind and elsewhere; of the others.
    of_old = np.zeros(fails.shape[1])
    if state.fresh is not None and not np.array_equal(state.fresh, state.dns_share):
        gone = np.maximum(state.dns_share - state.fresh, 0.0)
        old = np.divide(gone, state.dns_share, out=np.zeros_like(gone), where=state.dns_share > 0)
        of_old, whose = (old * whose.sum(axis=0)) @ fails, whose * (1 - old)
    at_pool, elsewhere = whose @ fails
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


def _whose(unloaded: Unloaded) -> Floats:
    """Which entries are clients' with a pool behind, and which are clients' others, as 1 and 0: (2, entries). Who turns
    away from what a listener shows fails by that, whatever pool stands behind it."""
    of_client, pool = unloaded.frame.of_client, unloaded.network.entries.pool >= 0
    pool[unloaded.frame.entry[unloaded.state.encounter.row_turned]] = False
    return np.stack([of_client & pool, of_client & ~pool]).astype(np.float64)
