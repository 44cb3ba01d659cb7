"""Settings swept: each cell is the drill with these settings, at its price in probes and false alarms."""

import json

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from northgate.plan import PlanError, plan_from_data
from northgate.sweep import axis_of, false_alarms_per_day, pareto, settings_of, sweep
from tests.cli.test_cli import northgate, write
from tests.support.plans import changed, drill_of, fail, network_of, plan_data

STEPS = [fail(60, zone="fells-2")]


def drilled():
    return plan_data(drills=[{"name": "loss", "lasts_s": 200, "phases": "worst", "steps": STEPS}])


def test_every_cell_is_the_drill_with_its_settings():
    settings = ["probes/ready/interval_s=10..20/10", "probes/ready/unhealthy_after=2..3"]
    made = sweep(plan_from_data(drilled()), "loss", settings, "failed")
    assert [axis.values for axis in made.axes] == [[10, 20], [2, 3]]
    for i, interval_s in enumerate((10, 20)):
        for j, fails in enumerate((2, 3)):
            data = changed(changed(plan_data(), "/probes/0/interval_s", interval_s), "/probes/0/unhealthy_after", fails)
            run = drill_of(data, STEPS, lasts_s=200)
            assert made.values[i][j] == pytest.approx(run.readings.failed)
            # Three fronts ask six targets.
            assert made.probe_rps[i][j] == pytest.approx(18 / interval_s)
    assert made.front == [(1, 0), (0, 0)]
    one = sweep(plan_from_data(drilled()), "loss", settings[:1], "failed")
    assert [len(row) for row in one.values] == [1, 1]


def test_whom_another_drill_fails_need_not_be_there():
    data = drilled()
    data["drills"].append({"name": "last", "lasts_s": 60, "steps": [fail(10, instance="tiles-6")]})
    made = sweep(plan_from_data(data), "loss", ["fleets/tiles/count=5..6/1"], "failed")
    assert None not in [cell for row in made.values for cell in row]
    # The drill itself cannot be run without.
    gone = sweep(plan_from_data(data), "last", ["fleets/tiles/count=5..6/1"], "failed")
    assert [row[0] is None for row in gone.values] == [True, False]


@given(st.floats(0.01, 0.6), st.integers(1, 5))
def test_false_alarms_come_as_often_as_a_chain_of_failures_says(loss, fails):
    """Mean probes until n failures in a row, by the linear equations of a chain: E_k = 1 + p E_(k+1) + (1 - p) E_0."""
    data = changed(changed(plan_data(), "/probes/0/unhealthy_after", fails), "/probes/0/interval_s", 7)
    left = np.eye(fails)
    for k in range(fails):
        left[k, 0] -= 1 - loss
        if k + 1 < fails:
            left[k, k + 1] -= loss
    until = np.linalg.solve(left, np.ones(fails))[0]
    assert false_alarms_per_day(network_of(data), loss) == pytest.approx(18 * 86_400 / 7 / until, rel=1e-6)


def test_the_front_are_the_cells_that_nothing_beats():
    values = [[5.0, 3.0], [4.0, None], [6.0, 1.0]]
    probes = [[1.0, 2.0], [1.0, 0.0], [0.5, 4.0]]
    assert pareto(values, probes) == [(2, 0), (1, 0), (0, 1), (2, 1)]


@pytest.mark.parametrize(
    ("text", "told"),
    [
        ("probes/redy/interval_s=1..2", "did you mean 'ready'"),
        ("probes/ready/path=1..2", "is no number"),
        ("probes/ready/interval_s=5..1", "from low to high"),
        ("probes/ready/interval_s=1..2/0", "step above 0"),
        ("probes/ready/interval_s", "is not a setting such as"),
        ("probes/ready/interval_s=0..1e9", "is not a setting such as"),
        ("probes/ready/interval_s=0..1000000/0.001", "values are more than"),
    ],
)
def test_a_setting_that_is_none_is_refused(text, told):
    with pytest.raises(PlanError, match=told):
        axis_of(plan_from_data(drilled()), text)


def test_values_and_places():
    axis = axis_of(plan_from_data(drilled()), "balancers/front/listeners/https/port=1..2/0.5")
    assert (axis.values, axis.place, axis.now) == ([1, 1.5, 2], "/balancers/0/listeners/0/port", 443)


def test_every_number_of_a_plan_is_a_setting_that_a_sweep_takes():
    plan = plan_from_data(drilled())
    found = {one.path: one for one in settings_of(plan)}
    assert not any(path.startswith("drills/") for path in found)
    for one in found.values():
        axis = axis_of(plan, f"{one.path}={one.low:g}..{one.high:g}/{one.step:g}")
        assert axis.now == one.now
        # What it is now is one of the values.
        assert min(abs(value - one.now) for value in axis.values) < 1e-6 * max(one.now, 1)
        assert 2 <= len(axis.values) <= 10
    interval = found["probes/ready/interval_s"]
    assert (interval.now, interval.low, interval.high, interval.step) == (10, 6, 20, 2)


def test_the_command_has_the_contracted_keys(tmp_path):
    path = write(tmp_path, drilled())
    words = ("sweep", path, "--drill", "loss", "--set", "probes/ready/interval_s=10..20/10")
    document = json.loads(northgate(*words, "--json").stdout)
    assert {"axes", "values", "probe_rps", "false_alarms_per_day", "front"} <= set(document)
    assert "interval_s" in northgate(*words).stdout
    refused = northgate("sweep", path, "--drill", "los", "--set", "probes/ready/interval_s=1")
    assert (refused.returncode, "did you mean 'loss'?" in refused.stderr) == (2, True)
    assert northgate(*words, "--reading", "fail").returncode == 2
