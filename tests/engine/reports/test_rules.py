"""The table of a listener's rules: rates, shadows, and who takes a URL."""

import pytest

from northgate.engine.base.errors import CannotRun
from northgate.engine.drill import Losing
from northgate.engine.drill.run import undisturbed
from northgate.engine.matching.shadows import covers
from northgate.engine.reports.rules import listener_rules
from northgate.engine.reports.whatif import zone_losses
from northgate.plan.models.balancers import When
from tests.support.plans import changed, network_of, plan_data

RULES = [
    {"name": "maps", "when": {"path": ["/tiles/*"]}, "do": {"pool": "web"}},
    {"name": "one-map", "when": {"path": ["/tiles/7"]}, "do": {"pool": "web"}},
    {"name": "here", "when": {"source": ["198.18.0.0/17"]}, "do": {"respond": {"status": 204}}},
]


def table(url=None, rules=RULES, **more):
    data = changed(plan_data(), "/balancers/0/listeners/0/rules", rules)
    data["clients"][0]["calls"].append({"url": "https://www.beckwater.example/about", "share": 3})
    return listener_rules(undisturbed(network_of(data)), "front", "https", url, **more)


def test_rates_follow_the_rules_and_sources():
    rows = {row.name: row.rps for row in table().rows}
    assert rows == pytest.approx({"maps": 150, "one-map": 0, "here": 225, "otherwise": 225})


def test_a_rule_that_is_never_reached_names_what_shadows_it():
    assert [row.shadowed_by for row in table().rows] == [None, "maps", None, None]


@pytest.mark.parametrize(
    ("url", "row", "because"),
    [
        (
            "https://www.beckwater.example/tiles/7",
            0,
            "rule 1 of 3 is the first that matches GET www.beckwater.example/tiles/7",
        ),
        ("www.beckwater.example/tiles/../about", 3, "no rule matches GET www.beckwater.example/about"),
        ("/tiles/8", 0, "rule 1 of 3 is the first that matches GET www.beckwater.example/tiles/8"),
        (None, None, None),
    ],
)
def test_a_url_lights_up_the_rule_that_takes_it(url, row, because):
    found = table(url)
    assert [index for index, one in enumerate(found.rows) if one.takes] == ([] if row is None else [row])
    assert found.because == because


@pytest.mark.parametrize(
    ("wide", "narrow", "covered"),
    [
        ({}, {"path": ["/x"]}, True),
        ({"path": ["/x"]}, {}, False),
        ({"path": ["/a*"]}, {"path": ["/ab*", "/a"]}, True),
        ({"path": ["/ab*"]}, {"path": ["/a*"]}, False),
        ({"host": ["*.beckwater.example"]}, {"host": ["www.beckwater.example"]}, True),
        ({"host": ["www.beckwater.example"]}, {"host": ["*.beckwater.example"]}, False),
        ({"method": ["GET", "POST"]}, {"method": ["GET"]}, True),
        ({"header": {"x": ["1", "2"]}}, {"header": {"x": ["1"]}, "path": ["/x"]}, True),
        ({"header": {"x": ["1"]}}, {"header": {"y": ["1"]}}, False),
        ({"query": {"v": ["1"]}}, {"query": {"v": ["1", "2"]}}, False),
    ],
)
def test_one_condition_covers_another_when_it_matches_all_that_the_other_does(wide, narrow, covered):
    assert covers(When.model_validate(wide), When.model_validate(narrow)) is covered


@pytest.mark.parametrize("half", ["https:/alerts", "https://", "https:///alerts", "http:alerts"])
def test_half_a_url_is_refused_with_what_is_missing(half):
    with pytest.raises(CannotRun, match=r"is not a URL such as https?://www"):
        table(half)


def test_an_unknown_listener_is_refused():
    with pytest.raises(CannotRun, match="there is no listener 'http' of 'front'"):
        listener_rules(undisturbed(network_of(plan_data())), "front", "http", None)


def test_the_loss_of_each_zone_leaves_the_others_its_load():
    losses = zone_losses(Losing(network_of(plan_data())))
    assert [loss.zone for loss in losses] == ["fells-1", "fells-2", "fells-3"]
    assert [loss.peak_utilisation["tiles"] for loss in losses] == pytest.approx([0.15] * 3)
    assert all(loss.failed_rps == 0 for loss in losses)
