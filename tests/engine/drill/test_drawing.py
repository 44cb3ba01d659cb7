"""What is drawn between events."""

from types import SimpleNamespace

import numpy as np
import pytest

from northgate.engine.drill.drawing import _on_the_line

ONE = np.array([1.0])


@pytest.mark.parametrize("mean_s", [1.0, 1.25])
def test_latency_on_a_line_waits_for_the_backlog_of_its_second(mean_s):
    """Requests take 40 ms at first, and 50 half-way: 60 at the end. A backlog grows meanwhile from 1 s to 1.5 s, if
    the flow half-way knows of it and if it does not."""
    first = SimpleNamespace(
        latency_s=0.04, zone_served=100 * ONE, cause_rps=ONE, mechanism_rps=ONE, utilisation=1.2 * ONE,
        state=SimpleNamespace(backlog_s=ONE),
    )  # fmt: skip
    mean = SimpleNamespace(
        zone_served=100 * ONE, cause_rps=2 * ONE, mechanism_rps=2 * ONE, queue=SimpleNamespace(utilisation=1.2 * ONE),
        latency_sum=100 * (0.05 + mean_s - 1), mean_latency_s=0.05 + mean_s - 1, served=100.0, pair_served=100 * ONE,
        state=SimpleNamespace(backlog_s=mean_s * ONE), network=SimpleNamespace(pairs=SimpleNamespace(machine=[0])),
    )  # fmt: skip
    for part, later_s, latency_s in ((0, 1, 0.04), (1, 1.25, 0.05 + 0.25), (2, 1.5, 0.06 + 0.5)):
        ends = _on_the_line(first, mean, part, np.zeros(1), later_s * ONE)
        assert ends.latency_s == pytest.approx(latency_s)
        assert ends.cause_rps == pytest.approx(1 + part)
