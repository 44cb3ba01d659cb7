"""Filling by capacity or rate: what each group takes, by the algebra of what comes and what there is room for."""

import pytest

from northgate.engine.drill import undisturbed
from northgate.engine.reports import board_state
from northgate.engine.trace import Question, trace
from northgate.plan import PlanError, plan_from_data
from tests.support.plans import drill_of, fail, network_of, plan_data

NAME = "www.beckwater.example"


def group(name, fleet):
    return {**plan_data()["target_groups"][0], "name": name, "targets": [{"fleet": fleet}]}


def fleet(name, zone, count=3, capacity_rps=100):
    one = plan_data()["fleets"][0]
    return one | {
        "name": name,
        "zones": {zone: None},
        "count": count,
        "instance": one["instance"] | {"capacity_rps": capacity_rps},
    }


def filling(rps, tiers, **more):
    """Two groups of three machines of 100/s each, near and far, and a third to fall back on."""
    data = plan_data(
        fleets=[fleet("near", "fells-1"), fleet("far", "fells-2"), fleet("last", "fells-3")],
        target_groups=[group("near", "near"), group("far", "far"), group("last", "last")],
        pools=[{"name": "web", "tiers": tiers}],
        **more,
    )
    data["clients"][0]["rps"] = rps
    return data


def taken(flow):
    """The rate that comes to each group."""
    network = flow.network
    made = dict.fromkeys((one.name for one in network.plan.target_groups), 0.0)
    for pair, rate in enumerate(flow.places.pair_rps.tolist()):
        made[network.plan.target_groups[int(network.pairs.group[pair])].name] += rate
    return {name: pytest.approx(rate, abs=1e-6) for name, rate in made.items()}


BOTH = {"groups": {"near": 1, "far": 1}}
TO_80 = BOTH | {"fill": {"utilisation": 0.8}}


@pytest.mark.parametrize(
    ("rps", "near", "far"),
    [
        (100, 100, 0), (240, 240, 0), (300, 240, 60), (480, 240, 240),
        # What nobody has room for goes by weight: half of 120 more to each.
        (600, 300, 300),
    ],
)  # fmt: skip
def test_a_group_is_filled_up_to_its_limit_and_the_next_takes_the_rest(rps, near, far):
    assert taken(undisturbed(network_of(filling(rps, [TO_80])))) == {"near": near, "far": far, "last": 0}


def test_a_rate_at_each_target_limits_too():
    tiers = [BOTH | {"fill": {"rps_per_target": 20}}]
    assert taken(undisturbed(network_of(filling(100, tiers)))) == {"near": 60, "far": 40, "last": 0}


def test_weights_decide_of_what_is_beyond_the_limit_alone():
    tiers = [{"groups": {"near": 3, "far": 1}, "fill": {"utilisation": 0.5}}]
    assert taken(undisturbed(network_of(filling(400, tiers)))) == {"near": 150 + 75, "far": 150 + 25, "last": 0}


def test_the_next_tier_takes_what_a_tier_has_no_room_for():
    tiers = [TO_80, {"groups": {"last": 1}}]
    assert taken(undisturbed(network_of(filling(700, tiers)))) == {"near": 240, "far": 240, "last": 220}
    by_weight = [{"groups": {"near": 1}, "fill": {"utilisation": 0.5}}, {"groups": {"far": 3, "last": 1}}]
    assert taken(undisturbed(network_of(filling(350, by_weight)))) == {"near": 150, "far": 150, "last": 50}
    filled_too = [TO_80, {"groups": {"last": 1}, "fill": {"utilisation": 0.5}}]
    assert taken(undisturbed(network_of(filling(700, filled_too)))) == {"near": 240 + 35, "far": 240 + 35, "last": 150}


def room_of(data, name):
    found = {one.name: one.room for one in board_state(undisturbed(network_of(data))).groups}
    return found[name]


@pytest.mark.parametrize(("rps", "spills"), [(120, 0), (300, 60)])
def test_what_spills_and_from_what_load_on_is_told(rps, spills):
    """Of 240 + 240: the first is full at 240 of what comes, the second at 480."""
    data = filling(rps, [TO_80, {"groups": {"last": 1}}])
    near, far = room_of(data, "near"), room_of(data, "far")
    assert (near.limit_rps, near.taken_rps) == pytest.approx((240, rps - spills))
    assert near.spills_rps == pytest.approx(spills)
    assert (near.to, far.to) == (["far"], ["last"])
    assert near.spills_at == pytest.approx(240 / rps, rel=1e-6)
    assert far.spills_at == pytest.approx(480 / rps, rel=1e-6)
    assert far.taken_rps == pytest.approx(spills)
    assert room_of(data, "last") is None
    data["clients"][0]["rps"] = 0.0001
    assert room_of(data, "near").spills_at is None


def test_the_factor_is_that_at_which_more_begins_to_go_on():
    data = filling(100, [TO_80, {"groups": {"last": 1}}])
    at = room_of(data, "near").spills_at
    for factor, spilled in ((at - 1e-6, 0), (at + 0.1, 10)):
        data["clients"][0]["rps"] = 100 * factor
        assert taken(undisturbed(network_of(data)))["far"] == pytest.approx(spilled, abs=1e-3)


def test_what_is_lost_with_its_front_is_no_room():
    """Near has two machines a zone; what the dead front still believes of its own zone does not count."""
    data = filling(480, [TO_80])
    data["fleets"][0] |= {"zones": {"fells-1": None, "fells-2": None}, "count": 4}
    run = drill_of(data, [fail(60, zone="fells-1")], lasts_s=300)
    assert taken(run.flow_at(59)) == {"near": 320, "far": 160, "last": 0}
    # Room for 160 and 240; what is left, 80, goes by weight, half to each.
    assert taken(run.flow_at(299)) == {"near": 160 + 40, "far": 240 + 40, "last": 0}


def test_a_group_that_nobody_is_sent_to_is_never_full():
    run = drill_of(filling(240, [TO_80]), [fail(60, zone="fells-1")], lasts_s=300)
    states = {one.name: one.room for one in board_state(run.flow_at(299)).groups}
    assert (states["near"].limit_rps, states["near"].spills_rps, states["near"].spills_at) == (0, 0, None)
    assert states["far"].spills_at == pytest.approx(1, rel=1e-6)


@pytest.mark.parametrize("rps", [30, 200, 330, 800])
def test_what_spills_begins_where_it_is_said_to_whatever_fills_first(rps):
    """Two pools that fill the same groups in other orders: just below the factor a group has room, just above none."""
    data = filling(rps, [TO_80])
    data["pools"].append({"name": "more", "tiers": [{"groups": {"far": 1, "last": 1}, "fill": {"rps_per_target": 50}}]})
    data["balancers"][0]["listeners"][0]["rules"] = [{"name": "r", "when": {"path": ["/more"]}, "do": {"pool": "more"}}]
    data["clients"][0]["calls"] = [{"url": f"https://{NAME}/tiles"}, {"url": f"https://{NAME}/more", "share": 3}]
    for name in ("near", "far", "last"):
        at = room_of(data, name).spills_at
        for factor, full in ((at * (1 - 1e-6), False), (at * (1 + 1e-6), True)):
            scaled = data | {"clients": [data["clients"][0] | {"rps": rps * factor}]}
            room = room_of(scaled, name)
            assert (room.spills_rps > 0) is full, name


def test_what_another_balancer_passes_on_fills_too():
    """A balancer before the one that fills: half of what comes to it goes there, the other half to a machine."""
    data = filling(600, [TO_80])
    last = {**group("outer", "last"), "protocol": "https", "probe": None, "targets": [
        {"balancer": "front", "port": 443}, {"address": "198.51.100.9", "port": 443},
    ]}  # fmt: skip
    data["target_groups"].append(last)
    data["pools"].append({"name": "outer", "tiers": [{"groups": {"outer": 1}}]})
    listener = {"name": "https", "protocol": "https", "port": 443, "otherwise": {"pool": "outer"}}
    outer = {**data["balancers"][0], "name": "outer", "addresses": ["203.0.113.77"], "listeners": [listener]}
    data["balancers"].append(outer)
    data["names"][0]["answers"] = [{"balancer": "outer"}]
    found = undisturbed(network_of(data))
    assert {name: taken(found)[name] for name in ("near", "far")} == {"near": 240, "far": 60}
    assert room_of(data, "near").spills_at == pytest.approx(240 / 300, rel=1e-6)


def test_pools_share_the_room_of_a_group_in_their_order():
    tiers = [{"groups": {"near": 1, "far": 1}, "fill": {"utilisation": 0.8}}]
    data = filling(400, tiers)
    data["pools"].append({"name": "more", "tiers": [{"groups": {"near": 1, "last": 1}, "fill": {"utilisation": 0.8}}]})
    data["balancers"][0]["listeners"][0]["rules"] = [{"name": "r", "when": {"path": ["/more"]}, "do": {"pool": "more"}}]
    data["clients"][0]["calls"] = [{"url": f"https://{NAME}/tiles"}, {"url": f"https://{NAME}/more"}]
    # 200 a pool: the first takes 200 of near's 240, the other what is left of it.
    assert taken(undisturbed(network_of(data))) == {"near": 240, "far": 0, "last": 160}


def test_room_goes_with_targets_and_the_rest_moves_on():
    run = drill_of(filling(240, [TO_80]), [fail(60, instance="near-1")], lasts_s=300)
    assert taken(run.flow_at(59)) == {"near": 240, "far": 0, "last": 0}
    assert taken(run.flow_at(299)) == {"near": 160, "far": 80, "last": 0}
    empty = drill_of(filling(240, [TO_80]), [fail(60, zone="fells-1")], lasts_s=300)
    assert taken(empty.flow_at(299)) == {"near": 0, "far": 240, "last": 0}


def test_a_surge_spills_as_it_comes():
    run = drill_of(filling(200, [TO_80]), [{"at_s": 60, "surge": {"clients": "walkers", "factor": 2}}], lasts_s=100)
    assert taken(run.flow_at(59)) == {"near": 200, "far": 0, "last": 0}
    assert taken(run.flow_at(61)) == {"near": 240, "far": 160, "last": 0}


def test_the_nearest_region_is_filled_first():
    data = filling(480, [BOTH | {"fill": {"utilisation": 0.5}, "spill": "nearest"}])
    data["regions"].append({"name": "coast", "zones": ["coast-1"]})
    data["areas"] = [{"name": "uplands", "latency_ms": {"fells": 12, "coast": 30}}]
    data["fleets"] = [fleet("near", "coast-1"), fleet("far", "fells-2"), fleet("last", "fells-3")]
    data["target_groups"] = [one | {"reach": "any"} for one in data["target_groups"]]
    # `near` stands first, but `far` is in the region of the fronts.
    assert taken(undisturbed(network_of(data))) == {"near": 150 + 90, "far": 150 + 90, "last": 0}
    data["clients"][0]["rps"] = 200
    assert taken(undisturbed(network_of(data))) == {"near": 50, "far": 150, "last": 0}


def test_fronts_share_the_room_by_what_they_offer():
    """Each of three fronts gets a third; so each sends the same part of what it gets to the first group."""
    flow = undisturbed(network_of(filling(300, [TO_80])))
    share = flow.choice.weighted_share.reshape(3, 2)
    assert share == pytest.approx(__import__("numpy").array([[0.8, 0.2]] * 3))


def test_a_trace_tells_why_and_how_often():
    answer = trace(
        undisturbed(network_of(filling(300, [TO_80]))), Question(f"https://{NAME}/", client="walkers", times=100)
    )
    hop = next(one for one in answer.hops if one.kind == "group")
    assert "filled up to 80 % busy, in order, and by weight beyond" in hop.because
    near = sum(count for target, count in answer.counts.items() if target.startswith("near"))
    assert near == pytest.approx(80, abs=3)
    spilled = trace(
        undisturbed(network_of(filling(700, [TO_80, {"groups": {"last": 1}}]))),
        Question(f"https://{NAME}/", client="walkers", times=100),
    )
    assert sum(count for target, count in spilled.counts.items() if target.startswith("last")) == pytest.approx(
        31, abs=3
    )


def test_fill_has_one_limit():
    for fill in ({}, {"utilisation": 0.5, "rps_per_target": 3}):
        with pytest.raises(PlanError, match="exactly one of utilisation, rps_per_target"):
            plan_from_data(filling(1, [BOTH | {"fill": fill}]))
    with pytest.raises(PlanError, match="at most 1 is wanted"):
        plan_from_data(filling(1, [BOTH | {"fill": {"utilisation": 80}}]))
