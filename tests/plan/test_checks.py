"""What contradicts itself is told at its place, and the demo does nowhere."""

import pytest

from northgate.plan import plan_from_data, read_plan
from northgate.plan.checks import contradictions
from northgate.plan.generated import generated_plan
from northgate.plan.proposal import MachineRow, propose
from tests.plan.test_reading import EXAMPLE
from tests.support.plans import changed, plan_data

NETWORK = {"name": "net", "region": "fells", "cidr": "10.0.0.0/16"}


def subnets(*parts):
    return {"networks": [NETWORK | {"subnets": list(parts)}]}


def first(**more):
    return {"name": "first", "cidr": "10.0.1.0/24"} | more


def one(**more):
    return {"instances": [{"name": "single", "zone": "fells-1", "subnet": "first"} | more]}


def listener(**more):
    return {"name": "web", "protocol": "http", "port": 80, "otherwise": {"pool": "web"}} | more


CASES = {
    "port": (
        {"/balancers/0/listeners": [listener(), listener(name="more")]},
        "/balancers/0/listeners/1/port", "both take port 80: more never gets a request",
    ),
    "certificate": (
        {"/balancers/0/listeners": [listener(protocol="https", port=443)]},
        "/balancers/0/listeners/0/certificate", "speaks https without a certificate",
    ),
    "outside": (
        subnets(first(cidr="10.1.1.0/24")), "/networks/0/subnets/0/cidr", "first, 10.1.1.0/24, leaves its network net",
    ),
    "version": (subnets(first(cidr="2001:db8::/64")), "/networks/0/subnets/0/cidr", "leaves its network"),
    "overlap": (
        subnets(first(), {"name": "second", "cidr": "10.0.0.0/20"}),
        "/networks/0/subnets/1/cidr", "second, 10.0.0.0/20, overlaps first, 10.0.1.0/24",
    ),
    "address twice": (
        {"instances": [{"name": name, "zone": "fells-1", "address": "10.0.1.5"} for name in ("a", "b")]},
        "/instances/1/address", "a and b both have the address 10.0.1.5",
    ),
    "subnet of another zone": (
        subnets(first(zone="fells-2")) | one(), "/instances/0/subnet",
        "single in fells-1 has the subnet first, which is in fells-2",
    ),
    "address outside its subnet": (
        subnets(first()) | one(address="10.0.2.5"), "/instances/0/address", "10.0.2.5 of single is not in its subnet",
    ),
    "names": (
        {"names": [{"name": name, "answers": [{"balancer": "front"}]} for name in ("a.example", "A.example.")]},
        "/names/1/name", "A.example. and a.example are one name",
    ),
    "hosts": (
        {"/target_groups/0/targets": [{"host": "partner.beckwater.example"}],
         "names": [{"name": "a.example", "answers": [{"host": "Partner.beckwater.example"}]}]},
        "/names/0/answers/0/host", "Partner.beckwater.example and partner.beckwater.example are one host",
    ),
    "replaced": (
        {"platform": {"replace_only": ["balancer.layer", "balancer.exposur"]}}, "/platform/replace_only/1",
        "no field is called 'balancer.exposur'; did you mean 'balancer.exposure'?",
    ),
    "scale": (
        {"/fleets/0/scale": {"min": 1, "max": 2, "target_utilisation": 0.6}, "/fleets/0/count": 3},
        "/fleets/0/count", "fleet tiles counts 3, but scales from 1 to 2",
    ),
    "cookie": (
        {"/balancers/0/listeners": [listener(protocol="tcp")], "/balancers/0/layer": 4,
         "/target_groups/0/affinity": {"by": "cookie"}},
        "/target_groups/0/affinity/by", "at layer 4, never see",
    ),
}  # fmt: skip


def made(changes):
    """The small plan without what it has to be told of, changed at places and in whole fields."""
    data = plan_data(names=[], clients=[])
    data["balancers"][0]["listeners"] = [listener()]
    for place, value in changes.items():
        data = changed(data, place, value) if place.startswith("/") else data | {place: value}
    return plan_from_data(data)


@pytest.mark.parametrize("about", CASES)
def test_a_contradiction_is_told_at_its_place(about):
    changes, where, says = CASES[about]
    (problem,) = contradictions(made(changes))
    assert problem.where == where
    assert says in problem.message


@pytest.mark.parametrize(
    "changes",
    [
        {},
        {"/balancers/0/listeners": [listener(port=53), listener(name="more", port=54)]},
        subnets(first(), {"name": "second", "cidr": "10.0.2.0/24"}) | one(address="10.0.1.9"),
        subnets(first(zone="fells-1")) | one(),
        {"/target_groups/0/affinity": {"by": "cookie"}},
    ],
)
def test_what_fits_together_is_not_told(changes):
    assert contradictions(made(changes)) == []


@pytest.mark.parametrize("example", sorted(EXAMPLE.parent.glob("*.plan.yaml")), ids=lambda path: path.name)
def test_what_ships_contradicts_itself_nowhere(example):
    assert contradictions(read_plan(example)) == []


def test_what_is_made_contradicts_itself_nowhere():
    rows = [MachineRow(name=f"map-{number}", zone="vale-1") for number in range(3)]
    for url in ("https://maps.beckwater.example/", "http://maps.beckwater.example:8080/"):
        assert contradictions(propose("vale", "", {"vale": ["vale-1"]}, rows, url)) == []
    assert contradictions(generated_plan(targets=20, zones=2)) == []
