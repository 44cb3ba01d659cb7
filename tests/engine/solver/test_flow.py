"""Shares: tiers, groups, targets and reach, each against what the plan says."""

import numpy as np
import pytest
from msgspec.structs import replace

from northgate.engine.base.errors import CannotRun
from northgate.engine.drill.run import undisturbed
from northgate.engine.solver import Solver
from tests.support.plans import changed, drill_of, fail, network_of, plan_data, restore

OTHER = {
    "name": "other", "zones": {"fells-1": None, "fells-2": None, "fells-3": None}, "count": 3,
    "instance": {"serves": [{"port": 8080, "protocol": "http"}]},
}  # fmt: skip


def two_groups(**tier):
    data = plan_data()
    data["fleets"].append(OTHER)
    data["target_groups"].append({"name": "other", "port": 8080, "targets": [{"fleet": "other"}], "probe": "ready"})
    data["pools"][0]["tiers"] = [{"groups": {"tiles": 3, "other": 1}, **tier}]
    return data


def rates(flow):
    names = flow.network.machines.names
    return {
        name: float(flow.places.pair_rps[flow.network.pairs.machine == index].sum()) for index, name in enumerate(names)
    }


def test_round_robin_shares_by_weight():
    data = plan_data()
    data["target_groups"][0]["targets"] = [
        {"fleet": "tiles", "weight": 2},
        {"instance": "extra", "weight": 3},
        {"instance": "idle", "weight": 0},
    ]
    served = [{"port": 8080, "protocol": "http"}]
    data["instances"] = [{"name": name, "zone": "fells-1", "serves": served} for name in ("extra", "idle")]
    got = rates(undisturbed(network_of(data)))
    assert got["tiles-1"] == pytest.approx(600 * 2 / 15)
    assert got["extra"] == pytest.approx(600 * 3 / 15)
    assert got["idle"] == 0


def test_groups_share_by_weight():
    got = rates(undisturbed(network_of(two_groups())))
    assert sum(got[f"tiles-{n}"] for n in range(1, 7)) == pytest.approx(450)
    assert sum(got[f"other-{n}"] for n in range(1, 4)) == pytest.approx(150)


@pytest.mark.parametrize(("empty", "other", "lost"), [("share-out", 600, 0), ("fail", 150, 450)])
def test_an_empty_groups_weight_is_shared_out_or_fails(empty, other, lost):
    steps = [fail(10, instance=f"tiles-{n}") for n in range(1, 7)]
    flow = drill_of(two_groups(empty_group=empty), steps).flow_at(500)
    assert sum(value for name, value in rates(flow).items() if name.startswith("other")) == pytest.approx(other)
    assert flow.cause_rps[3] == pytest.approx(lost), "none healthy"


@pytest.mark.parametrize(
    ("bound", "still_first"),
    [({"count": 3}, False), ({"count": 2}, True), ({"share": 0.34}, False), ({"share": 0.33}, True)],
)
def test_the_first_tier_with_enough_targets_serves(bound, still_first):
    """Two of six tiles are left: 0.333 of them."""
    data = two_groups()
    data["pools"][0]["tiers"] = [{"groups": {"tiles": 1}, "min_healthy": bound}, {"groups": {"other": 1}}]
    flow = drill_of(data, [fail(10, instance=f"tiles-{n}") for n in range(1, 5)]).flow_at(500)
    got = rates(flow)
    assert (got["tiles-5"] > 0) is still_first
    assert (got["other-1"] > 0) is not still_first


def test_when_no_tier_has_enough_the_first_with_any_serves():
    data = two_groups()
    data["pools"][0]["tiers"] = [
        {"groups": {"tiles": 1}, "min_healthy": {"count": 3}},
        {"groups": {"other": 1}, "min_healthy": {"count": 4}},
    ]
    flow = drill_of(data, [fail(10, instance=f"tiles-{n}") for n in range(1, 6)]).flow_at(500)
    assert rates(flow)["tiles-6"] == pytest.approx(600)


@pytest.mark.parametrize(("policy", "cause"), [("refuse", "none_healthy"), ("send-anyway", "timed_out")])
def test_with_none_healthy_the_group_refuses_or_sends_anyway(policy, cause):
    data = changed(plan_data(), "/target_groups/0/when_none_healthy", policy)
    steps = [fail(60, instance=f"tiles-{n}") for n in range(1, 7)]
    run = drill_of(data, steps, lasts_s=200)
    causes = run.readings.failed_by_cause
    noticed = 60 + 35
    assert causes["timed_out"] == pytest.approx(600 * ((noticed - 60) + (105 if policy == "send-anyway" else 0)))
    assert causes[cause] >= 600 * 105 - 1e-6


def test_each_group_of_an_empty_tier_answers_for_its_own_weight():
    data = two_groups()
    data["target_groups"][1]["when_none_healthy"] = "send-anyway"
    steps = [
        fail(10, process=f"{name}-{n}") for name, count in (("tiles", 6), ("other", 3)) for n in range(1, count + 1)
    ]
    flow = drill_of(data, steps).flow_at(500)
    assert flow.cause_rps[3] == pytest.approx(450)
    assert flow.cause_rps[0] == pytest.approx(150)


@pytest.mark.parametrize(
    ("reach", "expected"),
    [
        ("zone", {"fells-1": 300, "coast-1": 300}),
        ("region", {"fells-1": 300, "coast-1": 300}),
        ("any", {"fells-1": 200, "coast-1": 400}),
    ],
)
def test_reach_says_which_targets_a_front_may_use(reach, expected):
    data = plan_data(regions=[{"name": "fells", "zones": ["fells-1"]}, {"name": "coast", "zones": ["coast-1"]}])
    served = [{"port": 8080, "protocol": "http"}]
    data["fleets"] = []
    data["instances"] = [
        {"name": f"i-{n}", "zone": zone, "serves": served} for n, zone in enumerate(("fells-1", "coast-1", "coast-1"))
    ]
    data["target_groups"][0] |= {"reach": reach, "probe": None, "targets": [{"instance": f"i-{n}"} for n in range(3)]}
    data["balancers"][0]["zones"] = {"fells-1": None, "coast-1": None}
    flow = undisturbed(network_of(data))
    assert dict(zip(flow.network.zones, flow.zone_served, strict=True)) == pytest.approx(expected)


def test_prefer_zone_keeps_to_its_zone_while_any_target_there_is_in_use():
    data = changed(plan_data(), "/target_groups/0/reach", "prefer-zone")
    steps = [fail(60, instance="tiles-1"), fail(200, instance="tiles-2")]
    run = drill_of(data, steps)
    assert run.flow_at(0).cross_zone == 0
    one_left = run.flow_at(150)
    assert rates(one_left)["tiles-2"] == pytest.approx(200)
    none_left = run.flow_at(400)
    assert rates(none_left)["tiles-3"] == pytest.approx(100 + 50)
    assert none_left.cross_zone == pytest.approx(200)


def test_redirects_and_fixed_answers_are_served_by_the_front():
    data = plan_data()
    data["balancers"][0]["listeners"].append(
        {"name": "http", "protocol": "http", "port": 80, "otherwise": {"redirect": {"protocol": "https"}}}
    )
    data["clients"][0]["calls"].append({"url": "http://www.beckwater.example/", "share": 1})
    flow = undisturbed(network_of(data))
    assert flow.served == pytest.approx(600)
    assert flow.places.pair_rps.sum() == pytest.approx(300)
    assert flow.zone_served == pytest.approx([200, 200, 200])


@pytest.mark.parametrize(
    ("otherwise", "cause"), [({"respond": {"status": 403}}, "bad_status"), ({"respond": {"status": 204}}, None)]
)
def test_a_fixed_answer_of_400_or_more_fails(otherwise, cause):
    run = drill_of(changed(plan_data(), "/balancers/0/listeners/0/otherwise", otherwise), [], lasts_s=10)
    assert run.readings.failed == pytest.approx(6000 if cause else 0)


def test_nobody_listening_refuses():
    run = drill_of(changed(plan_data(), "/clients/0/calls/0/url", "http://www.beckwater.example/"), [], lasts_s=10)
    assert run.readings.failed_by_cause["refused"] == pytest.approx(6000)


def test_a_name_without_answers_leads_nowhere():
    run = drill_of(changed(plan_data(), "/names/0/answers", []), [], lasts_s=10)
    assert run.readings.failed_by_cause["blocked"] == pytest.approx(6000)


def test_an_address_in_a_url_leads_to_its_balancer():
    run = drill_of(changed(plan_data(), "/clients/0/calls/0/url", "https://203.0.113.10/"), [], lasts_s=10)
    assert run.readings.failed == 0


def test_a_target_that_does_not_serve_the_groups_port_refuses():
    data = changed(plan_data(), "/target_groups/0/port", 8081)
    run = drill_of(changed(data, "/target_groups/0/probe", None), [], lasts_s=10)
    assert run.readings.failed_by_cause["refused"] == pytest.approx(6000)


def test_slow_factors_multiply_and_links_cut_both_ways():
    steps = [
        fail(10, slow="tiles-1", factor=2),
        fail(10, slow="tiles-1", factor=3),
        fail(10, link=["fells-1", "fells-2"]),
    ]
    flow = drill_of(changed(plan_data(), "/target_groups/0/probe", None), steps).flow_at(20)
    assert flow.queue.utilisation[0] == pytest.approx(6 * (200 / 6 * 2) / 1000)
    assert flow.cause_rps[1] == pytest.approx(2 * 200 / 3), "each of two fronts loses a third"


def test_fault_domains_waves_and_regions_fall_together():
    data = plan_data()
    data["fleets"][0]["instance"] |= {"fault_domain": "rack-1", "maintenance_wave": 0}
    for part in ({"fault_domain": "rack-1"}, {"maintenance_wave": 0}, {"region": "fells"}):
        truth = drill_of(data, [fail(10, **part)], lasts_s=11).flow_at(10).state.truth
        assert truth.machine_silent.all()
        assert truth.front_dead.all() == ("region" in part)


def test_the_union_of_faults_is_in_force_until_each_is_taken_back():
    steps = [fail(10, zone="fells-1"), fail(20, instance="tiles-1"), restore(30, zone="fells-1")]
    truth = drill_of(plan_data(), steps, lasts_s=40).flow_at(35).state.truth
    assert truth.machine_silent.tolist() == [True] + [False] * 5


def test_restoring_what_has_not_failed_is_an_error_of_the_plan():
    with pytest.raises(CannotRun, match="zone fells-1 has not failed before 30 s") as caught:
        drill_of(plan_data(), [restore(30, zone="fells-1")])
    assert caught.value.problems[0].where == "/drills/0/steps/0/restore"


@pytest.mark.parametrize(
    ("place", "value", "where"),
    [
        ("/target_groups/0/probe", "redy", "/target_groups/0/probe"),
        ("/probes/0/timeout_s", 11, "/probes/0/timeout_s"),
        ("/clients/0/calls/0/url", "https://ww.beckwater.example/", "/clients/0/calls/0/url"),
    ],
)
def test_what_cannot_be_run_is_refused_with_its_place(place, value, where):
    with pytest.raises(CannotRun) as caught:
        network_of(changed(plan_data(), place, value))
    assert [problem.where for problem in caught.value.problems] == [where]


def test_a_flow_goes_for_backlogs_that_are_hardly_otherwise():
    """Answers take so much longer, all else is the same; but not where a queue has become empty, or is further off."""
    network = network_of(plan_data())
    solver, machines = Solver(network), len(network.machines.names)
    state = replace(undisturbed(network).state, backlog_s=np.full(machines, 0.5))
    flow, later = solver.solve(state), replace(state, backlog_s=0.5 + 1e-7 * np.arange(1, machines + 1) / machines)
    found, solved = flow.with_backlogs(later, 1e-6), solver.solve(later)
    assert found.state is later
    assert found.queue.latency_s == pytest.approx(solved.queue.latency_s, rel=1e-12)
    assert found.mean_latency_s == pytest.approx(solved.mean_latency_s, rel=1e-12)
    assert found.mean_latency_s > flow.mean_latency_s
    assert flow.with_backlogs(later, 1e-8) is None
    assert flow.with_backlogs(replace(state), 0.0) is flow
    nearly = solver.solve(replace(state, backlog_s=np.full(machines, 1e-8)))
    assert nearly.with_backlogs(replace(state, backlog_s=np.zeros(machines)), 1e-3) is None


def test_how_connections_are_opened_stands_in_one_row_and_is_mixed_there():
    """Halfway between two loads, and as far beyond the second: never below nothing."""
    data = plan_data()
    data["balancers"][0] |= {"layer": 4}
    data["balancers"][0]["listeners"][0] |= {"protocol": "tls"}
    few, many = (
        undisturbed(network_of(changed(data, "/clients/0/rps", rps))).opens for rps in (100, 300)
    )  # fmt: skip
    assert few.like(many)
    between, beyond = few.mixed([many], [0.5, 0.5]), many.mixed([few], [-1.0, 2.0])
    for mine, first, last in zip(between.parts, few.parts, many.parts, strict=True):
        assert mine.ways == pytest.approx((first.ways + last.ways) / 2, nan_ok=True)
        assert mine.rate == pytest.approx((first.rate + last.rate) / 2)
    assert between.dns_share == pytest.approx(few.dns_share)
    assert many.connections.rate == pytest.approx(3 * few.connections.rate)
    assert beyond.connections.rate == pytest.approx([0])
