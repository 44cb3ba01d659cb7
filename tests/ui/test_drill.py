"""The Drill view in a real browser: its sentence, its charts, its levers, and its script edited in place."""

import json
import re

import pytest
from playwright.sync_api import expect

from tests.support.plans import changed, plan_data
from tests.ui.demo import DEMO

pytestmark = pytest.mark.xdist_group("drawing")


@pytest.fixture
def plan(client):
    """A fresh copy of the demo: its key, and its drills as the server keeps them."""
    key = client.post("/api/plans", content=DEMO).json()["key"]
    return key, lambda: client.get(f"/api/plans/{key}").json()["document"]["drills"]


def test_a_drill_says_what_it_comes_to_and_the_cursor_moves_everything(page):
    page.goto("/plans/beckwater/board")
    page.get_by_role("link", name="Drill", exact=True).click()
    expect(page.get_by_test_id("summary")).to_have_text(
        re.compile("25,990 requests fail over 33 s; 84 % wait for verdicts")
    )
    expect(page.get_by_text("Held 2 of 3 expectations")).to_be_visible()
    expect(page.get_by_test_id("strip").first).to_contain_text("blind · 25–35 possible")
    page.get_by_role("button", name=re.compile("the fells-2 front leaves")).click()
    expect(page).to_have_url(re.compile("at=65"))
    page.locator("body").press(".")
    expect(page).to_have_url(re.compile(r"at=87\.5"))
    page.get_by_role("link", name="Second 88 on the board").click()
    expect(page.get_by_text("of “lose fells-2 at peak”")).to_be_visible()


def test_levers_are_worked_out_when_asked_and_applied_with_a_click(page, plan):
    key, _ = plan
    page.goto(f"/plans/{key}/drill?drill=tiles-8-crashes")
    page.get_by_role("button", name="Work it out").click()
    lever = page.get_by_role("button", name=re.compile("probe ready: every 5 s instead of 10"))
    expect(lever).to_contain_text("1,330 fewer fail")
    before = page.get_by_test_id("summary").inner_text()
    lever.click()
    expect(page.get_by_test_id("summary")).not_to_have_text(before)
    expect(page.get_by_test_id("summary")).to_contain_text("1,330 requests fail")
    page.keyboard.press("Control+z")
    expect(page.get_by_test_id("summary")).to_have_text(before)


def test_the_script_is_edited_in_place(page, plan):
    key, drills = plan
    page.goto(f"/plans/{key}/drill?drill=lose-fells-2")
    flag = page.get_by_role("slider", name="fells-2 lost: at second")
    flag.press("ArrowRight")
    expect(page.get_by_role("slider", name="fells-2 lost: at second")).to_have_attribute("aria-valuenow", "65")
    box = page.get_by_role("slider", name="fells-2 lost: at second").locator("rect").bounding_box()
    page.mouse.move(box["x"] + 3, box["y"] + 8)
    page.mouse.down()
    page.mouse.move(box["x"] + 53, box["y"] + 8, steps=4)
    page.mouse.up()
    expect(page.get_by_role("slider", name="fells-2 lost: at second")).not_to_have_attribute("aria-valuenow", "65")
    assert drills()[0]["steps"][0]["at_s"] > 65
    page.get_by_label(re.compile("Add a fault at")).select_option(label="tiles-next-1 becomes twenty times slower")
    expect(page.get_by_role("slider", name="tiles-next-1 lost: at second")).to_be_visible()
    assert [step["at_s"] for step in drills()[0]["steps"]][2:] == [60, 180]


def test_charts_can_be_kept(page):
    page.goto("/plans/beckwater/drill?drill=alerts-cut-off")
    expect(page.get_by_test_id("charts")).to_contain_text("none healthy")
    # Charts move down as long as something comes above them: a click may begin on a button and end beside it.
    page.wait_for_load_state("networkidle")
    with page.expect_download() as started:
        page.get_by_role("button", name="Download as CSV").click()
    assert started.value.path().read_text().startswith("t_s,served fells-1 /s")
    with page.expect_download() as started:
        page.get_by_role("button", name="Download as SVG").click()
    picture = started.value.path().read_text()
    assert picture.startswith("<svg")
    assert "var(--" not in picture


def test_every_chart_explains_itself_under_the_pointer_and_with_the_focus(page):
    page.goto("/plans/beckwater/drill?drill=lose-fells-2&at=70")
    readout = page.get_by_test_id("readout")
    expect(readout).to_contain_text("Served at 1:10: 2,730/s asked")
    charts = page.get_by_test_id("charts")
    charts.get_by_role("img", name=re.compile("^Utilisation")).focus()
    expect(readout).to_contain_text(re.compile(r"busiest \S+: offered [\d.,]+/s / capacity \d+/s = \d+ %"))
    # Charts move down as long as something comes above them.
    page.wait_for_load_state("networkidle")
    strip = charts.locator("[data-target=tiles-7]").bounding_box()
    page.mouse.move(strip["x"] + strip["width"] * 0.6, strip["y"] + 10)
    expect(readout).to_contain_text("2 × 10 between probes + 5 to give up or answer: 25 to 35 s possible")


def test_latency_is_drawn_up_to_what_is_read(page):
    """Its peak is just before an event, where backlogs have grown since the last one."""
    page.goto("/plans/beckwater/drill?drill=lose-fells")
    peak_ms = page.request.get("/api/plans/beckwater/drills/lose-fells").json()["readings"]["peak_latency_ms"]
    expect(page.get_by_test_id("charts")).to_contain_text(f"mean, up to {peak_ms / 1000:.2f} s")


def test_the_earliest_and_the_latest_run_are_drawn_over_this_one(page, plan):
    key, drills = plan
    page.goto(f"/plans/{key}/drill?drill=tiles-8-crashes")
    charts = page.get_by_test_id("charts")
    expect(charts.locator("path[data-phases]")).to_have_count(2)
    expect(charts).to_contain_text("first: 1,773")
    expect(charts).to_contain_text("last: 2,660")
    expect(page.get_by_test_id("summary")).to_contain_text("2,660 requests fail")
    page.get_by_label("Where probes are in their cycles").select_option("best")
    expect(page.get_by_test_id("summary")).to_contain_text("1,773 requests fail")
    assert drills()[1]["phases"] == "best"


@pytest.fixture
def slowly(client):
    """A plan of 4,000 targets whose probes are spread over their cycle: thousands of verdicts, each an event."""
    zones = ["fells-1", "fells-2", "fells-3"]
    data = changed(plan_data(), "/fleets/0/count", 4000)
    data = changed(data, "/clients/0/rps", 400_000)
    steps = [{"at_s": 10, "fail": {"zone": zone}} for zone in zones[1:]]
    data["drills"] = [{"name": "slowly", "lasts_s": 120, "steps": steps}]
    return client.post("/api/plans", content=json.dumps(data)).json()["key"]


def test_a_long_drill_shows_how_far_it_is_and_can_be_stopped(page, slowly):
    page.goto(f"/plans/{slowly}/drill")
    status = page.get_by_role("status").filter(has_text="drill")
    expect(status).to_contain_text(re.compile(r"Running the drill … \d+ %"))
    expect(status).to_contain_text(re.compile(r"Running the drill … [1-9]\d* %"))
    page.get_by_role("button", name="Stop", exact=True).click()
    expect(page.get_by_text("Stopped before its end.")).to_be_visible()
    page.get_by_role("button", name="Run it").click()
    expect(page.get_by_text(re.compile("Running the drill"))).to_be_visible()
    page.get_by_role("button", name="Stop", exact=True).click()
    expect(page.get_by_text("Stopped before its end.")).to_be_visible()
