"""Two plans side by side."""

import json

import pytest

from northgate.compare import compare
from northgate.engine.base import CannotRun
from northgate.plan import plan_from_data
from tests.cli.test_cli import northgate, write
from tests.review.plans import TODAY, but, whole, without
from tests.support.plans import changed, drill_of, plan_data

STEPS = [{"at_s": 60, "fail": {"zone": "fells-1"}}]


def test_the_same_drill_is_run_on_both():
    before = whole()
    after = but(("/probes/0/interval_s", 5))
    made = compare(plan_from_data(before), plan_from_data(after), TODAY)
    assert [(one.where, one.words, one.how) for one in made.differences] == [
        ("/probes/0", "probe ready: every 5 s, was 10 s", "in place")
    ]
    (drill,) = made.drills
    for side, data in (("a", before), ("b", after)):
        readings = drill_of(data, STEPS, phases="spread", lasts_s=900).readings
        assert getattr(drill.readings["failed"], side) == pytest.approx(readings.failed)
    assert drill.readings["failed"].b < drill.readings["failed"].a
    assert (drill.held.a, drill.held.b) == (True, True)
    assert (made.findings.gained, made.findings.lost) == ([], [])


def test_findings_and_cost_move():
    prices = {"platform": {"prices": {"instance_hour": 1}}}
    before, after = whole() | prices, but(("/fleets/0/count", 8), ("/names/0/ttl_s", 600)) | prices
    made = compare(plan_from_data(before), plan_from_data(after), TODAY)
    assert [one.code for one in made.findings.gained] == ["name-slow"]
    assert made.cost_month.b - made.cost_month.a == pytest.approx(4 * 730)
    back = compare(plan_from_data(after), plan_from_data(before), TODAY)
    assert [one.code for one in back.findings.lost] == ["name-slow"]


def test_what_cannot_be_run_on_one_is_said_of_that_one():
    broken = without("/probes/0")
    made = compare(plan_from_data(whole()), plan_from_data(broken), TODAY)
    (drill,) = made.drills
    assert drill.held.b is None
    assert drill.readings["failed"].b is None
    assert drill.readings["failed"].a > 0
    assert made.cost_month.b is None
    with pytest.raises(CannotRun):
        compare(plan_from_data(broken), plan_from_data(broken), TODAY)


def test_the_commands_have_the_contracted_keys_and_exit_like_diff(tmp_path):
    a, b = write(tmp_path, plan_data()), tmp_path / "b.plan.json"
    b.write_text(json.dumps(changed(plan_data(), "/probes/0/interval_s", 5)))
    document = json.loads(northgate("compare", a, b, "--json").stdout)
    assert set(document) == {"differences", "drills", "cost_month", "findings"}
    assert {"where", "words", "how"} == set(document["differences"][0])
    assert "every 5 s, was 10 s" in northgate("compare", a, b).stdout
    assert northgate("compare", a, b, "--drill", "los").returncode == 2
    told = northgate("diff", a, b)
    assert (told.returncode, told.stdout.strip()) == (1, "probe ready: every 5 s, was 10 s")
    assert json.loads(northgate("diff", a, b, "--json").stdout)["differences"][0]["where"] == "/probes/0"
    assert northgate("diff", a, a).returncode == 0
