"""Usual changes, ready-made: what they are offered for, what they do, and what they cost beside all at once."""

import json

import pytest

from northgate.change import offered, usual
from northgate.engine.base import CannotRun
from northgate.engine.network import check_runnable
from northgate.engine.reports import board_state
from northgate.plan import Plan, plan_from_data
from northgate.plan.editing import patched
from tests.cli.test_cli import northgate, write
from tests.review.plans import but, whole
from tests.simulation.random_plans import random_plan
from tests.support.plans import drill_of, plan_data
from tests.test_change import RPS
from tests.ui.demo import DEMO

MACHINE = plan_data()["fleets"][0]["instance"]


def made(data, code, **given):
    return usual(plan_from_data(data), code, given)


def two_groups(**more):
    """Two groups of three machines each, of which only the first is in the pool."""
    data = plan_data(
        fleets=[],
        instances=[{**MACHINE, "name": f"maps-{n}", "zone": f"fells-{n % 3 + 1}"} for n in range(1, 7)],
        pools=[{"name": "web", "tiers": [{"groups": {"old": 1}}]}],
    )  # fmt: skip
    group = data["target_groups"][0]
    data["target_groups"] = [
        group | {"name": name, "targets": [{"instance": f"maps-{n}"} for n in some]}
        for name, some in (("old", (1, 2, 3)), ("new", (4, 5, 6)))
    ]
    return data | more


def test_what_fits_the_plan_is_offered():
    assert [one.code for one in offered(plan_from_data(plan_data()))] == ["roll", "empty", "port", "layer"]
    assert [one.code for one in offered(plan_from_data(two_groups()))] == ["share", "roll", "empty", "port", "layer"]
    assert offered(plan_from_data({"northgate": 1, "name": "empty"})) == []


@pytest.mark.parametrize("seed", range(8))
def test_what_is_offered_can_be_made_as_it_is_offered(seed):
    plan = plan_from_data(random_plan(seed))
    for one in offered(plan):
        answer = usual(plan, one.code, {}).answer
        check_runnable(patched(plan, answer.patch))
        assert all(step.failed >= 0 for step in answer.rehearsal.steps)


def test_a_share_moves_in_parts_after_proof():
    """1, 5, 25 and 100 of 100, whatever the weights are; each is seen for a minute."""
    found = made(two_groups(), "share", to="new")
    rehearsal = found.answer.rehearsal
    assert [one.words for one in rehearsal.steps] == [
        "bring new in with weight 0, to be proven", "send 1% of it to new", "send 5% of it to new",
        "send 25% of it to new", "send 100% of it to new",
    ]  # fmt: skip
    assert [one.waits_s for one in rehearsal.steps[1:]] == [60] * 4
    assert rehearsal.readings["failed"] == pytest.approx(0, abs=1e-6)
    assert 10 * RPS <= rehearsal.at_once["failed"] <= 21 * RPS
    for step, part in enumerate((0, 0.01, 0.05, 0.25, 1)):
        _, plan, flow = found.rehearsed.moment(rehearsal.steps[step].at_s)
        weights = plan.pools[0].tiers[0].groups
        assert weights["new"] / sum(weights.values()) == pytest.approx(part)
        berths = board_state(flow).berths
        assert sum(one.rps for one in berths if one.group == "new") == pytest.approx(part * RPS)
    after = patched(plan_from_data(two_groups()), found.answer.patch)
    assert after.pools[0].tiers[0].groups == {"old": 0, "new": 1}


def test_a_share_too_large_for_the_new_fails_what_they_cannot_do():
    """Three machines of a tenth of what is asked: from 25 % on their queues fill, and the rest fails."""
    data = two_groups()
    for one in data["instances"][3:]:
        one |= {"capacity_rps": RPS / 30, "queue_s": 0.5, "service_ms": 0}
    rehearsal = made(data, "share", to="new").answer.rehearsal
    failed = [one.failed for one in rehearsal.steps]
    assert failed[:3] == pytest.approx([0, 0, 0], abs=1e-6)
    assert failed[3] == pytest.approx((0.25 - 0.1) * RPS * 60, rel=0.02)
    assert failed[4] == pytest.approx(0.9 * RPS * 60, rel=0.02)


def test_batches_are_restarted_as_the_drill_has_it():
    found = made(plan_data(), "roll", group="tiles", batch="2", restart_s="20").answer
    (operation,) = found.patch
    drill = operation["value"]
    readings = drill_of(plan_data(), drill["steps"], phases="worst", lasts_s=drill["lasts_s"]).readings
    assert found.rehearsal.readings["failed"] == pytest.approx(readings.failed)
    assert found.rehearsal.readings["failed"] == pytest.approx(0, abs=1e-6)
    # All at once nobody is there for 20 s: too short for probes to tell.
    assert found.rehearsal.at_once["failed"] == pytest.approx(20 * RPS)
    assert found.adds == "drill"
    assert readings.settled_s >= 3 * 20


def test_a_zone_is_emptied_before_it_is_turned_off():
    found = made(plan_data(), "empty", zone="fells-2", away_s="100").answer.rehearsal
    assert [one.words for one in found.steps] == [
        "drain the 2 instances of fells-2", "turn fells-2 off", "turn fells-2 on, and bring its instances back",
    ]  # fmt: skip
    assert [one.failed for one in found.steps][::2] == pytest.approx([0, 0], abs=1e-6)
    # The front is believed alive for 5 s: a third of what is asked goes there.
    assert found.steps[1].failed == pytest.approx(5 * RPS / 3, rel=1e-6)
    assert found.at_once["failed"] > found.readings["failed"] + RPS
    assert sum(one.failed for one in found.steps) == pytest.approx(found.readings["failed"])


def test_a_port_changes_without_a_failure():
    data = but(("/platform", {"replace_only": ["target_group.port"]}))
    group = data["target_groups"][0]["name"]
    found = made(data, "port", group=group, port="9090").answer
    assert found.rehearsal.readings["failed"] == pytest.approx(0, abs=1e-6)
    after = patched(plan_from_data(data), found.patch)
    assert (after.target_groups[0].name, after.target_groups[0].port) == (f"{group}-9090", 9090)
    assert [service.port for service in after.fleets[0].instance.serves][-1] == 9090
    assert any("9090" in rule.ports for firewall in after.firewalls for rule in firewall.allow_in)
    with pytest.raises(CannotRun, match="already"):
        made(data, "port", group=group, port=str(data["target_groups"][0]["port"]))


def test_a_layer_changes_beside_the_old_which_keeps_what_others_use():
    plan = Plan.model_validate_json(DEMO)
    found = usual(plan, "layer", {"balancer": "coast-front"}).answer
    after = patched(plan, found.patch)
    new = next(one for one in after.balancers if one.name == "coast-front-layer-4")
    assert new.layer == 4
    assert [one.protocol for one in new.listeners] == ["tls"]
    assert "coast-front" not in [one.name for one in after.balancers]
    assert {one.name for one in plan.target_groups} <= {one.name for one in after.target_groups}
    assert all(answer.balancer != "coast-front" for one in after.names for answer in one.answers)


def test_a_balancer_takes_the_address_of_a_server_over():
    """Built and proven beside it; in one moment it has the address, and nothing fails."""
    address, name = "203.0.113.40", "www.beckwater.example"
    server = {
        "name": "maps-1", "zone": "fells-1", "public_address": address, "capacity_rps": 500,
        "serves": [{"port": 80, "protocol": "http"}],
    }  # fmt: skip
    data = {
        "northgate": 1, "name": "one", "regions": [{"name": "fells", "zones": ["fells-1", "fells-2"]}],
        "instances": [server], "names": [{"name": name, "answers": [{"instance": "maps-1"}]}],
        "clients": [{"name": "walkers", "rps": 100, "calls": [{"url": f"http://{name}/"}]}],
    }  # fmt: skip
    assert [one.code for one in offered(plan_from_data(data))] == ["before"]
    found = made(data, "before").answer
    assert found.rehearsal.steps[-1].words == f"maps-1-front takes {address} over from maps-1"
    assert found.rehearsal.readings["failed"] == pytest.approx(0, abs=1e-6)
    assert found.rehearsal.at_once["failed"] > 0
    after = patched(plan_from_data(data), found.patch)
    assert after.balancers[0].addresses == [address]
    assert after.instances[0].public_address is None
    assert after.names[0].answers[0].balancer == "maps-1-front"


def test_what_is_not_said_is_taken_as_offered_and_what_is_wrong_is_told():
    with pytest.raises(CannotRun, match="did you mean 'empty'"):
        made(plan_data(), "emty")
    with pytest.raises(CannotRun, match="did you mean 'zone'"):
        made(plan_data(), "empty", zon="fells-1")
    with pytest.raises(CannotRun, match="there is no 'fels-1'; did you mean 'fells-1'"):
        made(plan_data(), "empty", zone="fels-1")
    with pytest.raises(CannotRun, match="whole number"):
        made(plan_data(), "roll", batch="-2")
    with pytest.raises(CannotRun, match="another group than itself"):
        made(two_groups(), "share", to="old")


def test_the_command_lists_and_rehearses(tmp_path):
    path = write(tmp_path, whole())
    assert "Empty a zone before maintenance" in northgate("usual", path).stdout
    assert {one["code"] for one in json.loads(northgate("usual", path, "--json").stdout)["changes"]} >= {
        "share",
        "port",
    }
    told = northgate("usual", path, "empty", "zone=fells-1", "away_s=60").stdout
    assert "turn fells-1 off" in told
    assert "all at once" in told
    document = json.loads(northgate("usual", path, "empty", "zone=fells-1", "away_s=60", "--json").stdout)
    assert set(document) == {"rehearsal", "patch", "adds"}
    assert northgate("usual", path, "empty", "zone=nowhere").returncode == 2
