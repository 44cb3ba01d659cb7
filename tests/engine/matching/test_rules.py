"""Rules, table by table: the first that matches serves, and rules see the request only."""

import pytest

from northgate.engine.matching.requests import plain_host, plain_path, request_for
from northgate.engine.matching.rules import OTHERWISE, host_matches, listener_for, path_matches, rule_for
from northgate.engine.network.sources import segments_of
from northgate.plan.models.balancers import Listener
from northgate.plan.models.traffic import ClientGroup
from tests.support.plans import base_plan

RFC_3986_EXAMPLES = [
    ("/a/b/c/./../../g", "/a/g"),
    ("/mid/content=5/../6", "/mid/6"),
    ("/./g", "/g"),
    ("/../g", "/g"),
    ("/b/c/g.", "/b/c/g."),
    ("/b/c/..g", "/b/c/..g"),
    ("/b/c/./g/.", "/b/c/g/"),
    ("/b/c/g/..", "/b/c/"),
    ("/..", "/"),
    ("", "/"),
    ("/", "/"),
    ("/a//b", "/a//b"),
    ("/tiles/%2e%2e/x", "/tiles/%2e%2e/x"),
]


@pytest.mark.parametrize(("path", "plain"), RFC_3986_EXAMPLES)
def test_dot_segments_are_removed_and_nothing_is_decoded(path, plain):
    assert plain_path(path) == plain


@pytest.mark.parametrize(
    ("text", "plain"),
    [
        ("WWW.Beckwater.Example", "www.beckwater.example"),
        ("www.beckwater.example.", "www.beckwater.example"),
        ("www.beckwater.example:8443", "www.beckwater.example"),
        ("[2001:db8::1]:443", "2001:db8::1"),
        ("2001:db8::1", "2001:db8::1"),
    ],
)
def test_hosts_compare_without_case_port_and_trailing_dot(text, plain):
    assert plain_host(text) == plain


@pytest.mark.parametrize(
    ("pattern", "host", "fits"),
    [
        ("www.beckwater.example", "www.beckwater.example", True),
        ("WWW.beckwater.example.", "www.beckwater.example", True),
        ("*.beckwater.example", "www.beckwater.example", True),
        ("*.beckwater.example", "beckwater.example", False),
        ("*.beckwater.example", "a.b.beckwater.example", False),
        ("*.beckwater.example", ".beckwater.example", False),
        ("beckwater.example", "www.beckwater.example", False),
    ],
)
def test_a_star_stands_for_one_label(pattern, host, fits):
    assert host_matches(pattern, host) is fits


@pytest.mark.parametrize(
    ("pattern", "path", "fits"),
    [
        ("/tiles/*", "/tiles/7", True),
        ("/tiles/*", "/tiles/", True),
        ("/tiles/*", "/tiles", False),
        ("/tiles*", "/tiles-next", True),
        ("/tiles", "/tiles", True),
        ("/tiles", "/tiles/", False),
        ("/Tiles", "/tiles", False),
        ("*", "/anything", True),
    ],
)
def test_paths_are_exact_or_a_prefix(pattern, path, fits):
    assert path_matches(pattern, path) is fits


def listener(*rules: dict) -> Listener:
    named = [{"name": f"r{number}", "do": {"pool": "web"}, **rule} for number, rule in enumerate(rules)]
    data = {"name": "https", "protocol": "https", "port": 443, "rules": named, "otherwise": {"pool": "web"}}
    return Listener.model_validate(data)


def clients(**more) -> ClientGroup:
    base = {
        "name": "walkers",
        "rps": 1,
        "sources": 256,
        "cidr": "198.18.0.0/16",
        "calls": [{"url": "https://a.example"}],
    }
    return ClientGroup.model_validate(base | more)


URL = "https://www.beckwater.example/alerts/../tiles/7?v=2&v=3&empty="


@pytest.mark.parametrize(
    ("when", "fits"),
    [
        ({}, True),
        ({"path": ["/tiles/*"]}, True),
        ({"path": ["/alerts/*"]}, False),
        ({"host": ["gauges.beckwater.example", "*.beckwater.example"]}, True),
        ({"method": ["POST", "GET"]}, True),
        ({"method": ["get"]}, False),
        ({"header": {"X-Canary": ["1"]}}, True),
        ({"header": {"x-canary": ["2"]}}, False),
        ({"header": {"x-other": ["1"]}}, False),
        ({"query": {"v": ["3"]}}, True),
        ({"query": {"v": ["2"], "empty": [""]}}, True),
        ({"query": {"v": ["2"], "w": ["1"]}}, False),
        ({"host": ["www.beckwater.example"], "path": ["/alerts/*"]}, False),
    ],
)
def test_all_given_fields_must_match_and_a_list_means_one_of(when, fits):
    request = request_for(URL, headers={"X-CANARY": "1"})
    expected = 0 if fits else OTHERWISE
    assert rule_shares(listener({"when": when}), request, clients()) == [(expected, 1.0)]


def test_the_first_matching_rule_serves():
    both = listener({"when": {"path": ["/x"]}}, {"when": {"path": ["/tiles/*"]}}, {})
    assert rule_shares(both, request_for(URL), clients()) == [(1, 1.0)]


def test_a_source_rule_takes_the_share_of_the_addresses_it_names():
    """Sources stand 256 addresses apart in the /16: a /17 holds half of them, a /26 at its foot one."""
    rules = listener({"when": {"source": ["198.18.0.0/26"]}}, {"when": {"source": ["198.18.0.0/17"]}})
    assert rule_shares(rules, request_for(URL), clients()) == [(0, 1 / 256), (1, 127 / 256), (OTHERWISE, 0.5)]


def test_more_sources_than_addresses_go_round_and_round():
    rules = listener({"when": {"source": ["198.18.0.0/31"]}})
    few = clients(cidr="198.18.0.0/30", sources=10)
    assert rule_shares(rules, request_for(URL), few) == [(0, 0.6), (OTHERWISE, pytest.approx(0.4))]


def test_source_rules_of_the_other_address_family_take_nobody():
    rules = listener({"when": {"source": ["2001:db8::/32"]}})
    assert rule_shares(rules, request_for(URL), clients()) == [(OTHERWISE, 1.0)]
    six = clients(cidr="2001:db8:5::/48")
    assert rule_shares(rules, request_for(URL), six) == [(0, 1.0)]


def test_a_listener_takes_its_protocol_and_port():
    listeners = [listener(), listener().model_copy(update={"protocol": "http", "port": 80})]
    balancer = base_plan().balancers[0].model_copy(update={"listeners": listeners})
    for url, found in (("https://a.example", 0), ("http://a.example", 1), ("https://a.example:80", None)):
        assert listener_for(balancer, request_for(url)) == found


@pytest.mark.parametrize(
    ("protocol", "taken"),
    [("tcp", ["tcp", "http", "https", "tls"]), ("tls", ["https", "tls"]), ("udp", ["udp"])],
)
def test_at_layer_4_the_bytes_alone_matter(protocol, taken):
    one = listener().model_copy(update={"protocol": protocol, "port": 5000})
    balancer = base_plan().balancers[0].model_copy(update={"layer": 4, "listeners": [one]})
    schemes = ("http", "https", "tcp", "tls", "udp")
    got = [scheme for scheme in schemes if listener_for(balancer, request_for(f"{scheme}://a.example:5000")) == 0]
    assert sorted(got) == sorted(taken)


def rule_shares(one, request, client):
    """Which rules take a client group's request: (rule, share of its sources), in order of the rules."""
    plan = base_plan()
    balancer = plan.balancers[0].model_copy(update={"listeners": [one]})
    segments = segments_of(plan.model_copy(update={"balancers": [balancer], "clients": [client]}))[:-1]
    found = {}
    for segment in segments:
        rule = rule_for(one, request, segment.span)
        found[rule] = found.get(rule, 0) + segment.share
    return sorted(found.items(), key=lambda item: (item[0] == OTHERWISE, item[0]))
