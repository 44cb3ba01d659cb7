"""Outcomes by kind: round trips, bandwidth, repeats."""

import numpy as np

from northgate.engine.base import FAILS, OVERLOADED, SERVED, SPENT, UNMET, WORK, Floats, Floats1, part


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


@part
def add_trip(met: Floats1, trip_s: float) -> None:
    """`with_trip` of one outcome."""
    fails = 0.0
    for cause in range(SERVED):
        fails += met[cause] - met[UNMET + cause]
    met[WORK] += met[SERVED] * trip_s
    met[SPENT] += max(fails, 0.0) * trip_s


@part
def cap(met: Floats1, excess: float) -> None:
    """`capped` of one outcome."""
    met[OVERLOADED] += met[SERVED] * excess
    met[SPENT] += met[WORK] * excess
    met[SERVED] *= 1 - excess
    met[WORK] *= 1 - excess
