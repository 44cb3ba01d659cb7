"""What no part of the plan owns stands in a zone of its own, whatever the plan's zones are called."""

import json

import pytest

from northgate.engine.drill import Losing, undisturbed
from northgate.engine.network import compile_network, outside_of
from northgate.engine.reports import board_state, what_if
from northgate.engine.reports.whatif import zone_losses
from northgate.plan import plan_from_data
from northgate.plan.models.faults import Part
from tests.support.plans import plan_data

RPS, FLEET, ADDRESS = 600, 6, "198.51.100.7"


def plan_with(**called):
    """Two targets in each of three zones and one outside, zones and regions called otherwise."""
    text = json.dumps(plan_data())
    for old, new in called.items():
        text = text.replace(f'"{old.replace("_", "-")}"', f'"{new}"')
    data = json.loads(text)
    data["target_groups"][0]["targets"].append({"address": ADDRESS})
    return plan_from_data(data)


@pytest.mark.parametrize(
    ("called", "outside"),
    [({}, "outside"), ({"fells_3": "outside"}, "outside the plan"), ({"fells": "outside"}, "outside the plan")],
)
def test_each_zone_and_what_stands_outside_serve_their_share(called, outside):
    plan = plan_with(**called)
    assert outside_of(plan) == outside
    state = board_state(undisturbed(compile_network(plan)))
    served = {zone.name: zone.served_rps for zone in state.zones}
    assert served == {
        **{zone: pytest.approx(2 * RPS / (FLEET + 1)) for zone in plan.regions[0].zones},
        outside: pytest.approx(RPS / (FLEET + 1)),
    }
    assert [region.name for region in state.regions] == [plan.regions[0].name, outside]


def test_a_zone_that_is_called_so_may_be_lost_and_what_stands_outside_goes_on():
    losing = Losing(compile_network(plan_with(fells_3="outside")))
    settled = what_if(losing, [Part(zone="outside")]).settled
    served = {zone.name: zone.served_rps for zone in settled.zones}
    assert served["outside"] == 0
    assert served["outside the plan"] == pytest.approx(RPS / (FLEET - 2 + 1))


def test_the_losses_of_zones_are_those_of_the_plans_zones():
    losing = Losing(compile_network(plan_with()))
    assert [one.zone for one in zone_losses(losing)] == ["fells-1", "fells-2", "fells-3"]
