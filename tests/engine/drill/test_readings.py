"""Readings: each field has a way to be read and a unit, and what a plan may expect is among them."""

from dataclasses import fields
from types import SimpleNamespace

import numpy as np
import pytest
from msgspec.structs import replace

from northgate.engine.drill.ahead.steps import Stretch
from northgate.engine.drill.readings import READINGS, Ended, Readings, Totals, readings_of
from northgate.plan.models.drills import EXPECTABLE
from northgate.plan.models.drills import READINGS as OF_PLANS

ENDED = Ended(
    requests=200.0, served=150.0, cross_zone=60.0, causes=[10.0, 0, 0, 0, 30.0, 0, 0, 10.0],
    mechanisms=[1.0, 2, 3, 4, 5, 6, 7, 22], peak_utilisation=1.5, peak_latency_s=0.25, sessions_moved=7.0,
    connections_reset=3.0, worst_blind_s=12.3456789012, settled_s=34.0, most_targets=9, settled=True,
)  # fmt: skip


def test_every_field_is_read_and_every_reading_is_a_field():
    assert READINGS.keys() == {field.name for field in fields(Readings)}


def test_whatever_a_plan_may_expect_is_a_reading():
    assert set(OF_PLANS) < READINGS.keys()
    for name in EXPECTABLE:
        assert isinstance(readings_of(ENDED).value(name), int | float)


def test_they_are_what_a_drill_came_to():
    read = readings_of(ENDED)
    assert read.failed == 50
    assert read.failed_share == pytest.approx(0.25)
    assert read.cross_zone_share == pytest.approx(0.4)
    assert read.peak_latency_ms == 250
    assert read.worst_blind_s == 12.345678901
    assert read.value("failed_by_cause.blocked") == 30
    assert sum(read.failed_by_mechanism.values()) == sum(read.failed_by_cause.values())


def test_of_nothing_no_share_is_taken():
    nothing = replace(ENDED, requests=0.0, served=0.0, causes=[0.0] * 8)
    assert readings_of(nothing).failed_share == readings_of(nothing).cross_zone_share == 0


def flow_of(latency_s):
    """Of four served calls a second three go to a machine with a backlog of 2 s."""
    return SimpleNamespace(
        served=4.0, mean_latency_s=latency_s, queue=SimpleNamespace(utilisation=np.array([1.5, 0.2])),
        state=SimpleNamespace(backlog_s=np.array([2.0, 0.0])), pair_served=np.array([3.0, 1.0]),
        network=SimpleNamespace(pairs=SimpleNamespace(machine=np.array([0, 1]))),
    )  # fmt: skip


@pytest.mark.parametrize("grows_s", [0.5, -0.5])
def test_what_stands_for_all_that_goes_evenly_is_told_with_the_backlogs_half_way(grows_s):
    """The flow on the mean was solved with the backlogs of the beginning; calls are slower there by 0.2 s already
    without what these grow by, or less slow where they shrink. At the end rates are led on to from there."""
    first, mean, led_from = flow_of(1.5), flow_of(1.7), []

    def end_of(_, rates, second):
        led_from.append((rates(mean)[0], rates(first)[0], second))
        return np.zeros(3)

    totals, half_way_s = Totals(), 1.7 + grows_s / 2 * 3 / 4
    backlogs_s = tuple(np.array([2 + grows_s * part, 0.0]) for part in (0.5, 1.0))
    stretch = Stretch(9.0, ((mean, 1.0),), None, evenly=True)
    totals.rise_through(first, stretch, 9.0, backlogs_s, end_of)
    assert totals.ended(0, 0, 0, 0, 2, settled=True).peak_latency_s == pytest.approx(max(1.5, half_way_s))
    assert led_from == [pytest.approx((half_way_s, 1.5, 9.0))]


def test_in_a_stretch_so_short_that_one_flow_stands_for_it_latency_peaks_at_its_end():
    """A backlog of 2 s grows by 0.5 s, of which three of four served calls wait."""
    flow, totals = flow_of(1.5), Totals()
    backlogs_s = np.array([2.25, 0.0]), np.array([2.5, 0.0])
    totals.rise_through(flow, Stretch(1.0, ((flow, 1.0),), None), 1.0, backlogs_s, None)
    ended = totals.ended(0, 0, 0, 0, 2, settled=True)
    assert (ended.peak_utilisation, ended.peak_latency_s) == (1.5, 1.5 + 0.5 * 3 / 4)
