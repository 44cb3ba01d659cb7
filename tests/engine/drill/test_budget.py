"""How much of a drill is computed unasked: told before it begins where that is sure, else when it has come so far."""

import pytest

from northgate.engine.base import CannotRun
from northgate.engine.drill import run_drill, script
from northgate.plan.models.drills import Drill
from tests.cli.test_cli import northgate, write
from tests.support.plans import fail, network_of, plan_data

SURGES = [{"at_s": float(n), "surge": {"clients": "walkers", "factor": 1 + n % 2}} for n in range(40)]


def with_scale(every_s):
    data = plan_data()
    data["fleets"][0]["scale"] = {"min": 1, "max": 9, "target_utilisation": 0.5, "every_s": every_s}
    return data


@pytest.mark.parametrize(
    ("data", "steps", "where", "most"),
    [
        (plan_data(), SURGES, "/drills/0/steps", "40 of them steps"),
        (with_scale(2), [], "/fleets/0/scale/every_s", "50 of them decisions"),
        (
            plan_data(clients=[plan_data()["clients"][0] | {"profile": [[n, 1] for n in range(60)]}]), [],
            "/clients/0/profile", "60 of them changes of its rate",
        ),
    ],
)  # fmt: skip
def test_what_is_sure_to_be_too_much_is_told_before_it_begins(monkeypatch, data, steps, where, most):
    monkeypatch.setattr(script, "MOST_EVENTS", 30)
    drill = Drill.model_validate({"name": "any", "lasts_s": 100, "steps": steps})
    looked = []
    with pytest.raises(CannotRun) as caught:
        run_drill(network_of(data), drill, lambda: looked.append(1))
    (problem,) = caught.value.problems
    assert problem.where == where
    assert most in problem.message
    assert "30 are computed unless `northgate drill --anyway` asks for more" in problem.message
    assert looked == []
    assert run_drill(network_of(data), drill, anyway=True).readings.requests > 0


def test_what_turns_out_to_be_too_much_is_stopped_where_it_is(monkeypatch):
    """Three times a zone is lost and comes back: verdicts of spread probes, one by one."""
    steps = [
        step for n in range(3)
        for step in (fail(10 + 60 * n, zone="fells-1"), {"at_s": 50 + 60 * n, "restore": {"zone": "fells-1"}})
    ]  # fmt: skip
    drill = Drill.model_validate({"name": "any", "lasts_s": 300, "steps": steps})
    whole = []
    expected = run_drill(network_of(plan_data()), drill, lambda: whole.append(1))
    monkeypatch.setattr(script, "MOST_EVENTS", len(whole) // 2)
    with pytest.raises(CannotRun, match=r"events have come by second \d+.* of 300") as caught:
        run_drill(network_of(plan_data()), drill)
    assert len(caught.value.problems) == 1
    assert run_drill(network_of(plan_data()), drill, anyway=True).readings == expected.readings
    monkeypatch.setattr(script, "MOST_EVENTS", len(whole))
    assert run_drill(network_of(plan_data()), drill).readings == expected.readings


def test_the_command_goes_on_anyway(monkeypatch, tmp_path):
    monkeypatch.setattr(script, "MOST_EVENTS", 30)
    path = write(tmp_path, plan_data(drills=[{"name": "any", "lasts_s": 100, "steps": SURGES}]))
    refused = northgate("drill", path)
    assert refused.returncode == 2
    assert "/drills/0/steps" in refused.stderr
    assert northgate("drill", path, "--anyway").returncode == 0


@pytest.mark.parametrize(("pointer", "value"), [("interval_s", 1e-9), ("timeout_s", 0)])
def test_seconds_in_which_nothing_is_set_are_refused(tmp_path, pointer, value):
    data = plan_data()
    data["probes"][0][pointer] = value
    told = northgate("drill", write(tmp_path, data)).stderr
    assert f"/probes/0/{pointer}" in told
    assert "0.001" in told
