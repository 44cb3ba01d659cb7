"""A board with very many targets: folded, filtered, never in another order; and internal balancers on it."""

import re

import pytest
from playwright.sync_api import expect

from northgate.plan.generated import generated_plan
from northgate.plan.writing import plan_as_json
from tests.plan.test_reading import EXAMPLE

pytestmark = pytest.mark.xdist_group("browser")


@pytest.fixture(scope="module")
def large(outside):
    """A plan with 2,000 targets in 12 zones: its key."""
    plan = generated_plan(targets=2000, zones=12, groups=40, rules=300)
    key = outside.post("/api/plans", content=plan_as_json(plan)).json()["key"]
    yield key
    outside.delete(f"/api/plans/{key}")


def columns(page):
    return page.locator("[data-zone]").evaluate_all("all => all.map(one => one.dataset.zone)")


def rows(page):
    return page.locator("[data-part^='group:']").evaluate_all("all => all.map(one => one.dataset.part)")


def test_regions_fold_to_columns_and_unfold(page, large):
    page.goto(f"/plans/{large}/board")
    expect(page.locator("[data-zone=r1]")).to_be_visible()
    assert columns(page) == ["r1", "r2", "r3", "r4"]
    state = page.request.get(f"/api/plans/{large}/state?groups=").json()
    cell = next(one for one in state["region_cells"] if (one["group"], one["zone"]) == ("group-1", "r1"))
    words = f"{cell['in_use']}/{cell['targets']} · {round(cell['peak_utilisation'] * 100)} %"
    expect(page.locator("[data-zone=r1]").get_by_text(words).first).to_be_visible()
    page.get_by_role("button", name="Unfold region r1").click()
    expect(page.locator("[data-zone=r1-z2]")).to_be_visible()
    assert columns(page) == ["r1-z1", "r1-z2", "r1-z3", "r2", "r3", "r4"]
    expect(page).to_have_url(re.compile("open=r1"))


def test_the_selection_expands_its_row(page, large):
    page.goto(f"/plans/{large}/board?open=r1&select=group%3Agroup-7")
    expect(page.locator("[data-part^='berth:group-7/']").first).to_be_visible()
    assert page.locator("[data-part^='berth:']").count() == 14, "those of the open region, and no others"


def test_order_stays_while_scrubbing_and_filters_keep_what_is_asked(page, large):
    page.goto(f"/plans/{large}/board?drill=lose-first-zone&at=0")
    expect(page.locator("[data-part='group:group-1']")).to_be_visible()
    before = rows(page)
    assert before == [f"group:group-{number}" for number in range(1, 41)]
    for second in (61, 80, 300):
        page.goto(f"/plans/{large}/board?drill=lose-first-zone&at={second}")
        expect(page.get_by_test_id("banner")).to_contain_text(f"Second {second}")
        # The banner may be there before the board is.
        expect(page.locator("[data-part='group:group-1']")).to_be_visible()
        assert rows(page) == before
    reached = next(one for one in page.request.get(f"/api/plans/{large}/state?groups=").json()["clients"])["reaches"]
    page.get_by_label("Rows shown").select_option("client:clients-1")
    expect(page.locator("[data-part^='group:']")).to_have_count(len(reached))
    page.get_by_label("Rows shown").select_option("")
    page.goto(f"/plans/{large}/board?only=touched")
    expect(page.locator("[data-zone=r1]")).to_be_visible()
    assert rows(page) == [], "nothing is broken now"


def test_headings_stay_in_sight(page, large):
    page.goto(f"/plans/{large}/board")
    expect(page.locator("[data-zone=r1]")).to_be_visible()
    page.get_by_test_id("board").evaluate("element => { element.scrollTop = 600; }")
    expect(page.get_by_test_id("board").locator(".sticky")).to_contain_text("r4")


def test_inspector_and_time_line_fold_away(page):
    page.goto("/plans/beckwater/board")
    width = page.get_by_test_id("board").bounding_box()["width"]
    page.get_by_role("button", name="Fold away the inspector").click()
    expect(page.get_by_test_id("inspector")).to_be_hidden()
    assert page.get_by_test_id("board").bounding_box()["width"] > width + 250
    page.get_by_role("button", name="Fold away the time line").click()
    expect(page.get_by_test_id("timeline")).to_have_count(0)
    page.get_by_role("button", name="Show the time line").click()
    expect(page.get_by_test_id("timeline")).to_be_visible()


def test_an_internal_balancer_has_a_lane_of_its_own_and_what_stands_behind_it(page, client):
    key = client.post("/api/plans", content=(EXAMPLE.parent / "inner.plan.yaml").read_text()).json()["key"]
    page.goto(f"/plans/{key}/board?select=balancer%3Astore-front")
    expect(page.get_by_test_id("inspector")).to_contain_text("internal, layer 7")
    boxes = [page.locator(f"[data-part='balancer:{name}']").bounding_box() for name in ("levels-front", "store-front")]
    assert boxes[1]["y"] > boxes[0]["y"] + 40
    state = client.get(f"/api/plans/{key}/state").json()
    store = next(one for one in state["groups"] if one["name"] == "level-store")
    assert store["rps"] == pytest.approx(450)
    expect(page.locator("[data-part='berth:level-store/store-1']")).to_have_attribute(
        "aria-label", re.compile("30 % of 500/s")
    )
