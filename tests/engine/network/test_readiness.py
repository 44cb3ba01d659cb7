"""What a plan leaves open that a run needs: it is told."""

import pytest

from northgate.engine.network.readiness import remarks
from tests.engine.network.test_names import two_regions
from tests.support.plans import network_of

LACKS = "uplands has no latency to coast, of which {} takes the nearest: it counts as infinitely far"


def whole():
    """Two regions, with nothing left open or contradicting itself."""
    data = two_regions()
    data["certificates"] = [{"name": "public", "hosts": ["*.beckwater.example"]}]
    for balancer in data["balancers"]:
        balancer["listeners"] = [one | {"certificate": "public"} for one in balancer["listeners"]]
    return data


def lacking(**name):
    data = whole()
    data["areas"][0]["latency_ms"].pop("coast")
    data["names"][0] |= name
    return network_of(data).plan


def test_a_latency_that_nearness_needs_is_asked_for():
    assert [(one.where, one.message) for one in remarks(lacking(choose="nearest"))] == [
        ("/areas/0/latency_ms", LACKS.format("www.beckwater.example"))
    ]


@pytest.mark.parametrize("choose", ["order", "share", "all"])
def test_where_nearness_decides_nothing_nothing_is_asked_for(choose):
    assert remarks(lacking(choose=choose)) == []


def test_an_alias_is_followed():
    plan = lacking(choose="nearest")
    name = plan.names[0]
    alias = name.model_validate({"name": "old.beckwater.example", "answers": [{"host": name.name}]})
    call = plan.clients[0].calls[0].model_copy(update={"url": "https://old.beckwater.example/"})
    client = plan.clients[0].model_copy(update={"calls": [call]})
    plan = plan.model_copy(update={"names": [name, alias], "clients": [client]})
    assert [one.message for one in remarks(plan)] == [LACKS.format("www.beckwater.example")]


def test_a_plan_that_tells_all_is_not_remarked_on():
    data = whole()
    data["names"][0]["choose"] = "nearest"
    assert remarks(network_of(data).plan) == []
