"""What names answer: each way of choosing, who is healthy, and where the answers lead."""

import numpy as np
import pytest

from northgate.engine.base.errors import CannotRun
from northgate.engine.drill.run import undisturbed
from northgate.engine.network.answers import answer_shares
from northgate.plan.models.traffic import DnsEntry
from tests.support.plans import network_of, plan_data

ANSWERS = [
    {"address": "192.0.2.1", "weight": 1, "areas": ["uplands"]},
    {"address": "192.0.2.2", "weight": 3, "areas": ["coastal", "uplands"]},
    {"address": "192.0.2.3", "weight": 4},
]
LATENCY = np.array([0.03, 0.01, 0.02])


def told(choose, healthy=(1, 1, 1), area="uplands", addresses=(1, 1, 1), **more):
    entry = DnsEntry.model_validate({"name": "a.example", "choose": choose, "answers": ANSWERS, **more})
    return list(answer_shares(entry, np.array(healthy, bool), LATENCY, area, np.array(addresses, float)))


@pytest.mark.parametrize(
    ("asked", "expected"),
    [
        ({"choose": "order"}, [1, 0, 0, 0]),
        ({"choose": "order", "healthy": (0, 1, 1)}, [0, 1, 0, 0]),
        ({"choose": "order", "standby_share": 0.05}, [0.95, 0.05, 0, 0]),
        ({"choose": "order", "standby_share": 0.05, "healthy": (1, 0, 1)}, [0.95, 0, 0.05, 0]),
        ({"choose": "order", "standby_share": 0.05, "healthy": (0, 0, 1)}, [0, 0, 1, 0]),
        ({"choose": "share"}, [1 / 8, 3 / 8, 4 / 8, 0]),
        ({"choose": "share", "healthy": (1, 1, 0)}, [1 / 4, 3 / 4, 0, 0]),
        ({"choose": "nearest"}, [0, 1, 0, 0]),
        ({"choose": "nearest", "healthy": (1, 0, 1)}, [0, 0, 1, 0]),
        ({"choose": "area"}, [1 / 2, 1 / 2, 0, 0]),
        ({"choose": "area", "area": "coastal"}, [0, 1, 0, 0]),
        ({"choose": "area", "area": "coastal", "healthy": (1, 0, 1)}, [0, 0, 1, 0]),
        ({"choose": "area", "area": None}, [0, 0, 1, 0]),
        ({"choose": "all"}, [1 / 3, 1 / 3, 1 / 3, 0]),
        ({"choose": "all", "addresses": (3, 1, 0)}, [3 / 4, 1 / 4, 0, 0]),
        ({"choose": "order", "healthy": (0, 0, 0)}, [1, 0, 0, 0]),
        ({"choose": "all", "healthy": (0, 0, 0)}, [1 / 3, 1 / 3, 1 / 3, 0]),
        ({"choose": "all", "healthy": (0, 0, 0), "when_none_healthy": {"address": "192.0.2.9"}}, [0, 0, 0, 1]),
    ],
)
def test_each_way_of_choosing(asked, expected):
    assert told(**asked) == pytest.approx(expected)


def two_regions(**name):
    """A balancer in each of two regions, and a name that leads to both."""
    data = plan_data()
    data["regions"].append({"name": "coast", "zones": ["coast-1"]})
    data["areas"] = [
        {"name": "uplands", "latency_ms": {"fells": 12, "coast": 30}},
        {"name": "shore", "latency_ms": {"fells": 30, "coast": 5}},
    ]
    data["fleets"][0]["zones"]["coast-1"] = None
    data["fleets"][0]["count"] = 8
    other = {**data["balancers"][0], "name": "shore-front", "zones": {"coast-1": None}, "addresses": ["203.0.113.20"]}
    data["balancers"].append(other)
    data["names"][0] |= {"answers": [{"balancer": "front"}, {"balancer": "shore-front"}], **name}
    data["clients"].append({**data["clients"][0], "name": "sailors", "area": "shore", "rps": 200})
    return data


def fronts_of(flow):
    network = flow.network
    return {
        f"{network.balancer_of(front)}/{network.front_name(front)}": float(rps)
        for front, rps in enumerate(flow.places.front_rps)
    }


def test_the_nearest_answer_is_each_areas_own():
    got = fronts_of(undisturbed(network_of(two_regions(choose="nearest"))))
    assert got["shore-front/coast-1"] == pytest.approx(200)
    assert got["front/fells-1"] == pytest.approx(200), "600/s over three fronts"


def test_answers_by_share_and_by_order():
    shared = undisturbed(network_of(two_regions(choose="share")))
    assert fronts_of(shared)["shore-front/coast-1"] == pytest.approx(400)
    ordered = undisturbed(network_of(two_regions(standby_share=0.1)))
    assert fronts_of(ordered)["shore-front/coast-1"] == pytest.approx(80)


def test_an_address_of_nobody_answers_outside():
    data = plan_data()
    data["names"][0]["answers"] = [{"address": "192.0.2.77"}, {"balancer": "front"}]
    flow = undisturbed(network_of(data))
    assert dict(zip(flow.network.zones, flow.zone_served, strict=True))["outside"] == pytest.approx(600)
    assert flow.served == pytest.approx(600)
    data["names"][0]["answers"][0] = {"address": "203.0.113.10"}
    assert undisturbed(network_of(data)).places.front_rps.sum() == pytest.approx(600), "the balancer's own address"


def test_a_host_leads_on_to_another_name_and_never_round():
    data = plan_data()
    data["names"][0]["answers"] = [{"host": "Inner.Beckwater.Example."}]
    data["names"].append({"name": "inner.beckwater.example", "answers": [{"balancer": "front"}]})
    flow = undisturbed(network_of(data))
    assert flow.places.front_rps.sum() == pytest.approx(600)
    data["names"][1]["answers"] = [{"host": "www.beckwater.example"}]
    with pytest.raises(CannotRun, match="leads back to itself: www"):
        network_of(data)


def test_each_front_has_its_address_where_they_are_per_zone():
    data = two_regions(choose="all")
    data["balancers"][0] |= {"address_kind": "per-zone", "addresses": []}
    got = fronts_of(undisturbed(network_of(data)))
    assert list(got.values()) == pytest.approx([200] * 4), "800/s over four addresses"


def test_an_anycast_address_leads_to_the_nearest_region():
    data = two_regions()
    data["balancers"] = [data["balancers"][0] | {"zones": {**data["balancers"][0]["zones"], "coast-1": None}}]
    data["balancers"][0]["address_kind"] = "anycast"
    data["names"][0]["answers"] = [{"balancer": "front"}]
    got = fronts_of(undisturbed(network_of(data)))
    assert got == pytest.approx(
        {"front/fells-1": 200, "front/fells-2": 200, "front/fells-3": 200, "front/coast-1": 200}
    )


WATCH = {"name": "watch", "protocol": "https", "port": 443, "path": "/ready", "interval_s": 10, "timeout_s": 5}


@pytest.mark.parametrize(
    ("probe", "first"),
    [
        ({}, True),
        ({"protocol": "tcp"}, True),
        # Only the second balancer listens on 444 and 80, and answers 201 there.
        ({"port": 444}, False),
        ({"protocol": "tcp", "port": 80}, False),
        ({"port": 444, "expect": ["201"]}, False),
        # Neither is found healthy: the first in order, as if both were.
        ({"expect": ["202"]}, True),
        ({"timeout_s": 0.001}, True),
    ],
)
def test_a_name_leads_to_the_first_answer_that_its_probe_finds_as_it_expects(probe, first):
    data = two_regions(probe="watch", probed_from=["uplands", "shore"])
    data["probes"].append(WATCH | probe)
    listener = data["balancers"][1]["listeners"][0]
    data["balancers"][1]["listeners"] = [
        listener,
        {**listener, "name": "second", "port": 80},
        {**listener, "name": "third", "port": 444, "otherwise": {"respond": {"status": 201}}},
    ]
    flow = undisturbed(network_of(data))
    got = fronts_of(flow)
    assert got["shore-front/coast-1"] == pytest.approx(0 if first else 800)
    assert flow.served == pytest.approx(800)
