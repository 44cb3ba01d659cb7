"""Comparing, rehearsing and handing over in a real browser, on a small plan."""

import re

import pytest
from playwright.sync_api import expect

from tests.ui.test_judging import trap  # noqa: F401

pytestmark = pytest.mark.xdist_group("browser")

DEEP = {"name": "deep", "path": "/", "interval_s": 5, "timeout_s": 2}


@pytest.fixture
def changed(page, trap):  # noqa: F811
    """A plan whose group has moved to another, with a probe of its own, since it was taken in: its key."""
    key, document = trap("one-rack")
    group = next(one for one in document()["target_groups"] if one["name"] == "maps")
    pool = next(at for at, one in enumerate(document()["pools"]) if "maps" in one["tiers"][0]["groups"])
    patch = [
        {"op": "add", "path": "/probes/-", "value": DEEP},
        {"op": "add", "path": "/target_groups/-", "value": {**group, "name": "charts", "probe": "deep"}},
        {"op": "replace", "path": f"/pools/{pool}/tiers/0/groups", "value": {"charts": 1}},
        {"op": "remove", "path": f"/target_groups/{document()['target_groups'].index(group)}"},
    ]
    answer = page.request.patch(f"/api/plans/{key}", data=patch, headers={"if-match": '"1"'})
    assert answer.ok, answer.text()
    return key


def test_two_revisions_stand_side_by_side(page, changed):
    page.goto(f"/plans/{changed}/compare")
    compared = page.get_by_test_id("compared")
    expect(compared).to_contain_text("probe deep: added")
    expect(compared).to_contain_text("target group charts: name charts, was maps")
    expect(compared.get_by_role("group", name="Drill lose-fells-1")).to_contain_text("failed by cause: timed out")
    page.get_by_label("The earlier revision").fill("2")
    expect(page).to_have_url(re.compile("since=2"))
    expect(compared).to_contain_text("Nothing: the two are the same.")


def test_a_change_is_rehearsed_step_by_step(page, changed):
    page.goto(f"/plans/{changed}/board")
    page.get_by_role("button", name=re.compile("^draft")).click()
    page.get_by_role("link", name="Rehearse the change").click()
    expect(page).to_have_url(re.compile("way=change"))
    steps = page.get_by_test_id("change-steps").locator("tbody tr")
    expect(steps.first).to_contain_text("build probe deep")
    expect(steps.filter(has_text="with weight 0, to be proven")).to_have_count(1)
    expect(steps.last).to_contain_text("remove target group maps")
    expect(page.get_by_test_id("rehearsed")).to_contain_text("no request fails; all at once")


def test_the_plan_is_handed_over_as_files_and_as_a_sheet(page, changed, tmp_path):
    page.goto(f"/plans/{changed}/handover")
    expect(page.get_by_test_id("exports").locator("li")).to_have_count(7)
    with page.expect_download() as kept:
        page.get_by_role("link", name="Keep Firewall rules").click()
    file = tmp_path / "rules.csv"
    kept.value.save_as(file)
    assert file.read_text().startswith("needed_by,source,destination,protocol,port,has")
    assert kept.value.suggested_filename == f"{changed}.firewall-csv.csv"
    with page.context.expect_page() as opened:
        page.get_by_role("link", name="Open the sheet").click()
    sheet = opened.value
    expect(sheet.get_by_role("heading", name="Build, in this order")).to_be_visible()
    expect(sheet.get_by_role("img", name=re.compile("^The board of"))).to_be_visible()
    sheet.close()
