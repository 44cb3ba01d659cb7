"""What becomes of requests whatever the load."""

import numpy as np
from msgspec import Struct

from northgate.engine.base import (
    BAD_STATUS,
    BLOCKED,
    DEAD_FRONT,
    KINDS,
    LATE,
    NONE_HEALTHY,
    OVERLOADED,
    REFUSED,
    SERVED,
    SPENT,
    TIMED_OUT,
    UNMET,
    WORK,
    Floats,
    Ints,
)
from northgate.engine.solver.unloaded import Unloaded

# The kinds of outcome that depend on load.
LOADED = (SERVED, WORK, OVERLOADED, LATE, TIMED_OUT, BAD_STATUS, SPENT)


class Anyway(Struct, frozen=True):
    """What becomes of requests at pairs whatever the load: the kinds that may occur, in order, the place of each kind
    among them (-1: none), and by place, fate and pair the values."""

    kinds: Ints
    place: Ints
    values: Floats


def anyway(unloaded: Unloaded) -> Anyway:
    """What becomes of requests at pairs whatever the load."""
    found, frame = _at_pairs(unloaded), unloaded.frame
    kinds = np.array(sorted({*found, *LOADED} if not len(frame.inner) else range(KINDS)))
    place = np.full(KINDS, -1)
    place[kinds] = np.arange(len(kinds))
    values = np.zeros((len(kinds), *unloaded.answers.shape))
    for kind, value in found.items():
        values[place[kind]] = value
    return Anyway(kinds, place, values)


def _at_pairs(unloaded: Unloaded) -> dict[int, Floats]:
    """What becomes of requests of each fate at each pair, by kind: (fates, pairs); kinds that do not occur are left
    out. At layer 4 a failed connect is one of the client's; elsewhere it takes the front's time-out."""
    pairs = unloaded.network.pairs
    at_4 = unloaded.network.fronts.layer[pairs.front] == 4
    quiet = {
        cause: met for cause, met in ((TIMED_OUT, unloaded.silent), (BLOCKED, unloaded.blocked)) if met is not None
    }
    made = quiet if unloaded.refuses is None else quiet | {REFUSED: unloaded.refuses}
    if at_4.any():
        made = made | {UNMET + cause: met * at_4 for cause, met in made.items()}
    if quiet:
        spent_s = np.sum([met * ~at_4 * pairs.connect_timeout_s for met in quiet.values()], axis=0)
        made = made | {SPENT: spent_s}
    return made


def at_rows(unloaded: Unloaded) -> Floats:
    """What becomes of requests by row of `Network.arrivals` and kind: a pool has nobody to send them to, the balancer
    answers itself, or nobody takes them."""
    frame, encounter = unloaded.frame, unloaded.state.encounter
    made = np.zeros((len(frame.entry), KINDS))
    if frame.routes:
        refused = np.where(frame.routed, unloaded.choice.route_refused[frame.some_route], 0.0)
        made[:, NONE_HEALTHY], made[:, UNMET + NONE_HEALTHY] = refused, refused * frame.at_4
    made[frame.fixed, np.where(frame.fixed_cause >= 0, frame.fixed_cause, SERVED)] = 1.0
    made[frame.unheard, UNMET + REFUSED] = 1.0
    turned_away = (frame.too_far & ~frame.routed, TIMED_OUT), (encounter.row_turned, REFUSED)
    for some, kind in turned_away:
        made[some] = 0.0
        made[some, kind] = 1.0
    for lost, kind in ((encounter.row_blocked, BLOCKED), (unloaded.dead, DEAD_FRONT)):
        made[lost] = 0.0
        made[lost, kind] = made[lost, UNMET + kind] = 1.0
    return made
