"""A review as a whole: order, reasons, what has been looked at; on paper and for machines."""

import json
import re
import subprocess
import sys
from pathlib import Path

import jsonschema
from hypothesis import given, settings
from hypothesis import strategies as st

from northgate.engine.drill import Losing
from northgate.engine.reports.losses import alike, loss_row
from northgate.handover.review import review_as_markdown, review_as_sarif, review_summary
from northgate.plan import plan_from_data, read_plan
from northgate.plan.editing import patched
from northgate.plan.reading import read_with_places
from northgate.review import RULES, SEVERITIES, review
from northgate.review.documented import document
from tests.cli.test_cli import northgate, write
from tests.plan.test_reading import EXAMPLE
from tests.review.plans import TODAY, but, found, whole, without
from tests.simulation.random_plans import random_plan
from tests.support.exploring import examples
from tests.support.plans import network_of
from tests.support.strategies import plans_with_a_drill

SARIF = json.loads((Path(__file__).parents[1] / "support" / "sarif-2.1.0.json").read_text())
TRIAL = {"code": "one-fault-domain", "about": "tiles-next", "because": "a trial | of two"}


def reviewed(data):
    return review(plan_from_data(data), TODAY)


def test_the_worst_comes_first_and_what_is_left_as_it_is_last():
    data = but(("/fleets/0/instance/maintenance_wave", 1), ("/probes/0/interval_s", 60), ("/names/0/ttl_s", 600))
    data["drills"] = []
    data["target_groups"][0]["port"] = 9000
    answer = reviewed(
        data | {"accepted": [{"code": "name-slow", "about": data["names"][0]["name"], "because": "rare"}]}
    )
    order = [SEVERITIES.index(one.severity) for one in answer.findings if one.because is None]
    assert order == sorted(order)
    assert set(order) == {0, 1, 2}
    assert answer.findings[-1].code == "name-slow"
    assert answer.findings[-1].because == "rare"
    assert answer.counts == {name: order.count(number) for number, name in enumerate(SEVERITIES)}
    assert answer.looked_at == ["plan", "flow"]


def test_a_plan_that_cannot_be_run_is_reviewed_as_far_as_it_goes():
    answer = reviewed(without("/probes/0"))
    assert not answer.runs
    assert answer.looked_at == ["plan"]
    assert {one.code for one in answer.findings} >= {"dangling-reference"}
    assert answer.findings[0].where == "/target_groups/0/probe"
    assert answer.findings[0].about == "tiles"


def test_an_empty_plan_is_reviewed():
    assert [one.code for one in found({"northgate": 1, "name": "empty"})] == ["nothing-rehearsed"]


def test_what_a_senior_engineer_would_say_of_the_demo():
    """The region that cannot take over, its front that lacks a port, the trial on one rack; and no false alarm about
    zones, probes or firewalls."""
    plan = read_plan(EXAMPLE)
    network = network_of(plan.model_dump(mode="json", by_alias=True))
    losing = Losing(network)
    rows = [loss_row(losing, [one]) for one in alike(network) if one.kind in ("zone", "region", "fault_domain")]
    answer = review(plan, TODAY, rows)
    assert {(one.code, one.about) for one in answer.findings} == {
        ("cascade", "fells"), ("standby-small", "www.beckwater.example"), ("standby-deaf", "coast-front"),
        ("one-fault-domain", "tiles-next"), ("otherwise-no-fallback", "api"), ("last-region", "coast"),
    }  # fmt: skip
    assert answer.counts == {"stops": 0, "risks": 4, "advice": 2}


def test_sarif_is_sarif_and_points_into_the_text(tmp_path):
    plan, place = read_with_places(EXAMPLE)
    plan = plan.model_copy(update={"accepted": plan_from_data(whole() | {"accepted": [TRIAL]}).accepted})
    answer = review(plan, TODAY)
    sarif = review_as_sarif(answer, "beckwater.plan.yaml", place)
    jsonschema.Draft4Validator(SARIF).validate(sarif)
    run = sarif["runs"][0]
    assert [one["id"] for one in run["tool"]["driver"]["rules"]] == list(RULES)
    by_code = {one["ruleId"]: one for one in run["results"]}
    region = by_code["standby-deaf"]["locations"][0]["physicalLocation"]["region"]
    lines = EXAMPLE.read_text().splitlines()
    assert "listeners:" in lines[region["startLine"] - 1]
    assert "coast-front" in "".join(lines[region["startLine"] - 6 : region["startLine"]])
    assert by_code["one-fault-domain"]["suppressions"][0]["justification"] == TRIAL["because"]
    assert "suppressions" not in by_code["standby-deaf"]
    for one in run["results"]:
        assert run["tool"]["driver"]["rules"][one["ruleIndex"]]["id"] == one["ruleId"]


def test_a_table_for_a_pull_request_survives_what_is_in_it():
    data = but(("/probes/0/expect", ["204"])) | {"accepted": [{**TRIAL, "code": "probe-path", "about": "ready"}]}
    text = review_as_markdown("whole", reviewed(data))
    rows = [line for line in text.splitlines() if line.startswith("|")]
    assert len(rows) > 3
    assert {line.replace("\\|", "").count("|") for line in rows} == {5}
    assert "- `probe-path` of ready, because a trial | of two" in text


def test_the_terminal_says_where_and_what_to_do():
    plan, place = read_with_places(EXAMPLE)
    text = review_summary(review(plan, TODAY), "beckwater.plan.yaml", place)
    assert re.search(r"beckwater\.plan\.yaml:\d+:\d+: /balancers/1/listeners: townsfolk ask", text)
    assert "losses were not looked at" in text
    assert "standby-deaf · add such a listener to coast-front" in text


def test_the_command_ends_with_1_where_traffic_stops(tmp_path):
    bad = write(tmp_path, but(("/target_groups/0/targets", [])))
    done = northgate("review", bad, "--json")
    document = json.loads(done.stdout)
    assert done.returncode == 1
    keys = {"code", "severity", "where", "about", "message", "remedy"}
    assert all(keys <= set(one) for one in document["findings"])
    assert document["findings"][0]["code"] == "empty-group"
    assert northgate("review", write(tmp_path, whole()), "--quick").returncode == 0


def test_the_command_writes_reports(tmp_path):
    sarif, markdown = tmp_path / "a.sarif", tmp_path / "a.md"
    done = northgate("review", EXAMPLE, "--quick", "--sarif", sarif, "--markdown", markdown)
    assert done.returncode == 0
    jsonschema.Draft4Validator(SARIF).validate(json.loads(sarif.read_text()))
    assert markdown.read_text().startswith("# Review of beckwater")
    lost = northgate("review", EXAMPLE, "--quick", "--sarif", tmp_path / "no" / "such.sarif")
    assert lost.returncode == 2
    assert "cannot be written" in lost.stderr


def test_every_rule_is_documented():
    text = document()
    assert len(RULES) >= 45
    for rule in RULES.values():
        assert f"### `{rule.code}`" in text
        assert rule.says.endswith(".")
        assert rule.says in text


def test_the_document_is_made_by_a_command(tmp_path):
    made = tmp_path / "findings.md"
    subprocess.run([sys.executable, "-m", "northgate.review.documented", made], check=True)
    assert made.read_text() == document()


def test_a_probe_that_fails_at_an_answer_is_not_proposed_for_its_name():
    """One of the plan's does at both balancers, though it comes second; where none does, none is proposed."""
    data = without("/names/0/probe")
    front = next(one for one in data["probes"] if one["name"] == "front")
    front["port"] = 9000
    data["probes"].append({"name": "door", "protocol": "tcp", "port": 443})
    (one,) = [one for one in reviewed(data).findings if one.code == "answers-never-withdrawn"]
    assert (one.remedy, one.patch[0]["value"]) == ("watch them by probe door", "door")
    del data["probes"][-1]
    (one,) = [one for one in reviewed(data).findings if one.code == "answers-never-withdrawn"]
    assert (one.remedy, one.patch) == ("watch them by a probe that asks a port of its own", [])


def test_what_a_drill_names_is_not_removed_under_it():
    """A firewall that guards nobody, but fails in a drill."""
    data = whole()
    data["firewalls"].append({**data["firewalls"][0], "name": "spare"})
    (one,) = [one for one in reviewed(data).findings if one.code == "unused"]
    assert one.patch == [{"op": "remove", "path": "/firewalls/2"}]
    data["drills"][0]["steps"].append({"at_s": 1, "fail": {"firewall": "spare", "rule": 1}})
    (one,) = [one for one in reviewed(data).findings if one.code == "unused"]
    assert one.patch == []
    assert one.remedy == f"use it, or remove it, and from drill {data['drills'][0]['name']}, which names it"


@settings(max_examples=examples(15))
@given(st.one_of(plans_with_a_drill(), st.integers(0, 400).map(random_plan)))
def test_edits_of_a_review_of_any_plan_mend_what_they_say(data):
    """After each the plan can be run if it could before, and the same is not found there again."""
    plan = plan_from_data(data)
    answer = review(plan, TODAY)
    for one in answer.findings:
        assert one.severity == RULES[one.code].severity
        if one.patch:
            then = review(patched(plan, one.patch), TODAY)
            assert then.runs >= answer.runs
            assert (one.code, one.about, one.message) not in {(it.code, it.about, it.message) for it in then.findings}
