"""The board's state: what is true, what is believed, and sums that agree at every level."""

import numpy as np
import pytest
from hypothesis import HealthCheck, given, settings

from northgate.engine.drill.run import run_drill, undisturbed
from northgate.engine.reports.board.berths import proofs_at
from northgate.engine.reports.board.state import MOST_BERTHS, board_state
from tests.support.exploring import examples
from tests.support.plans import changed, drill_of, fail, network_of, plan_data, restore
from tests.support.strategies import plans_with_a_drill


def berths(run, second):
    return {berth.target: berth for berth in board_state(run.flow_at(second), second).berths}


def test_truth_and_belief_of_a_lost_target_over_time():
    run = drill_of(plan_data(), [fail(60, instance="tiles-1"), restore(200, instance="tiles-1")])
    told = [(one.truth, one.belief) for one in (berths(run, second)["tiles-1"] for second in (59, 61, 150, 201, 300))]
    assert told == [
        ("answers", "in use"), ("silent", "in use"), ("silent", "out"), ("answers", "out"), ("answers", "in use"),
    ]  # fmt: skip


def test_fronts_that_disagree_split_a_belief():
    run = drill_of(plan_data(), [fail(60, instance="tiles-1")], phases="spread")
    verdicts = sorted(row.believed_at_s for row in run.blind)
    between = berths(run, (verdicts[0] + verdicts[1]) / 2)["tiles-1"]
    assert (between.belief, between.believed_in, between.believed_of) == ("split", 2, 3)


def test_a_front_that_cannot_reach_a_target_and_leaves_it_out_is_right():
    """Two balancers share the targets; their firewall lets only one of them in, and the other knows it."""
    data = plan_data()
    data["firewalls"] = [{"name": "app", "allow_in": [{"ports": ["8080"], "from": "balancer:front"}]}]
    data["fleets"][0]["instance"]["firewall"] = "app"
    data["balancers"].append({**data["balancers"][0], "name": "other", "addresses": ["203.0.113.11"]})
    board = board_state(undisturbed(network_of(data)))
    assert {(one.believed_in, one.believed_of, one.wrong) for one in board.berths} == {(3, 6, False)}
    assert (board.groups[0].unnoticed, board.failed_rps) == (0, 0)


def test_refusing_and_slow_targets_have_their_word():
    run = drill_of(plan_data(), [fail(10, process="tiles-1"), fail(10, slow="tiles-2", factor=3)], lasts_s=20)
    assert [berths(run, 11)[name].truth for name in ("tiles-1", "tiles-2", "tiles-3")] == ["refuses", "slow", "answers"]


def test_a_target_that_no_living_front_probes_has_an_unknown_belief():
    data = changed(plan_data(), "/target_groups/0/reach", "zone")
    run = drill_of(data, [fail(10, front={"balancer": "front", "zone": "fells-1"})], lasts_s=20)
    assert berths(run, 11)["tiles-1"].belief == "unknown"


def test_a_target_that_answers_again_is_unproven_until_the_last_front_has_seen_enough():
    run = drill_of(plan_data(), [fail(60, instance="tiles-1"), restore(200, instance="tiles-1")], phases="spread")
    proven_s = max(row.believed_at_s for row in run.blind if row.change == "up")

    def told(second):
        board = board_state(run.flow_at(second), second, proofs=proofs_at(run, second))
        found = next(berth for berth in board.berths if berth.target == "tiles-1")
        cell = next(cell for cell in board.cells if cell.zone == found.zone)
        return found.unproven, found.proven_at_s, cell.unproven

    assert told(150) == (False, None, 0)
    assert told(201) == told(proven_s - 0.1) == (True, proven_s, 1)
    assert told(proven_s) == (False, None, 0)


def test_when_a_proof_comes_after_the_end_nobody_knows_its_second():
    run = drill_of(plan_data(), [fail(60, instance="tiles-1"), restore(200, instance="tiles-1")], lasts_s=205)
    assert proofs_at(run, 204) == {0: None}


def test_a_pool_gets_what_its_rules_send_and_counts_its_tiers():
    data = plan_data()
    data["target_groups"].append({"name": "holding", "port": 8080, "targets": [{"fleet": "tiles"}]})
    data["pools"][0]["tiers"].append({"groups": {"holding": 1}})
    data["pools"].append({"name": "api", "tiers": [{"groups": {"tiles": 1}}]})
    api = {"name": "api", "when": {"path": ["/api/*"]}, "do": {"pool": "api"}}
    data = changed(data, "/balancers/0/listeners/0/rules", [api])
    data["clients"][0]["calls"].append({"url": "https://www.beckwater.example/api/1", "share": 3})
    run = drill_of(data, [fail(10, process="tiles-1")])
    web, api = board_state(run.flow_at(100)).pools
    assert (web.rps, api.rps) == (pytest.approx(600 / 4), pytest.approx(600 * 3 / 4))
    assert [(tier.groups, tier.targets, tier.in_use) for tier in web.tiers] == [(["tiles"], 6, 5), (["holding"], 6, 6)]


def test_a_probe_says_what_it_watches_and_how_often_it_asks():
    run = drill_of(
        plan_data(), [fail(60, instance="tiles-1"), fail(300, front={"balancer": "front", "zone": "fells-3"})]
    )
    told = [
        (one.targets, one.in_use, one.unnoticed, pytest.approx(one.probes_per_s))
        for one in (board_state(run.flow_at(second)).probes[0] for second in (59, 61, 200, 301))
    ]
    # 3 fronts, later 2, ask 6 targets every 10 s.
    assert told == [(6, 6, 0, 1.8), (6, 6, 1, 1.8), (6, 5, 0, 1.8), (6, 5, 0, 1.2)]


def test_a_zone_is_lost_when_nothing_in_it_lives():
    run = drill_of(plan_data(), [fail(10, zone="fells-1"), fail(12, instance="tiles-3")], lasts_s=20)
    assert [zone.lost for zone in board_state(run.flow_at(13)).zones] == [True, False, False]
    region = board_state(run.flow_at(13)).regions[0]
    assert (region.lost, region.lost_zones, region.zones) == (False, 1, 3)


def test_a_front_shows_who_meets_it_dead():
    run = drill_of(plan_data(), [fail(10, zone="fells-1")], lasts_s=30)
    dead = board_state(run.flow_at(12)).balancers[0].fronts[0]
    assert (dead.dead, dead.in_address, dead.dead_rps) == (True, True, pytest.approx(200))
    gone = board_state(run.flow_at(20)).balancers[0].fronts[0]
    assert (gone.in_address, gone.rps) == (False, 0)


def test_very_many_berths_come_group_by_group():
    data = changed(plan_data(), "/fleets/0/count", MOST_BERTHS + 1)
    flow = undisturbed(network_of(data))
    assert board_state(flow).berths == []
    assert len(board_state(flow, groups=["tiles"]).berths) == MOST_BERTHS + 1
    assert sum(cell.targets for cell in board_state(flow).cells) == MOST_BERTHS + 1


def test_clients_know_what_they_reach():
    data = plan_data()
    data["target_groups"].append({"name": "other", "port": 8080, "targets": [{"fleet": "tiles"}]})
    data["target_groups"].append({"name": "unused", "port": 8080, "targets": []})
    data["pools"][0]["tiers"].append({"groups": {"other": 1}})
    assert board_state(undisturbed(network_of(data))).clients[0].reaches == ["tiles", "other"]


def test_what_a_fault_touches_is_marked():
    data = plan_data()
    data["instances"] = [{"name": "apart", "zone": "fells-1", "serves": [{"port": 8080, "protocol": "http"}]}]
    data["target_groups"].append({"name": "apart", "port": 8080, "targets": [{"instance": "apart"}]})
    run = drill_of(data, [fail(10, process="tiles-1")], lasts_s=20)
    assert [group.touched for group in board_state(run.flow_at(11)).groups] == [True, False]
    assert [group.touched for group in board_state(run.flow_at(5)).groups] == [False, False]


@settings(max_examples=examples(4), deadline=None, suppress_health_check=[HealthCheck.too_slow])
@given(plans_with_a_drill())
def test_sums_agree_at_every_level_on_any_plan(data):
    network = network_of(data)
    flows = run_drill(network, network.plan.drills[0]).flows
    # Up to eight moments of each drill, from its first to its last.
    for index in np.unique(np.linspace(0, len(flows) - 1, 8).astype(int)):
        board = board_state(flows[int(index)])
        for parts in (board.clients, board.names, board.balancers):
            assert sum(part.rps for part in parts) == pytest.approx(board.rps)
            assert sum(part.served_rps for part in parts) == pytest.approx(board.served_rps)
        for groups in (board.cells, board.region_cells, board.berths):
            assert sum(part.rps for part in groups) == pytest.approx(sum(group.rps for group in board.groups))
        assert sum(zone.served_rps for zone in board.zones) == pytest.approx(board.served_rps)
        assert board.served_rps + board.failed_rps == pytest.approx(board.rps)
        assert all(ribbon.failed_rps >= 0 and ribbon.rps > 0 for ribbon in board.ribbons)
