"""The Trace view in a real browser: from a form to a ladder, from the ladder to the board, and many as beads."""

import json
import re

import pytest
from playwright.sync_api import expect

from tests.ui.demo import DEMO

pytestmark = pytest.mark.xdist_group("browser")

ALERTS = "https://www.beckwater.example/alerts/near"


@pytest.fixture
def plan(client):
    """A fresh copy of the demo: its key."""
    return client.post("/api/plans", content=DEMO).json()["key"]


def kinds(page):
    return page.get_by_test_id("ladder").locator("li[data-hop]").evaluate_all("all => all.map(one => one.dataset.hop)")


def test_a_request_goes_down_the_ladder_and_lights_its_way_on_the_board(page):
    page.goto("/plans/beckwater/board")
    page.get_by_role("link", name="Trace").click()
    expect(page.get_by_test_id("ending")).to_have_text(re.compile("200 after"))
    assert kinds(page) == [
        "name", "address", "route", "firewall", "listener", "rule", "pool", "group", "target", "route", "firewall",
        "firewall", "service",
    ]  # fmt: skip
    page.get_by_role("button", name=re.compile("Unfold the candidates of target")).click()
    expect(page.locator("[data-hop=target] tr[data-chosen=true]")).to_contain_text("tiles-1")
    page.get_by_role("link", name="Show on the board").click()
    expect(page.get_by_test_id("lit-path")).to_be_visible()
    page.go_back()
    page.get_by_role("link", name="app").click()
    expect(page.get_by_test_id("inspector").get_by_role("heading", level=2)).to_have_text("app")


def test_the_form_sends_what_it_says_and_the_address_bar_keeps_it(page):
    page.goto("/plans/beckwater/trace")
    page.get_by_label("From").select_option("townsfolk")
    page.get_by_label("To", exact=True).fill("http://www.beckwater.example/")
    page.get_by_label("To", exact=True).press("Enter")
    expect(page.get_by_test_id("ladder").locator("[data-hop=name]")).to_have_count(2)
    expect(page.get_by_test_id("ladder")).to_contain_text("redirect 301")
    page.get_by_role("button", name="header").click()
    page.get_by_label("Headers, one a line").fill("x-canary: 1")
    page.get_by_label("Moment").select_option("lose-fells-2")
    page.get_by_label("Second of the drill").fill("89")
    page.get_by_role("button", name="Send once").click()
    expect(page.get_by_test_id("ladder")).to_contain_text("left the address 24 s ago")
    page.reload()
    expect(page.get_by_test_id("ladder")).to_contain_text("left the address 24 s ago")
    expect(page.get_by_label("Headers, one a line")).to_have_value("x-canary: 1")
    page.get_by_label("To", exact=True).fill("https://ww.beckwater.example/")
    page.get_by_role("button", name="Send once").click()
    expect(page.get_by_test_id("ladder")).to_contain_text("did you mean www.beckwater.example".replace("www", "'www"))


def test_many_requests_are_beads_and_each_can_be_opened(page):
    page.goto("/plans/beckwater/trace?drill=lose-fells-2&at=89")
    page.get_by_role("radio", name="100", exact=True).click()
    beads = page.get_by_test_id("beads").locator("button")
    expect(beads).to_have_count(100)
    expect(page.get_by_test_id("tally")).to_have_text("80 answered · 20 failed · expected 21 % to fail")
    page.get_by_role("button", name=re.compile("timed out")).first.click()
    expect(page.get_by_test_id("ending")).to_have_text(re.compile("504 after 3.0"))
    expect(page.locator("[data-hop=service]")).to_contain_text("zone fells-2 is lost since 1:00 · gave up after 3 s")
    expect(page.locator("[data-hop=target] tr[data-chosen=true]")).to_contain_text("silent")
    page.get_by_role("button", name=re.compile("timed out")).first.press("ArrowRight")
    assert page.evaluate("document.activeElement.ariaLabel") != ""
    page.get_by_label("new source each").check()
    expect(page.get_by_text("100 times, new source each")).to_be_visible()


def test_a_missing_rule_is_added_with_one_click_and_undone(page, plan):
    page.goto(f"/plans/{plan}/trace?client=walkers&url={ALERTS}")
    expect(page.get_by_test_id("ending")).to_have_text(re.compile("200"))
    page.request.patch(
        f"/api/plans/{plan}",
        data=json.dumps(
            [
                {"op": "remove", "path": "/firewalls/1/allow_in/1"},
                {"op": "replace", "path": "/target_groups/2/probe", "value": None},
            ]
        ),
        headers={"if-match": "1", "content-type": "application/json"},
    )
    page.reload()
    expect(page.get_by_test_id("ending")).to_have_text(re.compile("504 after 3.0"))
    page.get_by_role("button", name="Let app take tcp 8081 from balancer:fells-front").click()
    expect(page.get_by_test_id("ending")).to_have_text(re.compile("200"))
    page.keyboard.press("Control+z")
    expect(page.get_by_test_id("ending")).to_have_text(re.compile("504"))


def test_t_traces_from_where_one_is_on_the_board(page):
    page.goto("/plans/beckwater/board?drill=lose-fells-2&at=89")
    page.locator("[data-part='client:townsfolk']").focus()
    page.keyboard.press("t")
    expect(page).to_have_url(re.compile(r"/trace\?.*client=townsfolk"))
    expect(page.get_by_test_id("ladder")).to_contain_text("left the address 24 s ago")
    page.go_back()
    page.locator("[data-part='berth:tiles/tiles-8']").focus()
    page.keyboard.press("t")
    expect(page.get_by_text("tiles-8 is believed out by fells-front in fells-1: the probe fails")).to_be_visible()
    assert kinds(page)[0] == "probe"
    page.get_by_label("From the front").select_option("fells-front/fells-3")
    page.get_by_role("button", name="Send once").click()
    expect(page.get_by_text("believed out by fells-front in fells-3")).to_be_visible()


def test_what_people_ask_is_answered_and_changed_with_one_click(page, plan):
    page.goto(f"/plans/{plan}/trace?client=walkers")
    questions = page.get_by_role("region", name="Questions")
    expect(questions).to_contain_text("Why does refreshing take turns?")
    questions.get_by_role("button", name="Keep sessions by cookie").first.click()
    expect(questions).to_contain_text("Why does refreshing always land on the same target?")
