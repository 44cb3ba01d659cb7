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


def test_in_a_stretch_so_short_that_one_flow_stands_for_it_latency_peaks_at_its_end():
    """A backlog of 2 s grows by 0.5 s, of which three of four served calls wait."""
    flow = SimpleNamespace(
        served=4.0, mean_latency_s=1.5, queue=SimpleNamespace(utilisation=np.array([1.5, 0.2])),
        state=SimpleNamespace(backlog_s=np.array([2.0, 0.0])), pair_served=np.array([3.0, 1.0]),
        network=SimpleNamespace(pairs=SimpleNamespace(machine=np.array([0, 1]))),
    )  # fmt: skip
    totals = Totals()
    totals.rise_through(flow, Stretch(1.0, ((flow, 1.0),), None), 1.0, np.array([2.5, 0.0]), None)
    ended = totals.ended(0, 0, 0, 0, 2, settled=True)
    assert (ended.peak_utilisation, ended.peak_latency_s) == (1.5, 1.5 + 0.5 * 3 / 4)
