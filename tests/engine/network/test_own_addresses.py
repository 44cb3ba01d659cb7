"""An instance at an address of its own: asked directly, it is what its clients meet."""

import pytest

from northgate.engine.base import CannotRun
from northgate.engine.drill import undisturbed
from northgate.engine.network.own_addresses import with_own_addresses
from northgate.engine.reports import board_state, drill_answer
from northgate.engine.trace import Question, trace
from northgate.plan import plan_from_data
from tests.support.plans import changed, drill_of, fail, network_of, plan_data, restore

MAPS = {
    "name": "maps-1", "zone": "fells-1", "public_address": "203.0.113.40", "capacity_rps": 1000, "service_ms": 20,
    "serves": [{"port": 443, "protocol": "https"}],
}  # fmt: skip


def direct(**more):
    """Walkers ask a name that leads straight to one machine; `more` is what that is besides."""
    names = [{"name": "www.beckwater.example", "answers": [{"instance": "maps-1"}]}]
    return plan_data(instances=[MAPS | more], names=names)


def causes(run, second):
    return {cause: rate for cause, rate in board_state(run.flow_at(second)).failed_by_cause.items() if rate > 1e-3}


def test_clients_are_served_by_the_machine_itself():
    board = board_state(undisturbed(network_of(direct())))
    served = {berth.target: berth.served_rps for berth in board.berths if berth.rps > 0}
    assert (served, board.failed_rps) == ({"maps-1": pytest.approx(600)}, 0)


@pytest.mark.parametrize(
    ("place", "value"),
    [
        ("/names/0/answers/0", {"address": "203.0.113.40"}),
        ("/clients/0/calls/0/url", "https://203.0.113.40/tiles/7"),
    ],
)
def test_its_address_leads_to_it_however_it_is_asked(place, value):
    board = board_state(undisturbed(network_of(changed(direct(), place, value))))
    assert [berth.target for berth in board.berths if berth.rps > 0] == ["maps-1"]


@pytest.mark.parametrize(
    ("part", "cause"),
    [
        ({"instance": "maps-1"}, "timed_out"),
        ({"zone": "fells-1"}, "timed_out"),
        ({"region": "fells"}, "timed_out"),
        ({"process": "maps-1"}, "refused"),
        ({"page": "/", "instance": "maps-1", "status": 503}, "bad_status"),
    ],
)
def test_nobody_stands_before_it_so_all_that_it_loses_fails_until_it_is_back(part, cause):
    run = drill_of(direct(), [fail(60, **part), restore(200, **part)])
    assert causes(run, 59) == causes(run, 201) == {}
    for second in (61, 199):
        assert causes(run, second) == {cause: pytest.approx(600)}


def test_a_surge_beyond_what_it_carries_is_refused_by_the_machine():
    run = drill_of(direct(capacity_rps=300, queue_s=1), [])
    assert causes(run, 599) == {"overloaded": pytest.approx(300)}


def test_it_stands_as_the_layer_4_balancer_that_one_would_write():
    """The same numbers as a balancer with one front in the machine's zone, which is not lost."""
    made = with_own_addresses(plan_from_data(direct()))
    written = plan_data(
        instances=[MAPS],
        target_groups=[
            *plan_data()["target_groups"],
            {"name": "maps", "port": 443, "protocol": "tcp", "targets": [{"instance": "maps-1"}], "reach": "any"},
        ],
        pools=[*plan_data()["pools"], {"name": "maps", "tiers": [{"groups": {"maps": 1}}]}],
        balancers=[
            *plan_data()["balancers"],
            {
                "name": "maps", "layer": 4, "zones": {"fells-1": None}, "addresses": ["203.0.113.41"],
                "idle_timeout_s": 1e7,
                "listeners": [{"name": "tcp", "protocol": "tcp", "port": 443, "otherwise": {"pool": "maps"}}],
            },
        ],
        names=[{"name": "www.beckwater.example", "answers": [{"balancer": "maps"}]}],
    )  # fmt: skip
    steps = [fail(60, instance="maps-1"), restore(200, instance="maps-1"), fail(300, slow="maps-1", factor=3)]
    assert [one.name for one in made.balancers] == ["front", "maps-1 itself"]
    mine, theirs = (drill_answer(drill_of(data, steps)).readings for data in (direct(), written))
    assert mine == theirs


def test_a_name_that_watches_it_leads_elsewhere_when_it_is_down():
    data = direct()
    data["names"] = [
        {
            "name": "www.beckwater.example", "ttl_s": 10, "probe": "up", "probed_from": ["uplands"],
            "answers": [{"instance": "maps-1"}, {"balancer": "front"}],
        }
    ]  # fmt: skip
    data["probes"].append({"name": "up", "protocol": "tcp", "port": 443, "interval_s": 5, "timeout_s": 2})
    run = drill_of(data, [fail(60, instance="maps-1")])
    assert causes(run, 61) == {"timed_out": pytest.approx(600)}
    assert causes(run, 599) == {}


def test_its_firewall_sees_the_client():
    data = direct(firewall="edge") | {
        "firewalls": [{"name": "edge", "allow_in": [{"ports": ["443"], "from": "198.18.0.0/16"}]}]
    }
    assert board_state(undisturbed(network_of(data))).failed_rps == 0
    closed = changed(data, "/firewalls/0/allow_in/0/from", "10.0.0.0/8")
    assert board_state(undisturbed(network_of(closed))).failed_by_cause["blocked"] == pytest.approx(600)


def test_a_port_that_it_does_not_serve_is_refused():
    board = board_state(
        undisturbed(network_of(changed(direct(), "/clients/0/calls/0/url", "https://www.beckwater.example:8443/")))
    )
    assert board.failed_by_cause["refused"] == pytest.approx(600)


def test_each_port_of_several_is_its_own_way():
    data = direct(serves=[{"port": 443, "protocol": "https"}, {"port": 80, "protocol": "http"}])
    data["clients"][0]["calls"].append({"url": "http://www.beckwater.example/", "share": 2})
    rates = {one.name: one.rps for one in board_state(undisturbed(network_of(data))).groups if one.rps > 0}
    assert rates == {"maps-1 itself https 443": pytest.approx(200), "maps-1 itself http 80": pytest.approx(400)}


def test_a_trace_tells_that_it_is_asked_itself():
    asked = Question(url="https://www.beckwater.example/tiles/7", client="walkers")
    answer = trace(undisturbed(network_of(direct())), asked)
    assert (answer.outcome.status, answer.outcome.target) == (200, "maps-1")
    assert [hop.kind for hop in answer.hops] == ["name", "address", "target", "service"]
    assert answer.hops[1].because == "maps-1 is asked itself: no balancer stands before it"
    assert {hop.link for hop in answer.hops[1:]} == {"instance:maps-1"}
    assert answer.explained == []


def test_a_trace_to_a_port_that_it_does_not_serve_says_which_it_does():
    asked = Question(url="https://www.beckwater.example:8443/", client="walkers")
    answer = trace(undisturbed(network_of(direct())), asked)
    assert answer.outcome.error == "refused"
    assert answer.hops[-1].because == "maps-1 serves port 443, not on https 8443"


def test_nobody_asks_so_nothing_is_made_of_it():
    plan = plan_from_data(plan_data(instances=[MAPS]))
    assert with_own_addresses(plan) is plan


def test_an_instance_without_such_an_address_cannot_be_answered():
    with pytest.raises(CannotRun, match="maps-1 has no public_address"):
        network_of(direct(public_address=None))
