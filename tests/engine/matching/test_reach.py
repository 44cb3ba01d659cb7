"""Who reaches whom: routes, and firewalls at both ends, with the rule that decides and the one that is missing."""

import jsonpatch
import pytest
from msgspec.structs import replace

from northgate.engine.matching.reach import End, checks, passes
from northgate.engine.matching.spans import narrowest, span_of
from northgate.plan import plan_from_data

NETWORKS = [
    {"name": "fells-net", "region": "fells", "cidr": "10.20.0.0/16", "peers": ["coast-net"]},
    {"name": "coast-net", "region": "coast", "cidr": "10.30.0.0/16"},
    {"name": "far-net", "region": "coast", "cidr": "10.40.0.0/16"},
]
FIREWALLS = [
    {
        "name": "app",
        "allow_in": [
            {"protocol": "tcp", "ports": ["8080", "9000-9009"], "from": "balancer:front"},
            {"protocol": "tcp", "ports": ["22"], "from": "10.20.0.0/24"},
            {"protocol": "any", "ports": ["53"], "from": "firewall:edge"},
            {"protocol": "tcp", "ports": ["443"], "from": "2001:db8::/32"},
        ],
    },
    {"name": "edge", "allow_in": [], "allow_out": [{"protocol": "tcp", "ports": ["8080"], "to": "firewall:app"}]},
    {"name": "shut", "allow_out": []},
]
PLAN_DATA = {
    "northgate": 1, "name": "small",
    "regions": [{"name": "fells", "zones": ["fells-1"]}, {"name": "coast", "zones": ["coast-1"]}],
    "networks": NETWORKS, "firewalls": FIREWALLS,
}  # fmt: skip
PLAN = plan_from_data(PLAN_DATA)
FRONT = End("front in fells-1", "fells-net", span=span_of("10.20.0.0/24"), balancer="front")
APP = End("tiles-1", "fells-net", span=span_of("10.20.11.11/32"), firewall="app")
WALKER = End("walkers", outside=True, span=span_of("198.18.0.1/32"))


def allowed(source, to, protocol="tcp", port=8080, **more):
    return passes(checks(PLAN, source, to, protocol, port, **more))


@pytest.mark.parametrize(
    ("source", "port", "protocol", "expected"),
    [
        (FRONT, 8080, "tcp", True),
        (FRONT, 9005, "tcp", True),
        (FRONT, 9010, "tcp", False),
        (FRONT, 8080, "udp", False),
        (FRONT, 22, "tcp", True),
        (End("other", "fells-net", span=span_of("10.20.0.0/23")), 22, "tcp", False),
        (End("no address known", "fells-net"), 22, "tcp", False),
        (End("desk", "fells-net", firewall="edge"), 53, "udp", False),
        (End("resolver", "fells-net", firewall="edge"), 8080, "tcp", False),
        (End("walker of the sixth", "fells-net", span=span_of("2001:db8:7::1/128")), 443, "tcp", True),
    ],
)
def test_the_destinations_firewall_lets_in_what_a_rule_names(source, port, protocol, expected):
    assert allowed(source, APP, protocol, port) is expected


def test_the_sources_firewall_lets_out_what_a_rule_names():
    held = End("desk", "fells-net", firewall="edge")
    found = checks(PLAN, held, APP, "tcp", 8080)
    assert [one.ok for one in found] == [True, True, False]
    assert found[1].because == "rule 1 lets out tcp 8080 to firewall:app"
    assert not allowed(held, End("other", "fells-net"), "tcp", 8080)
    assert not allowed(End("desk", "fells-net", firewall="shut"), End("other", "fells-net"))


def test_an_answer_passes_by_itself():
    """Stateful: nothing is asked of the destination's way out, nor of the source's way in."""
    assert allowed(FRONT, End("kept in", "fells-net", firewall=None))
    plan = plan_from_data(
        {
            **PLAN_DATA,
            "firewalls": [
                *FIREWALLS,
                {"name": "mute", "allow_in": [{"ports": ["80"], "from": "any"}], "allow_out": []},
            ],
        }
    )
    assert passes(checks(plan, FRONT, End("mute one", "fells-net", firewall="mute"), "tcp", 80))


@pytest.mark.parametrize(
    ("source", "to", "expected", "because"),
    [
        ("fells-net", "fells-net", True, "both stand in fells-net"),
        ("fells-net", "coast-net", True, "fells-net and coast-net are peers"),
        ("coast-net", "fells-net", True, "coast-net and fells-net are peers"),
        ("coast-net", "far-net", False, "coast-net and far-net are not peers"),
        (None, "far-net", True, "no network is drawn for here: nothing stands in its way"),
    ],
)
def test_networks_are_joined_by_peering(source, to, expected, because):
    route = checks(PLAN, End("here", source), End("there", to), "tcp", 80)[0]
    assert (route.ok, route.because) == (expected, because)


def test_the_public_internet_reaches_what_is_public():
    assert allowed(WALKER, End("front", "fells-net", public=True))
    inner = checks(PLAN, WALKER, End("inner", "fells-net", where="/balancers/1/exposure"), "tcp", 80)[0]
    assert (inner.ok, inner.where) == (False, "/balancers/1/exposure")
    assert allowed(APP, End("a page elsewhere", outside=True))
    assert allowed(End("far", "far-net"), End("front", "fells-net", public=True))


def test_what_the_target_sees_as_the_source_decides():
    assert not allowed(FRONT, APP, seen=WALKER), "the client's address is no balancer's"
    assert allowed(FRONT, APP, port=22, seen=End("desk", "fells-net", span=span_of("10.20.0.9/32")))


def test_a_missing_rule_is_named_with_the_smallest_that_would_do():
    for source, word in (
        (replace(WALKER, whole="198.18.0.0/16"), "198.18.0.0/16"),
        (WALKER, "any"),
        (FRONT, "balancer:front"),
        (End("desk", "fells-net", firewall="edge"), "firewall:edge"),
    ):
        last = checks(PLAN, source, APP, "udp", 7000)[-1]
        assert not last.ok
        assert last.remedy.patch[0]["value"] == {"protocol": "udp", "ports": ["7000"], "from": word}
        mended = plan_from_data(jsonpatch.apply_patch(PLAN_DATA, list(last.remedy.patch)))
        assert checks(mended, source, APP, "udp", 7000)[-1].ok
    route = checks(PLAN, End("here", "coast-net"), End("there", "far-net"), "tcp", 80)[0]
    mended = plan_from_data(jsonpatch.apply_patch(_with_peers(PLAN_DATA), list(route.remedy.patch)))
    assert checks(mended, End("here", "coast-net"), End("there", "far-net"), "tcp", 80)[0].ok


def _with_peers(data):
    return {**data, "networks": [{"peers": [], **one} for one in data["networks"]]}


def test_at_a_public_front_the_missing_rule_lets_in_everybody():
    edge = replace(FRONT, public=True, firewall="app")
    walker = replace(WALKER, whole="198.18.0.0/16")
    last = checks(PLAN, walker, edge, "udp", 7000)[-1]
    assert last.remedy.patch[0]["value"]["from"] == "any"


def test_what_else_is_needed_is_allowed_along_with_it():
    walker = replace(WALKER, whole="198.18.0.0/16")
    probe, known = (FRONT, "tcp", 7001), (FRONT, "tcp", 8080)
    last = checks(PLAN, FRONT, APP, "udp", 7000, seen=walker, also=[probe, known])[-1]
    assert last.remedy.words == "let app take udp 7000 from 198.18.0.0/16 and tcp 7001 from balancer:front"
    mended = plan_from_data(jsonpatch.apply_patch(PLAN_DATA, list(last.remedy.patch)))
    assert checks(mended, FRONT, APP, "udp", 7000, seen=walker)[-1].ok
    assert checks(mended, FRONT, APP, "tcp", 7001)[-1].ok


def test_a_rule_that_is_gone_allows_nothing_and_says_so():
    found = checks(PLAN, FRONT, APP, "tcp", 8080, gone={("app", 0)})
    assert not passes(found)
    assert found[-1].because.endswith("(rule 1 is gone)")
    assert found[-1].remedy is None


def test_the_narrowest_network_of_a_span():
    assert narrowest(span_of("10.20.11.11/32")) == "10.20.11.11/32"
    assert narrowest((4, span_of("10.20.0.0/24")[1], span_of("10.20.1.0/24")[2])) == "10.20.0.0/23"
    assert narrowest(span_of("2001:db8::/48")) == "2001:db8::/48"
