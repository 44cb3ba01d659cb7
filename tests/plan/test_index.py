"""The index: everything is in it, with who uses it; and what a plan still lacks, in the order of the work."""

import pytest
from hypothesis import HealthCheck, given, settings

from northgate.plan import plan_from_data
from northgate.plan.overview import User, index_of, next_steps
from northgate.plan.references import definitions, references
from tests.support.exploring import examples
from tests.support.plans import base_plan, changed, plan_data
from tests.support.strategies import plans_with_a_drill

EMPTY = {"northgate": 1, "name": "new"}


def entry(plan, kind, name):
    return next(one for one in index_of(plan) if (one.kind, one.name) == (kind, name))


def users(plan, kind, name):
    return [f"{one.kind} {one.name}" for one in entry(plan, kind, name).used_by]


@pytest.mark.parametrize(
    ("kind", "name", "says", "used_by"),
    [
        ("fleet", "tiles", "6 in fells-1, fells-2, fells-3: http 8080, 1000/s each", ["target_group tiles"]),
        ("probe", "ready", "http /ready every 10 s, out after 3, back after 2", ["target_group tiles"]),
        ("target_group", "tiles", "http 8080, 1 entry, round robin, probe ready", ["pool web"]),
        ("pool", "web", "1: tiles", ["balancer front"]),
        ("balancer", "front", "public, layer 7, fells-1, fells-2, fells-3", ["name www.beckwater.example"]),
        ("listener", "front/https", "https 443, otherwise pool web", []),
        ("name", "www.beckwater.example", "front, TTL 60 s", ["client walkers"]),
        ("client", "walkers", "600/s from uplands: https://www.beckwater.example/tiles/7", []),
        ("zone", "fells-1", "in fells", ["fleet tiles", "balancer front"]),
    ],
)
def test_says_what_a_thing_is_and_who_uses_it(kind, name, says, used_by):
    plan = base_plan()
    found = entry(plan, kind, name)
    assert (found.says, users(plan, kind, name), found.unused) == (says, used_by, False)


def test_tells_what_nobody_uses():
    data = plan_data(
        probes=[{"name": name} for name in ("ready", "spare")],
        drills=[{"name": "crash", "steps": [{"at_s": 1, "fail": {"zone": "fells-3"}}]}],
        certificates=[{"name": "old", "hosts": ["www.beckwater.example"]}],
    )
    unused = {(one.kind, one.name) for one in index_of(plan_from_data(data)) if one.unused}
    assert unused == {("probe", "spare"), ("certificate", "old")}


def test_a_drill_is_a_user_but_no_use():
    data = plan_data(
        instances=[{"name": "spare-1", "zone": "fells-1"}],
        drills=[{"name": "crash", "steps": [{"at_s": 1, "fail": {"instance": "spare-1"}}]}],
    )
    found = entry(plan_from_data(data), "instance", "spare-1")
    assert (found.used_by, found.unused) == ((User("drill", "crash"),), True)


def test_a_member_of_a_fleet_is_used_as_the_fleet():
    drill = {"name": "crash", "steps": [{"at_s": 1, "fail": {"instance": "tiles-2"}}]}
    assert "drill crash" in users(plan_from_data(plan_data(drills=[drill])), "fleet", "tiles")


def test_a_network_is_used_through_its_subnets():
    network = {
        "name": "net",
        "region": "fells",
        "cidr": "10.20.0.0/16",
        "subnets": [{"name": "app", "cidr": "10.20.1.0/24"}],
    }
    spare = {"name": "spare", "region": "fells", "cidr": "10.30.0.0/16", "peers": ["net"]}
    machine = {"name": "maps-1", "zone": "fells-1", "subnet": "app"}
    plan = plan_from_data(plan_data(networks=[network, spare], instances=[machine]))
    assert (users(plan, "network", "net"), entry(plan, "network", "net").unused) == (
        ["network spare", "instance maps-1"],
        False,
    )
    assert entry(plan, "network", "spare").unused


def test_addresses_that_are_asked_for_are_use_however_they_are_written():
    data = changed(plan_data(), "/clients/0/calls/0/url", "https://203.0.113.10/")
    assert "client walkers" in users(plan_from_data(data), "balancer", "front")
    data = changed(plan_data(), "/clients/0/calls/0/url", "https://WWW.beckwater.example./")
    assert users(plan_from_data(data), "name", "www.beckwater.example") == ["client walkers"]


def test_an_instance_is_used_at_its_own_addresses():
    instances = [
        {"name": "maps-1", "zone": "fells-1", "public_address": "203.0.113.40"},
        {"name": "maps-2", "zone": "fells-1", "address": "10.0.0.2"},
    ]
    data = changed(plan_data(instances=instances), "/clients/0/calls/0/url", "https://203.0.113.40/")
    data["target_groups"][0]["targets"].append({"address": "10.0.0.2"})
    plan = plan_from_data(data)
    assert users(plan, "instance", "maps-1") == ["client walkers"]
    assert users(plan, "instance", "maps-2") == ["target_group tiles"]
    assert entry(plan, "instance", "maps-1").addresses == ("203.0.113.40",)


def test_shows_the_addresses_that_are_given_out():
    data = changed(plan_data(), "/balancers/0", plan_data()["balancers"][0] | {"address_kind": "per-zone"})
    data["networks"] = [
        {"name": "net", "region": "fells", "cidr": "10.0.0.0/16", "subnets": [{"name": "app", "cidr": "10.0.1.0/24"}]}
    ]
    data["fleets"][0]["zones"] = {"fells-1": "app"}
    plan = plan_from_data(data)
    assert entry(plan, "balancer", "front").addresses == ("203.0.113.10", "203.0.113.1", "203.0.113.2")
    assert entry(plan, "fleet", "tiles").addresses == tuple(f"10.0.1.{number}" for number in range(1, 7))


@settings(max_examples=examples(15), deadline=None, suppress_health_check=list(HealthCheck))
@given(plans_with_a_drill())
def test_every_object_has_one_entry_and_every_reference_a_user(data):
    plan = plan_from_data(data)
    entries = {(one.kind, one.name): one for one in index_of(plan)}
    assert {(kind, name) for kind, name, _ in definitions(plan)} <= set(entries)
    for reference in references(plan):
        if (reference.kind, reference.name) in entries:
            assert entries[reference.kind, reference.name].used_by


def test_a_plan_grows_in_the_order_of_the_work():
    whole = plan_data(drills=[{"name": "loss"}])
    order = ["regions", "fleets", "probes", "target_groups", "pools", "balancers", "names", "clients", "drills"]
    wanted = ["region", "fleet", "probe", "target_group", "pool", "balancer", "name", "client", "drill"]
    data = dict(EMPTY)
    for field, kind in zip(order, wanted, strict=True):
        assert next_steps(plan_from_data(data))[0].add == kind
        data[field] = whole[field]
    assert next_steps(plan_from_data(data)) == []


@pytest.mark.parametrize(
    ("place", "words"),
    [
        ("/target_groups/0/targets", "no targets registered in tiles yet: nothing can answer"),
        ("/balancers/0/listeners", "no listener on front yet: it accepts nothing"),
        ("/names/0/answers", "no answer for www.beckwater.example yet: it leads nowhere"),
    ],
)
def test_what_is_there_but_empty_is_to_be_filled(place, words):
    found = next_steps(plan_from_data(changed(plan_data(drills=[{"name": "loss"}]), place, [])))
    assert [(one.words, one.where) for one in found] == [(words, place)]
