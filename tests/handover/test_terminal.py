"""The summary of a drill for a terminal."""

import pytest

from northgate.engine.reports.drill import drill_answer
from northgate.handover.terminal import WORST_ROWS, drill_summary, in_unit
from tests.support.plans import drill_of, fail, plan_data, restore


@pytest.mark.parametrize(
    ("reading", "value", "text"),
    [
        ("failed", 25990.2, "25,990"),
        ("failed_share", 0.010578, "1.06 %"),
        ("peak_utilisation", 1.5, "150.00 %"),
        ("worst_blind_s", 33.3333, "33.33 s"),
        ("peak_latency_ms", 74.63, "74.63 ms"),
        ("peak_targets", 43, "43"),
    ],
)
def test_readings_carry_their_units(reading, value, text):
    assert in_unit(reading, value) == text


def test_expectations_and_causes_are_told():
    expect = [{"reading": "failed", "at_most": 10}, {"reading": "requests", "at_least": 10, "at_most": 1e9}]
    text = drill_summary(drill_answer(drill_of(plan_data(), [fail(60, process="tiles-1")], expect=expect)))
    assert "held 1 of 2 expectations" in text
    assert "NOT HELD failed at most 10" in text
    assert "held     requests at least 10 and at most 1e+09" in text
    assert "refused" in text
    assert "timed_out" not in text, "causes of nothing are left out"


def test_the_longest_blind_times_stand_first_and_are_few():
    text = drill_summary(drill_answer(drill_of(plan_data(), [fail(60, zone="fells-1"), fail(60, zone="fells-2")])))
    rows = [line for line in text.splitlines() if "possible" in line]
    assert len(rows) <= WORST_ROWS
    seconds = [float(line.split(" s, possible")[0].split()[-1]) for line in rows]
    assert seconds == sorted(seconds, reverse=True)


def test_what_was_never_noticed_is_said_so():
    text = drill_summary(
        drill_answer(drill_of(plan_data(), [fail(60, instance="tiles-1"), restore(70, instance="tiles-1")]))
    )
    assert "10.00 s, possible 25 to 35 s, never noticed" in text


def test_a_drill_without_loss_is_short():
    text = drill_summary(drill_answer(drill_of(plan_data(), [])))
    assert "longest blind times" not in text
    assert "expectations" not in text


def test_what_nobody_asks_about_and_what_does_not_settle_is_said_so():
    lost = drill_of(plan_data(), [fail(60, page="/tiles", status=500)], lasts_s=100)
    text = drill_summary(drill_answer(lost))
    assert "40.00 s, unseen: no probe asks about it" in text
    assert "not settled" not in text
    data = plan_data()
    data["fleets"][0]["instance"] |= {"capacity_rps": 90, "queue_s": 5}
    full = drill_summary(drill_answer(drill_of(data, [], lasts_s=100)))
    assert "100.00 s, and not settled by its end" in full
