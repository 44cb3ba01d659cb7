"""Outcomes by kind: round trips, bandwidth."""

from northgate.engine.base import OVERLOADED, SERVED, SPENT, UNMET, WORK, Floats1, part


@part
def add_trip(met: Floats1, trip_s: float) -> None:
    """Counts one round trip to the time of what is answered; `met` by kind."""
    fails = 0.0
    for cause in range(SERVED):
        fails += met[cause] - met[UNMET + cause]
    met[WORK] += met[SERVED] * trip_s
    met[SPENT] += max(fails, 0.0) * trip_s


@part
def cap(met: Floats1, excess: float) -> None:
    """Takes from what is served the excess that the balancer's bandwidth does not let through; `met` by kind."""
    met[OVERLOADED] += met[SERVED] * excess
    met[SPENT] += met[WORK] * excess
    met[SERVED] *= 1 - excess
    met[WORK] *= 1 - excess
