"""The document of a drill: everything in it can be written down, whatever the drill comes to."""

import json

import pytest

from northgate.engine.drill.run import run_drill
from northgate.engine.reports.drill import drill_answer
from tests.engine.network.test_names import two_regions
from tests.support.plans import fail, network_of


@pytest.mark.parametrize(("lasts_s", "settled"), [(180, False), (900, True)])
def test_a_drill_that_ends_with_old_answers_is_written_down_as_not_settled(lasts_s, settled):
    data = two_regions()
    data["names"][0] |= {"ttl_s": 300, "choose": "order", "probe": None}
    data["balancers"][0] |= {"address_kind": "per-zone", "addresses": []}
    data["drills"] = [{"name": "d", "lasts_s": lasts_s, "steps": [fail(60, zone="fells-1")]}]
    network = network_of(data)
    answer = drill_answer(run_drill(network, network.plan.drills[0]))
    document = json.loads(json.dumps(answer.model_dump(mode="json")))
    assert document["readings"]["settled"] is settled
