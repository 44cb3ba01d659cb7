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
    losses = page.get_by_test_id("losses-moved")
    expect(losses.get_by_role("row", name="lost page /ready of all that serve it")).to_contain_text("not there")
    expect(compared).to_contain_text("no price is given")
    page.get_by_label("The earlier revision").fill("2")
    expect(page).to_have_url(re.compile("since=2"))
    expect(losses).to_have_text("Every loss costs the same.")
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


def test_the_board_is_looked_at_second_by_second(page, changed):
    page.goto(f"/plans/{changed}/compare?way=change")
    page.get_by_role("button", name="The board at the worst second").click()
    expect(page).to_have_url(re.compile("at=0"))
    then = page.get_by_role("region", name="The board at 0:00")
    expect(then).to_contain_text(re.compile(r"[\d.]+ requests under way, nothing failing"))
    expect(then.get_by_test_id("board")).to_contain_text("charts")
    page.get_by_label("Second of the change").press("ArrowRight")
    expect(page.get_by_role("region", name="The board at 0:01")).to_be_visible()
    page.get_by_role("button", name="Hide the board").click()
    expect(then).to_have_count(0)


def test_a_zone_is_emptied_ready_made_and_kept_as_a_drill(page, trap):  # noqa: F811
    key, document = trap("one-rack")
    page.goto(f"/plans/{key}/compare")
    page.get_by_role("link", name="usual changes").click()
    offer = page.get_by_role("form", name="Empty a zone before maintenance")
    offer.get_by_label("zone").select_option("fells-2")
    offer.get_by_label("for").fill("60")
    offer.get_by_label("for").press("Enter")
    steps = page.get_by_test_id("usual-steps").locator("tbody tr")
    expect(steps).to_have_count(3)
    expect(steps.nth(1)).to_contain_text("turn fells-2 off")
    expect(page).to_have_url(re.compile("usual=empty"))
    page.get_by_label("Second of the change").press("End")
    expect(page.get_by_role("region", name=re.compile("^The board at"))).to_contain_text("after step 3")
    page.get_by_role("button", name="Make it a drill").click()
    expect(page).to_have_url(re.compile("/drill.*empty-fells-2"))
    expect(page.get_by_test_id("summary")).to_be_visible()
    assert document()["drills"][-1]["name"] == "empty-fells-2"


def test_another_port_is_rehearsed_ready_made_and_taken_over_as_the_plan(page, trap):  # noqa: F811
    key, document = trap("one-rack")
    page.goto(f"/plans/{key}/compare?way=usual&usual=port")
    offer = page.get_by_role("form").filter(has=page.get_by_label("to port"))
    offer.get_by_label("to port").fill("88440")
    offer.get_by_label("to port").press("Enter")
    refused = page.get_by_role("alert").filter(has_text="65,535")
    expect(refused.get_by_role("heading", name="This cannot be rehearsed")).to_be_visible()
    offer.get_by_label("to port").fill("8844")
    offer.get_by_label("to port").press("Enter")
    expect(page.get_by_test_id("usual-steps").locator("tbody tr").first).to_be_visible()
    page.get_by_role("button", name="Make it the plan").click()
    expect(page).to_have_url(re.compile("/compare.*way=change"))
    assert 8844 in [group["port"] for group in document()["target_groups"]]


def test_the_steps_of_a_change_are_taken_in_another_order_and_at_their_seconds(page, trap):  # noqa: F811
    key, document = trap("one-rack")
    patch = [
        {"op": "replace", "path": f"/{place}", "value": 2 * document()[kind][0][field]}
        for kind, field in (("probes", "interval_s"), ("names", "ttl_s"))
        for place in (f"{kind}/0/{field}",)
    ]
    assert page.request.patch(f"/api/plans/{key}", data=patch, headers={"if-match": '"1"'}).ok
    page.goto(f"/plans/{key}/compare?way=change")
    steps = page.get_by_test_id("change-steps").locator("tbody tr")
    expect(steps).to_have_count(2)
    # What stands at either end goes no further.
    expect(page.get_by_role("button", name="Take step 1 earlier")).to_be_disabled()
    expect(page.get_by_role("button", name="Take step 2 later")).to_be_disabled()
    first = steps.first.locator("td").nth(2).inner_text()
    page.get_by_role("button", name="Take step 1 later").press("Enter")
    expect(page).to_have_url(re.compile("order="))
    expect(steps.last).to_contain_text(first)
    page.get_by_label("Second of step 2").fill("500")
    page.get_by_label("Second of step 2").press("Enter")
    expect(page).to_have_url(re.compile("%40500"))
    expect(page.get_by_label("Second of step 2")).to_have_value("500")
    page.get_by_role("button", name="Back to the usual order").click()
    expect(page).not_to_have_url(re.compile("order="))
    expect(steps.first).to_contain_text(first)


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


def quicker(page, key):
    """Probes of a plan that ask twice as often."""
    probe = page.request.get(f"/api/plans/{key}").json()["document"]["probes"][0]
    patch = [
        {"op": "replace", "path": "/probes/0/interval_s", "value": probe["interval_s"] / 2},
        {"op": "replace", "path": "/probes/0/timeout_s", "value": min(probe["timeout_s"], probe["interval_s"] / 2)},
    ]
    answer = page.request.patch(f"/api/plans/{key}", data=patch, headers={"if-match": '"1"'})
    assert answer.ok, answer.text()


def test_a_variant_is_tried_compared_and_taken_over(page, trap):  # noqa: F811
    key, document = trap("one-rack")
    page.goto(f"/plans/{key}/compare?way=variants")
    expect(page.get_by_test_id("variants")).to_contain_text("There is no variant yet")
    page.get_by_label("Name of the variant").fill("quick")
    page.get_by_role("button", name="Try a variant").click()
    expect(page.get_by_test_id("variant")).to_have_text("quick")
    variant = re.search("/plans/([^/]+)/", page.url)[1]
    assert variant != key
    quicker(page, variant)
    page.goto(f"/plans/{key}/compare?way=variants")
    matrix = page.get_by_test_id("matrix")
    expect(matrix.get_by_role("link", name="quick", exact=True)).to_be_visible()
    # The least of each drill is marked, and it is the variant's.
    expect(matrix.locator("td:nth-of-type(2) [aria-label=least]")).not_to_have_count(0)
    expect(matrix.locator("td:nth-of-type(1) [aria-label=least]")).to_have_count(0)
    page.get_by_role("link", name="Compare with quick").click()
    drill = document()["drills"][0]["name"]
    over = page.get_by_test_id(f"over-{drill}")
    over.get_by_role("slider").fill("70")
    expect(over).to_contain_text("at 1:10")
    page.goto(f"/plans/{key}/compare?way=variants")
    page.get_by_role("button", name="Take over quick").click()
    expect(page.get_by_test_id("standing")).to_have_text("draft · 1 edit")
    taken = page.request.get(f"/api/plans/{key}").json()["document"]["probes"]
    assert taken == page.request.get(f"/api/plans/{variant}").json()["document"]["probes"]


def test_settings_are_swept_and_a_cell_adopted_by_keyboard(page, trap):  # noqa: F811
    key, document = trap("one-rack")
    probe = document()["probes"][0]
    page.goto(f"/plans/{key}/compare?way=sweep")
    page.get_by_label("Setting", exact=True).fill(f"probes/{probe['name']}/interval_s")
    expect(page.get_by_label("to", exact=True)).not_to_have_value("")
    page.get_by_label("Setting", exact=True).press("Enter")
    heat = page.get_by_test_id("heat")
    now = heat.get_by_role("button", name=re.compile("as the plan is now"))
    expect(now).to_be_visible()
    expect(page.get_by_test_id("chosen")).to_contain_text("The plan is so now.")
    now.press("ArrowDown")
    page.get_by_role("button", name="Use these values").press("Enter")
    expect(page.get_by_test_id("standing")).to_have_text("draft · 1 edit")
    assert document()["probes"][0]["interval_s"] > probe["interval_s"]
    # What is asked stands in the address, and is asked of the new revision.
    page.reload()
    expect(page.get_by_label("Setting", exact=True)).to_have_value(f"probes/{probe['name']}/interval_s")
    expect(heat).to_be_visible()


def test_who_agreed_and_why_stands_in_the_log_from_which_one_goes_back(page, trap):  # noqa: F811
    key, document = trap("one-rack")
    before = document()["probes"][0]["interval_s"]
    quicker(page, key)
    page.goto(f"/plans/{key}/board")
    page.get_by_test_id("standing").click()
    expect(page.get_by_test_id("gate")).to_be_visible()
    page.get_by_label("who").fill("Ada")
    page.get_by_label("why, or what for").fill("the spring flood")
    page.get_by_role("button", name="Agree on revision 2").click()
    expect(page.get_by_test_id("standing")).to_have_text("agreed")
    page.goto(f"/plans/{key}/compare?way=log")
    newest = page.get_by_test_id("log").locator("li").first
    expect(newest).to_contain_text("agreed by Ada: the spring flood")
    page.get_by_role("button", name="why? The reason of revision 2").click()
    page.get_by_label("Reason of revision 2").fill("less time blind")
    page.get_by_label("Reason of revision 2").press("Enter")
    expect(newest.get_by_role("button", name="less time blind: the reason of revision 2")).to_be_visible()
    page.get_by_role("button", name="Go to it: revision 1").click()
    expect(newest).to_contain_text("undone")
    assert document()["probes"][0]["interval_s"] == before


def test_the_whole_job_from_what_is_there_to_what_is_handed_over(page, server, tmp_path):
    """Yesterday's log taken into the demo, looked over, drilled, a probe changed, compared, agreed, handed over."""
    key = page.request.post("/api/plans/beckwater/copy").json()["key"]
    lines = [
        f'192.0.2.{n % 50} - - [25/Nov/2026:18:{n % 2:02}:{n % 60:02} +0000] "GET /tiles/{n % 9} HTTP/1.1" 200 512'
        for n in range(1800)
    ]
    path = tmp_path / "yesterday.log"
    path.write_text("\n".join([*lines, "no request"]))
    page.goto(f"/plans/{key}/sheets/clients")
    page.get_by_role("button", name="Take in an access log").click()
    page.get_by_label("The file: an access log").set_input_files(path)
    preview = page.get_by_test_id("taken-in")
    expect(preview).to_contain_text("1,801 read, 1 of them could not be taken")
    expect(preview).to_contain_text("line 1801: no request")
    expect(preview).to_contain_text("15.00 requests/s; 50 different sources")
    page.get_by_role("button", name="Take in 1", exact=True).click()
    expect(page.get_by_role("dialog")).to_have_count(0)
    expect(page.get_by_test_id("row-count")).to_contain_text("4 rows")

    page.get_by_role("link", name=re.compile("^Findings")).click()
    expect(page.get_by_role("heading", name="Findings")).to_be_visible()
    page.get_by_role("link", name="Drill", exact=True).click()
    expect(page.get_by_test_id("summary")).to_contain_text("requests fail over")

    page.goto(f"/plans/{key}/board?select=probe%3Aready")
    every = page.get_by_label("Every", exact=True)
    every.fill("5")
    every.press("Enter")
    page.get_by_role("link", name="Compare").click()
    compared = page.get_by_test_id("compared")
    expect(compared).to_contain_text("probe ready: every 5 s, was 10 s")
    expect(compared).to_contain_text("client group from-log: added")

    page.get_by_role("button", name=re.compile("^draft")).click()
    page.get_by_label("who", exact=True).fill("Wren")
    page.get_by_role("button", name=re.compile("^Agree on revision")).click()
    page.get_by_role("link", name="Hand over").click()
    expect(page.get_by_role("main")).to_contain_text("is agreed: this is what is to be built")
    with page.expect_download() as kept:
        page.get_by_test_id("tables").get_by_role("link", name="cost").click()
    assert kept.value.path().read_text().startswith("part,kind,amount,price")
