"""Who refers to whom."""

from pathlib import Path

from northgate.plan import plan_from_data, read_plan
from northgate.plan.references import dangling, definitions, references
from tests.support.plans import changed, plan_data

EXAMPLE = Path(__file__).parents[2] / "examples" / "beckwater.plan.yaml"


def test_every_reference_of_the_example_leads_somewhere():
    plan = read_plan(EXAMPLE)
    assert dangling(plan) == []
    kinds = {reference.kind for reference in references(plan)}
    assert kinds == {
        "area", "balancer", "any instance", "certificate", "firewall", "fleet", "instance", "network", "pool", "probe",
        "region", "subnet", "target_group", "zone",
    }  # fmt: skip


def test_a_dangling_reference_is_placed_and_names_the_nearest():
    plan = plan_from_data(changed(plan_data(), "/target_groups/0/probe", "redy"))
    assert [(problem.where, problem.message) for problem in dangling(plan)] == [
        ("/target_groups/0/probe", "there is no probe 'redy'; did you mean 'ready'?")
    ]


def test_references_stand_in_keys_lists_and_rule_peers():
    data = plan_data(
        firewalls=[{"name": "app", "allow_in": [{"ports": ["8080"], "from": "balancer:frnt"}]}],
        pools=[{"name": "web", "tiers": [{"groups": {"tile": 1}}]}],
        drills=[{"name": "d", "steps": [{"at_s": 1, "fail": {"link": ["fells-1", "cost"]}}]}],
    )
    assert [problem.where for problem in dangling(plan_from_data(data))] == [
        "/firewalls/0/allow_in/0/from",
        "/pools/0/tiers/0/groups/tile",
        "/drills/0/steps/0/fail/link/1",
    ]


def test_a_drill_may_name_a_fleets_instance_and_a_fault_domain():
    steps = [{"at_s": 1, "fail": {"process": "tiles-6"}}, {"at_s": 2, "fail": {"fault_domain": "rack-9"}}]
    plan = plan_from_data(plan_data(drills=[{"name": "d", "steps": steps}]))
    assert [problem.where for problem in dangling(plan)] == ["/drills/0/steps/1/fail/fault_domain"]


def test_definitions_carry_their_place():
    plan = plan_from_data(plan_data())
    assert ("zone", "fells-2", ("regions", 0, "zones", 1)) in list(definitions(plan))


def test_a_fleet_spreads_evenly_zone_by_zone():
    plan = plan_from_data(changed(plan_data(), "/fleets/0/count", 7))
    places = [(instance.name, instance.zone) for instance in plan.fleets[0].instances()]
    assert [zone for _, zone in places] == ["fells-1"] * 3 + ["fells-2"] * 2 + ["fells-3"] * 2
    assert [name for name, _ in places] == [f"tiles-{number}" for number in range(1, 8)]
