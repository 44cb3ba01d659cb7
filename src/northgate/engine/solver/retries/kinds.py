"""Outcomes by kind: round trips, bandwidth, repeats."""

import numpy as np

from northgate.engine.base import FAILS, OVERLOADED, SERVED, SPENT, UNMET, WORK, Floats
from northgate.engine.formulas import attempts, attempts_before


def with_trip(outcome: Floats, trip_s: float | Floats) -> None:
    """Counts one round trip to the time of what is answered; the last axis is the kinds'."""
    fails = outcome[..., FAILS].sum(axis=-1) - outcome[..., UNMET:].sum(axis=-1)
    outcome[..., WORK] += outcome[..., SERVED] * trip_s
    outcome[..., SPENT] += np.maximum(fails, 0.0) * trip_s


def capped(outcome: Floats, excess: float | Floats) -> None:
    """Takes from what is served the excess that the balancer's bandwidth does not let through."""
    outcome[..., OVERLOADED] += outcome[..., SERVED] * excess
    outcome[..., SPENT] += outcome[..., WORK] * excess
    outcome[..., SERVED] = outcome[..., SERVED] * (1 - excess)
    outcome[..., WORK] = outcome[..., WORK] * (1 - excess)


def by_last_attempt(outcome: Floats, fails: Floats, repeats: Floats) -> Floats:
    """What becomes of calls by their last attempt, of what becomes of one: outcome's axes are those of fails, kinds."""
    made = outcome * (fails**repeats)[..., None]
    tries = attempts(fails, repeats)
    made[..., SERVED] = outcome[..., SERVED] * tries
    lost_s = outcome[..., SPENT] * attempts_before(fails, repeats)
    made[..., WORK] = outcome[..., WORK] * tries + outcome[..., SERVED] * lost_s
    return made


def met_of(outcome: Floats) -> Floats:
    """What becomes of connects that are taken: the last axis is the kinds'."""
    made = outcome.copy()
    made[..., FAILS] -= outcome[..., UNMET:]
    made[..., UNMET:] = 0.0
    return made
