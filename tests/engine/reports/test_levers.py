"""Why requests fail, adding up to all that fail; and which settings would have helped, found by trying them."""

import jsonpatch
import pytest

from northgate.engine.drill.run import run_drill
from northgate.engine.network.compile import compile_network
from northgate.engine.reports.drill import drill_answer
from northgate.engine.reports.levers import levers
from northgate.plan import plan_from_data
from tests.engine.drill.test_traffic import drawn, rule
from tests.engine.processes.test_resolvers import RPS, watched
from tests.support.plans import changed, drill_of, fail, plan_data, restore


def mechanisms(run):
    return {name: count for name, count in run.readings.failed_by_mechanism.items() if count > 1e-6}


def test_a_region_lost_under_a_name_is_a_dead_front_and_then_an_old_answer():
    run = drill_of(watched(), [fail(60, region="fells")], lasts_s=600)
    assert mechanisms(run) == pytest.approx({"dead_front": RPS * 35, "old_answers": RPS * 30})
    assert drill_answer(run).summary == (
        "52,000 requests fail over 95 s; 54 % meet a dead front, 46 % follow old answers of names."
    )


def test_a_zone_lost_waits_for_verdicts_behind_its_dead_front():
    run = drill_of(plan_data(), [fail(60, zone="fells-1")], lasts_s=300)
    assert mechanisms(run) == pytest.approx({"dead_front": 200 * 5, "waiting": 400 / 3 * 5 + 200 * 30})


def test_a_withdrawn_rule_blocks_and_then_leaves_nobody():
    run = drill_of(drawn(app=[rule(["8080"], "balancer:front")]), [fail(60, firewall="app", rule=0)], lasts_s=300)
    assert mechanisms(run) == pytest.approx({"blocked": 600 * 35, "none_healthy": 600 * 205})


def test_too_little_capacity_is_overload_also_where_answers_come_too_late():
    data = changed(plan_data(), "/fleets/0/instance/capacity_rps", 80)
    data["fleets"][0]["instance"]["queue_s"] = 30
    data["target_groups"][0]["probe"] = None
    run = drill_of(data, [fail(60, instance="tiles-1")], lasts_s=300)
    assert mechanisms(run).keys() == {"waiting", "overload"}


def test_no_failure_is_told_as_such():
    assert drill_answer(drill_of(plan_data(), [])).summary == "No request fails; the busiest target comes to 10 %."


def test_levers_are_what_rerunning_says_best_first():
    steps = [fail(60, zone="fells-1"), restore(300, zone="fells-1")]
    plan = plan_from_data(plan_data(drills=[{"name": "d", "lasts_s": 600, "phases": "worst", "steps": steps}]))
    before = run_drill(compile_network(plan), plan.drills[0]).readings.failed
    found = levers(plan, "d")
    assert 2 <= len(found) <= 3
    assert [one.fewer_failed for one in found] == sorted((one.fewer_failed for one in found), reverse=True)
    for one in found:
        other = plan_from_data(jsonpatch.apply_patch(plan.model_dump(mode="json", by_alias=True), one.patch))
        after = run_drill(compile_network(other), other.drills[0]).readings.failed
        assert before - after == pytest.approx(one.fewer_failed)
    assert any("every 5 s instead of 10" in one.words and one.price == "twice the probes" for one in found)


def test_where_nothing_fails_nothing_would_have_helped():
    plan = plan_from_data(plan_data(drills=[{"name": "d"}]))
    assert levers(plan, "d") == []
