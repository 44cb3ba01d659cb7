"""Findings and losses in a real browser: told from everywhere, remedied by a click, left with a reason, made drills."""

import re

import pytest
from playwright.sync_api import expect

from tests.ui.test_editing import plan, sender  # noqa: F401

pytestmark = pytest.mark.xdist_group("browser")


def row(page, code):
    return page.locator(f"[data-code={code}]")


@pytest.fixture
def trap(page):
    """Takes in one of the traps, whose losses are soon computed: its key, and what it is."""

    def take(name):
        key = page.request.post(f"/api/examples/trap-{name}").json()["key"]
        return key, lambda: page.request.get(f"/api/plans/{key}").json()["document"]

    return take


def test_findings_are_counted_from_everywhere_and_told_by_severity(page, plan):  # noqa: F811
    key, _ = plan
    page.goto(f"/plans/{key}/trace")
    link = page.get_by_role("link", name=re.compile("^Findings"))
    expect(page.get_by_test_id("count-risks")).to_have_text("3")
    expect(page.get_by_test_id("count-stops")).to_have_count(0)
    link.click()
    expect(page.get_by_role("region", name="risks").locator("li")).to_have_count(4)
    expect(row(page, "cascade")).to_contain_text("requests fail within an hour")
    expect(page.get_by_test_id("count-risks")).to_have_text("4")
    page.get_by_role("link", name=re.compile("^advice")).click()
    expect(page).to_have_url(re.compile("only=advice"))
    expect(page.get_by_role("region", name="risks")).to_have_count(0)
    expect(page.get_by_role("region", name="advice").locator("li")).to_have_count(2)
    page.get_by_label("Filter").fill("pool api")
    expect(page.get_by_role("region", name="advice").locator("li")).to_have_count(1)


def test_a_remedy_is_one_click_and_undo_takes_it_back(page, trap):
    key, document = trap("own-zone")
    page.goto(f"/plans/{key}/findings")
    found = row(page, "own-zone-empty")
    found.get_by_role("button", name="Let fronts prefer their own zone").click()
    expect(found).to_have_count(0)
    assert document()["target_groups"][0]["reach"] == "prefer-zone"
    page.get_by_role("button", name="Undo (Ctrl+Z)").click()
    expect(found).to_have_count(1)


def test_what_is_left_as_it_is_says_why_and_can_be_taken_up_again(page, trap):
    key, document = trap("one-rack")
    page.goto(f"/plans/{key}/findings")
    found = row(page, "one-fault-domain")
    found.get_by_role("button", name="Leave it, because …").click()
    page.keyboard.type("a trial until spring")
    page.keyboard.press("Enter")
    left = page.get_by_role("region", name="Left as they are")
    expect(left).to_contain_text("because a trial until spring")
    expect(page.get_by_text("finding one-fault-domain of maps: left as it is")).to_be_visible()
    reason = {"code": "one-fault-domain", "about": "maps", "because": "a trial until spring"}
    assert document()["accepted"] == [reason]
    left.get_by_role("button", name="Take it up again").click()
    expect(left).to_have_count(0)
    expect(found).to_have_count(1)


def test_what_stops_traffic_is_marked_where_it_is(page, trap):
    key, document = trap("empty-group")
    page.goto(f"/plans/{key}/board?select=group:maps")
    expect(page.get_by_test_id("count-stops")).to_be_visible()
    mark = page.locator('[data-mark="group:maps"]').get_by_label("stops")
    expect(mark).to_be_visible()
    here = page.get_by_test_id("findings-here")
    expect(here).to_contain_text("has no targets: whatever is sent there fails")
    here.get_by_role("button", name="register maps").click()
    expect(mark).to_have_count(0)
    assert [one["fleet"] for one in document()["target_groups"][0]["targets"]] == ["maps"]


def test_a_plan_that_cannot_be_run_is_reviewed_all_the_same(page, trap, client):
    key, _ = trap("one-rack")
    sender(client, key)([{"op": "replace", "path": "/target_groups/0/probe", "value": "redy"}])
    page.goto(f"/plans/{key}/findings")
    expect(row(page, "dangling-reference")).to_contain_text("did you mean 'ready'?")
    expect(page.get_by_role("status").filter(has_text="cannot be run as it is")).to_be_visible()
    page.get_by_role("link", name="target group maps", exact=True).first.click()
    expect(page).to_have_url(re.compile("select=group"))


def test_losses_are_ranked_and_become_drills(page, plan):  # noqa: F811
    key, ask = plan
    page.goto(f"/plans/{key}/losses")
    table = page.get_by_test_id("losses")
    expect(table.locator("tbody tr").first).to_contain_text("rule 1 of firewall edge")
    expect(page.get_by_test_id("losses-summary")).to_contain_text("9,828,000 requests fail within an hour")
    zone = table.locator("tr").filter(has=page.get_by_role("rowheader", name="zone fells-2", exact=True))
    expect(zone).to_contain_text("30,633")
    rooms = page.get_by_role("region", name="Headroom").get_by_role("listitem")
    expect(rooms.filter(has_text="zone fells-2 lost, at tiles-1")).to_contain_text("1.13 times")
    zone.get_by_role("button").click()
    expect(page).to_have_url(re.compile("/drill\\?drill=lose-fells-2-2"))
    expect(page.get_by_text("30,633 requests fail").first).to_be_visible()
    made = ask()["document"]["drills"][-1]
    assert (made["name"], made["phases"]) == ("lose-fells-2-2", "worst")
    assert made["steps"][0]["fail"]["zone"] == "fells-2"


def test_how_often_parts_fail_is_said_in_place(page, trap):
    key, document = trap("old-answers")
    page.goto(f"/plans/{key}/losses")
    year = page.get_by_role("region", name="A year")
    before = page.get_by_test_id("availability").text_content()
    box = year.get_by_label("Failures a year of a region")
    expect(box).to_have_value("0.02")
    box.fill("5")
    box.press("Enter")
    expect(page.get_by_test_id("availability")).not_to_have_text(before)
    expect(year.get_by_role("rowheader", name="region", exact=True)).to_be_visible()
    assert document()["reliability"] == {"region": {"per_year": 5, "repair_s": 7200}}
    box.fill("often")
    box.press("Enter")
    expect(box).to_have_value("5")


def test_pairs_are_a_triangle_to_walk_through(page, trap):
    key, _ = trap("one-rack")
    page.goto(f"/plans/{key}/losses?pairs=true")
    triangle, told = page.get_by_test_id("pairs"), page.get_by_test_id("pair")
    expect(triangle).to_be_visible()
    triangle.focus()
    page.keyboard.press("ArrowDown")
    expect(told).to_contain_text("requests fail within an hour")
    first = told.text_content()
    page.keyboard.press("ArrowDown")
    expect(told).not_to_have_text(first)
    expect(page.get_by_test_id("losses").locator("tbody tr").first).to_contain_text(" and ")
    triangle.focus()
    page.keyboard.press("Enter")
    expect(page).to_have_url(re.compile("/drill\\?drill=lose-"))


def test_how_much_is_enough_is_answered_and_adopted(page, trap):
    key, document = trap("one-rack")
    page.goto(f"/plans/{key}/losses")
    page.get_by_role("link", name="how much is enough").click()
    instances = page.get_by_role("region", name="Instances")
    expect(instances.locator("tbody tr").first).to_contain_text("zone fells-1 lost")
    page.get_by_label("Utilisation in per cent").fill("95")
    page.get_by_label("Failed requests at most").fill("3000")
    page.get_by_role("button", name="Size it").click()
    expect(page).to_have_url(re.compile("below=0.95.*failed=3000"))
    probes = page.get_by_role("region", name="Probes")
    adopt = probes.get_by_role("button", name="Adopt probe ready as needed")
    adopt.click()
    expect(adopt).to_have_count(0)
    assert document()["probes"][0]["interval_s"] != 10
