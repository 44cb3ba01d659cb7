"""First plans from little, and large ones from a seed."""

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from msgspec.structs import replace

from northgate.engine.drill.run import run_drill, undisturbed
from northgate.engine.network.compile import compile_network
from northgate.engine.reports import board_state
from northgate.plan import PlanError
from northgate.plan.generated import generated_plan
from northgate.plan.proposal import MachineRow, Server, propose, propose_server
from northgate.plan.references import dangling
from tests.support.exploring import examples

REGIONS = {"vale": ["vale-1", "vale-2"], "coast": ["coast-1"]}
ROWS = [MachineRow(f"maps-{n}", zone) for n, zone in enumerate(("vale-1", "vale-1", "vale-2", "coast-1"))]
URL = "http://maps.beckwater.example:8088/x"


def test_a_proposal_runs_as_it_stands():
    plan = propose("vale", "Vale", REGIONS, ROWS, URL)
    assert dangling(plan) == []
    assert [balancer.name for balancer in plan.balancers] == ["vale-front", "coast-front"]
    assert (plan.balancers[0].listeners[0].protocol, plan.balancers[0].listeners[0].port) == ("http", 8088)
    assert plan.names[0].name == "maps.beckwater.example"
    assert plan.clients[0].rps == 200, "half of what four machines carry"
    assert plan.drills[0].steps[0].fail.zone == "vale-1", "the fullest zone"
    run = run_drill(compile_network(plan), plan.drills[0])
    assert run.readings.requests == pytest.approx(200 * 600)


def test_machines_of_different_ports_make_different_groups():
    rows = [MachineRow("a", "vale-1", port=80), MachineRow("b", "vale-2", port=90, fault_domain="rack-1")]
    plan = propose("vale", "", REGIONS, rows, URL)
    assert [(group.name, group.port) for group in plan.target_groups] == [("app-80", 80), ("app-90", 90)]
    assert plan.instances[1].fault_domain == "rack-1"
    assert [pool.name for pool in plan.pools] == ["app-80", "app-90"]
    listener = plan.balancers[0].listeners[0]
    assert listener.otherwise.pool == "app-80"
    assert [(rule.when.path, rule.do.pool) for rule in listener.rules] == [(["/app-90/*"], "app-90")]


MACHINES = st.lists(
    st.builds(
        MachineRow,
        name=st.just("maps"),
        zone=st.sampled_from(["vale-1", "vale-2", "coast-1"]),
        port=st.sampled_from([80, 90]),
        capacity_rps=st.sampled_from([50.0, 100.0, 300.0]),
    ),
    min_size=1,
    max_size=7,
)


@settings(max_examples=examples(12), deadline=None)
@given(MACHINES)
def test_every_machine_is_loaded_to_half_of_what_it_can_carry(rows):
    named = [replace(row, name=f"maps-{number}") for number, row in enumerate(rows)]
    board = board_state(undisturbed(compile_network(propose("vale", "", REGIONS, named, URL))))
    assert board.failed_rps == 0
    assert [berth.utilisation for berth in board.berths] == [pytest.approx(0.5)] * len(rows)


def test_a_row_in_an_unknown_zone_is_placed():
    with pytest.raises(PlanError) as caught:
        propose("vale", "", REGIONS, [*ROWS, MachineRow("b", "vael-2")], URL)
    assert caught.value.problems[0].where == "/rows/4/zone"
    assert "did you mean 'vale-2'" in caught.value.problems[0].message


def test_a_machine_that_carries_nothing_is_told():
    with pytest.raises(PlanError, match="/rows/1/capacity_rps: must be greater than 0"):
        propose("vale", "", REGIONS, [ROWS[0], MachineRow("b", "vale-1", capacity_rps=0)], URL)


def test_without_machines_there_is_no_plan():
    with pytest.raises(PlanError, match="/rows: at least one machine is needed"):
        propose("vale", "", REGIONS, [], URL)


def test_a_server_stands_alone_and_takes_all_down_with_it():
    plan = propose_server("maps", "Maps", Server("maps-1", "203.0.113.40", rps=80), "https://maps.beckwater.example/")
    run = run_drill(compile_network(plan), plan.drills[0])
    assert run.readings.requests == pytest.approx(80 * 300)
    assert run.readings.failed == pytest.approx(80 * 120, abs=1), "and what was just being served"
    assert board_state(run.flow_at(59)).berths[0].utilisation == pytest.approx(0.8)


@pytest.mark.parametrize(("targets", "zones", "groups", "rules"), [(1, 1, 1, 0), (100, 3, 4, 10), (120, 5, 8, 20)])
def test_a_generated_plan_has_what_was_asked_and_runs(targets, zones, groups, rules):
    plan = generated_plan(targets=targets, zones=zones, groups=groups, rules=rules)
    assert dangling(plan) == []
    network = compile_network(plan)
    assert (len(network.members.group), len(network.zones)) == (targets, zones)
    assert len(plan.target_groups) == groups
    run = run_drill(network, plan.drills[0])
    assert run.readings.requests > 0


def test_the_same_seed_gives_the_same_plan_and_another_seed_another():
    one, same, other = (generated_plan(targets=60, seed=seed) for seed in (1, 1, 2))
    assert one == same
    assert one != other
