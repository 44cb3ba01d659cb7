"""Two plans side by side."""

import json

import pytest

from northgate.compare import compare, compare_with_first, losses_moved
from northgate.engine.base import CannotRun
from northgate.engine.reports.losses import LossRow
from northgate.losses import single_losses
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
    assert "front_hour" in made.prices_missing
    assert "instance_hour" not in made.prices_missing
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


def test_losses_that_cost_otherwise_are_told_by_what_they_cost():
    before, after = ({"steady": 5.0, "gone": 7.0, "less": 9.0}, {"steady": 5.2, "new": 8.0, "less": 3.0, "free": 0.0})
    made = losses_moved(*([row(words, cost) for words, cost in some.items()] for some in (before, after)))
    assert [(one.words, one.a, one.b) for one in made.gained] == [("new", None, 8)]
    assert [(one.words, one.a, one.b) for one in made.lost] == [("gone", 7, None)]
    assert [(one.words, one.a, one.b) for one in made.changed] == [("less", 9, 3)]


def test_a_quicker_probe_makes_the_loss_of_a_process_cheaper_and_gains_none():
    before, after = (single_losses(plan_from_data(one)) for one in (whole(), but(("/probes/0/interval_s", 5))))
    made = losses_moved(before, after)
    processes = [one for one in made.changed if one.words.startswith("process of")]
    assert processes
    assert not made.gained
    assert all(one.b < one.a for one in processes)
    failed = {one.words: one.failed_requests for one in before}
    assert all(failed[one.words] == one.a for one in made.changed)
    back = losses_moved(after, before)
    assert [(one.a, one.b) for one in back.changed] == [(one.b, one.a) for one in made.changed]


def test_each_of_many_is_held_against_the_first(tmp_path):
    plans = [but(("/probes/0/interval_s", every)) for every in (10, 8, 5)]
    paths = [tmp_path / f"{place}.plan.json" for place in range(3)]
    for path, data in zip(paths, plans, strict=True):
        path.write_text(json.dumps(data))
    made = compare_with_first([plan_from_data(one) for one in plans], TODAY)
    assert made == [compare(plan_from_data(plans[0]), plan_from_data(one), TODAY) for one in plans[1:]]
    ran = northgate("compare", *paths, "--losses", "--json")
    assert ran.returncode == 0, ran.stderr
    document = json.loads(ran.stdout)
    assert document["plans"] == [str(one) for one in paths]
    assert [one["differences"][0]["words"] for one in document["with_first"]] == [
        "probe ready: every 8 s, was 10 s", "probe ready: every 5 s, was 10 s",
    ]  # fmt: skip
    assert all(one["losses"]["changed"] for one in document["with_first"])
    told = northgate("compare", *paths, "--losses").stdout.splitlines()
    failed = next(line for line in told if "failed  " in line).split()[2:]
    assert sorted(failed, key=number, reverse=True) == failed
    assert len(set(failed)) == 3
    assert "losses changed" in told
    assert "name two or more" in northgate("compare", paths[0]).stderr


def number(text):
    return float(text.replace(",", ""))


def row(words, failed):
    return LossRow.model_construct(words=words, of=[words], failed_requests=failed)


def test_the_commands_have_the_contracted_keys_and_exit_like_diff(tmp_path):
    a, b = write(tmp_path, plan_data()), tmp_path / "b.plan.json"
    b.write_text(json.dumps(changed(plan_data(), "/probes/0/interval_s", 5)))
    document = json.loads(northgate("compare", a, b, "--json").stdout)
    assert set(document) == {"differences", "drills", "cost_month", "prices_missing", "findings"}
    assert {"where", "words", "how"} == set(document["differences"][0])
    assert "every 5 s, was 10 s" in northgate("compare", a, b).stdout
    assert northgate("compare", a, b, "--drill", "los").returncode == 2
    told = northgate("diff", a, b)
    assert (told.returncode, told.stdout.strip()) == (1, "probe ready: every 5 s, was 10 s")
    assert json.loads(northgate("diff", a, b, "--json").stdout)["differences"][0]["where"] == "/probes/0"
    assert northgate("diff", a, a).returncode == 0
