"""Why calls fail."""

import numpy as np

from northgate.engine.base import (
    BAD_STATUS,
    BLOCKED,
    DEAD_FRONT,
    LATE,
    MECHANISMS,
    NONE_HEALTHY,
    OVERLOADED,
    REFUSED,
    RESET,
    SERVED,
    TIMED_OUT,
    Floats,
    Floats1,
    Floats2,
    compiled,
)
from northgate.engine.solver.totals.solved import Solved
from northgate.engine.solver.unloaded import Unloaded

# The places of mechanisms among all of them.
WAITING, DEAD, OLD_ANSWERS, OVERLOAD, NOBODY, BARRED, BY_RULE, IDLE = range(len(MECHANISMS))


def by_mechanism(solved: Solved, fails: Floats) -> Floats:
    """Failing calls per second by mechanism, in the order of `MECHANISMS`; `fails` per entry and kind."""
    state, made = solved.context.state, np.zeros(len(MECHANISMS))
    fresh = state.dns_share if state.fresh is None else state.fresh
    _add_mechanisms(solved.context.unloaded.derived(_whose), state.dns_share, fresh, fails, made)
    return made


@compiled
def _add_mechanisms(whose: Floats2, told: Floats1, fresh: Floats1, fails: Floats2, made: Floats1) -> None:
    """`whose` are the calls at an entry, (with a pool behind and without, entries), `told` the share of calls that set
    out for it, and `fresh` what that would be if nobody held old answers."""
    for entry in range(len(told)):
        met = fails[entry]
        old = max(told[entry] - fresh[entry], 0.0) / told[entry] if told[entry] > 0 else 0.0
        waits = met[REFUSED] + met[TIMED_OUT] - met[LATE] + met[BAD_STATUS]
        for place in range(2):
            kept = whose[place, entry] * (1 - old)
            made[WAITING if place == 0 else BY_RULE] += kept * waits
            made[OVERLOAD] += kept * (met[OVERLOADED] + met[LATE])
            made[DEAD] += kept * met[DEAD_FRONT]
            made[NOBODY] += kept * met[NONE_HEALTHY]
            made[BARRED] += kept * met[BLOCKED]
            made[IDLE] += kept * met[RESET]
            for cause in range(SERVED):
                made[OLD_ANSWERS] += whose[place, entry] * old * met[cause]


def _whose(unloaded: Unloaded) -> Floats:
    """Which entries are clients' with a pool behind, and which are clients' others, as 1 and 0: (2, entries). Who turns
    away from what a listener shows fails by that, whatever pool stands behind it."""
    of_client, pool = unloaded.frame.of_client, unloaded.network.entries.pool >= 0
    pool[unloaded.frame.entry[unloaded.state.encounter.row_turned]] = False
    return np.stack([of_client & pool, of_client & ~pool]).astype(np.float64)
