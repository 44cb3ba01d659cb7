"""A plan can be looked at from its first region on: whatever is not there yet, nothing breaks."""

import pytest
from hypothesis import HealthCheck, given, settings

from northgate.engine.drill import Losing, run_drill, undisturbed
from northgate.engine.reports import board_state, drill_answer, what_if
from northgate.engine.trace import Question, trace
from northgate.plan.models.faults import Part
from tests.support.exploring import examples
from tests.support.plans import fail, network_of, plan_data, restore
from tests.support.strategies import plans_with_a_drill

ORDER = ["regions", "areas", "fleets", "probes", "target_groups", "pools", "balancers", "names"]
DRILL = {"name": "loss", "lasts_s": 300, "steps": [fail(10, zone="fells-1"), restore(150, zone="fells-1")]}


@pytest.mark.parametrize(
    "fields", [ORDER[:count] for count in range(len(ORDER) + 1)], ids=lambda fields: fields[-1] if fields else "nothing"
)
def test_a_plan_without_clients_has_a_board(fields):
    whole = plan_data()
    board = board_state(
        undisturbed(network_of({"northgate": 1, "name": "new"} | {name: whole[name] for name in fields}))
    )
    assert (board.rps, board.failed_rps) == (0, 0)
    assert len(board.berths) == (6 if "target_groups" in fields else 0)


def test_a_drill_without_clients_follows_beliefs():
    network = network_of(plan_data(clients=[], drills=[DRILL]))
    answer = drill_answer(run_drill(network, network.plan.drills[0]))
    assert (answer.readings.requests, {row.change for row in answer.blind}) == (0, {"down", "up"})
    assert what_if(Losing(network), [Part(zone="fells-1")]).noticed_after_s > 0
    asked = trace(undisturbed(network), Question(url="https://www.beckwater.example/tiles/7", area="uplands"))
    assert asked.outcome.status == 200


@settings(max_examples=examples(5), deadline=None, suppress_health_check=list(HealthCheck))
@given(plans_with_a_drill())
def test_any_plan_loses_its_clients_and_still_runs(data):
    steps = [step for step in data["drills"][0]["steps"] if "surge" not in step]
    drills = [data["drills"][0] | {"steps": steps, "expect": []}]
    network = network_of(data | {"clients": [], "drills": drills})
    assert run_drill(network, network.plan.drills[0]).readings.failed == 0
