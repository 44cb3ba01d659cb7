"""Editing in a real browser: each edit is kept, shown, explained and can be undone."""

import json
import re
import time

import pytest
from playwright.sync_api import expect

from tests.support.waits import WAIT_S
from tests.ui.demo import DEMO
from tests.ui.drawing import visit

pytestmark = pytest.mark.xdist_group("browser")


@pytest.fixture
def plan(client):
    """A fresh copy of the demo, so that no test sees another's edits: its key, and questions about it."""
    key = client.post("/api/plans", content=DEMO).json()["key"]
    return key, lambda path="": client.get(f"/api/plans/{key}{path}").json()


def sender(client, key):
    """Sends an edit as somebody else would."""

    def send(patch):
        answer = client.patch(f"/api/plans/{key}", json=patch, headers={"if-match": '"1"'})
        assert answer.status_code == 200, answer.text

    return send


def board(key, select=""):
    return f"/plans/{key}/board" + (f"?select={select}" if select else "")


def field(page, label):
    return page.get_by_test_id("inspector").get_by_label(label, exact=True).first


def test_an_edit_shows_its_consequence_and_can_be_undone(page, plan):
    key, ask = plan
    page.goto(board(key, "group:tiles"))
    expect(page.get_by_test_id("consequence")).to_contain_text("25–35 s")
    field(page, "Every").fill("20")
    field(page, "Every").press("Enter")
    expect(page.get_by_test_id("consequence")).to_contain_text("45–65 s")
    expect(page.get_by_text("probe ready: every 20 s, was 10 s")).to_be_visible()
    expect(page.get_by_test_id("standing")).to_have_text("draft · 1 edit")
    page.reload()
    expect(page.get_by_test_id("consequence")).to_contain_text("45–65 s")
    page.get_by_role("button", name="Undo (Ctrl+Z)").click()
    expect(page.get_by_test_id("consequence")).to_contain_text("25–35 s")
    page.keyboard.press("Control+Shift+z")
    expect(page.get_by_test_id("consequence")).to_contain_text("45–65 s")
    assert ask()["document"]["probes"][0]["interval_s"] == 20


def test_a_bad_value_is_refused_at_the_field_and_nothing_is_lost(page, plan):
    key, ask = plan
    page.goto(board(key, "probe:ready"))
    for text, reason in (("-3", "at least 0.001 is wanted"), ("often", "a number is wanted")):
        field(page, "Every").fill(text)
        field(page, "Every").press("Enter")
        expect(page.get_by_test_id("inspector").get_by_role("alert")).to_contain_text(reason)
        expect(field(page, "Every")).to_have_value("10")
    assert ask()["head"]["revision"] == 1


def test_what_is_dangling_is_told_and_can_be_mended_from_there(page, plan):
    key, _ = plan
    page.goto(board(key, "group:tiles"))
    page.request.patch(
        f"/api/plans/{key}",
        data=json.dumps([{"op": "replace", "path": "/target_groups/0/probe", "value": "redy"}]),
        headers={"if-match": "1", "content-type": "application/json"},
    )
    page.goto(board(key))
    expect(page.get_by_role("alert")).to_contain_text("there is no probe 'redy'; did you mean 'ready'?")
    page.get_by_role("button", name="open tiles").click()
    page.get_by_test_id("inspector").get_by_label("Probe", exact=True).select_option("ready")
    expect(page.locator("[data-zone=fells-1]")).to_be_visible()


def test_a_second_window_gets_the_newer_plan_and_its_edit_again(page, plan):
    key, ask = plan
    page.goto(board(key, "probe:ready"))
    expect(field(page, "Every")).to_have_value("10")
    page.request.patch(
        f"/api/plans/{key}",
        data=json.dumps([{"op": "replace", "path": "/probes/0/timeout_s", "value": 4}]),
        headers={"if-match": "1", "content-type": "application/json"},
    )
    field(page, "Every").fill("8")
    field(page, "Every").press("Enter")
    expect(page.get_by_text("The plan has changed in another window")).to_be_visible()
    expect(field(page, "Give up after")).to_have_value("4")
    page.get_by_role("button", name="Apply mine to it").click()
    expect(field(page, "Every")).to_have_value("8")
    probe = ask()["document"]["probes"][0]
    assert (probe["interval_s"], probe["timeout_s"]) == (8, 4)


def test_a_late_edit_means_what_it_was_made_of_or_says_that_it_is_gone(page, plan, client):
    key, ask = plan
    page.goto(board(key, "probe:holding"))
    expect(field(page, "Every")).to_have_value("30")
    sender(client, key)([{"op": "add", "path": "/probes/0", "value": {"name": "first"}}])
    field(page, "Every").fill("8")
    field(page, "Every").press("Enter")
    page.get_by_role("button", name="Apply mine to it").click()
    expect(field(page, "Every")).to_have_value("8")
    assert [(one["name"], one["interval_s"]) for one in ask()["document"]["probes"]][:3] == [
        ("first", 10), ("ready", 10), ("holding", 8),
    ]  # fmt: skip
    page.goto(board(key, "probe:first"))
    expect(field(page, "Every")).to_have_value("10")
    page.request.patch(
        f"/api/plans/{key}",
        data=json.dumps([{"op": "remove", "path": "/probes/0"}]),
        headers={"if-match": "3", "content-type": "application/json"},
    )
    field(page, "Every").fill("7")
    field(page, "Every").press("Enter")
    page.get_by_role("button", name="Apply mine to it").click()
    expect(page.get_by_text("Your edit cannot be applied: /probes/first: the plan no longer has")).to_be_visible()
    assert [one["name"] for one in ask()["document"]["probes"]] == ["ready", "holding", "front"]


def test_the_undo_of_an_older_toast_undoes_the_edit_that_it_names(page, plan):
    key, ask = plan
    page.goto(board(key, "probe:ready"))
    field(page, "Every").fill("8")
    field(page, "Every").press("Enter")
    told = page.locator("[data-sonner-toast]", has_text="probe ready: every 8 s, was 10 s")
    expect(told).to_be_visible()
    later = [{"op": "replace", "path": "/probes/0/timeout_s", "value": 4}]
    headers = {"if-match": "2", "content-type": "application/json"}
    assert page.request.patch(f"/api/plans/{key}", data=json.dumps(later), headers=headers).ok
    told.get_by_role("button", name="Undo").click()
    expect(field(page, "Every")).to_have_value("10")
    probe = ask()["document"]["probes"][0]
    assert (probe["interval_s"], probe["timeout_s"]) == (10, 4)


def test_edits_stack_no_toasts(page, plan):
    key, _ = plan
    page.goto(board(key, "probe:ready"))
    for seconds in ("8", "9", "7"):
        field(page, "Every").fill(seconds)
        field(page, "Every").press("Enter")
        expect(page.locator("[data-sonner-toast]", has_text=f"every {seconds} s")).to_be_visible()
    expect(page.locator("[data-sonner-toast]")).to_have_count(1)


def test_one_bad_field_leaves_the_board_as_it_was_and_says_what_is_wrong(page, plan):
    key, ask = plan
    page.goto(board(key, "probe:ready"))
    field(page, "Give up after").fill("20")
    field(page, "Give up after").press("Enter")
    trouble = page.get_by_role("alert", name="What stands in the way")
    expect(trouble).to_contain_text("probe ready waits 20 s for an answer but sends every 10 s")
    expect(page.locator("[data-zone=fells-1]")).to_be_visible()
    expect(field(page, "Give up after")).to_have_value("20")
    page.keyboard.press("Escape")
    page.get_by_role("button", name="walkers").first.click()
    trouble.get_by_role("button", name="open ready").click()
    field(page, "Give up after").fill("5")
    field(page, "Give up after").press("Enter")
    expect(trouble).to_have_count(0)
    assert ask()["document"]["probes"][0]["timeout_s"] == 5


def test_what_is_new_fits_what_it_is_put_into(page, plan):
    """A scale from today's count, a subnet within its network, a tier with another group, a share in per cent."""
    key, ask = plan
    inspector = page.get_by_test_id("inspector")
    page.goto(board(key, "fleet:tiles"))
    inspector.locator('[data-path="/fleets/0/scale"]').get_by_role("button", name=re.compile("^add")).click()
    expect(field(page, "Target utilisation")).to_have_value("0.6")
    field(page, "Target utilisation").fill("55 %")
    field(page, "Target utilisation").press("Enter")
    expect(field(page, "Target utilisation")).to_have_value("0.55")
    page.goto(board(key, "network:fells-net"))
    inspector.locator('[data-path="/networks/0/subnets"]').get_by_role("button", name=re.compile("^add")).click()
    expect(inspector.get_by_text("5 · new")).to_be_visible()
    page.goto(board(key, "pool:api"))
    inspector.locator('[data-path="/pools/1/tiers"]').get_by_role("button", name=re.compile("^add")).last.click()
    expect(page.get_by_role("button", name="draft · 4 edits")).to_be_visible()
    document = ask()["document"]
    scale = document["fleets"][0]["scale"]
    assert (scale["min"], scale["max"], scale["target_utilisation"]) == (18, 36, 0.55)
    assert document["networks"][0]["subnets"][4]["cidr"] == "10.20.1.0/24"
    assert [tier["groups"] for tier in document["pools"][1]["tiers"]] == [{"alerts-api": 1}, {"tiles": 1}]


def test_what_stands_outside_has_a_column_with_its_rates(page, plan, client):
    """A host that is no part of the plan, beside the machines; and a group that no pool has."""
    key, ask = plan
    outside = {"host": "partner.beckwater.example"}
    loose = {"name": "loose", "port": 25, "probe": "ready", "targets": [{"address": "198.51.100.25"}]}
    sender(client, key)(
        [
            {"op": "add", "path": "/target_groups/0/targets/-", "value": outside},
            {"op": "add", "path": "/target_groups/-", "value": loose},
        ]
    )
    page.goto(board(key))
    column = page.locator("[data-zone=outside]")
    expect(column).to_contain_text("not part of the plan")
    expect(column).to_contain_text("nobody sends here")
    served = next(one for one in ask("/state")["zones"] if one["name"] == "outside")["served_rps"]
    assert served > 0
    expect(column.locator("[data-reading=zone-served]")).to_have_text(f"{served:.0f}/s")
    expect(column.get_by_role("button", name="What if outside were lost?")).to_have_count(0)
    column.locator("[data-part='berth:tiles/partner.beckwater.example']").click()
    expect(page.get_by_test_id("inspector").get_by_role("heading", level=2)).to_have_text("partner.beckwater.example")
    page.get_by_role("button", name="Break").click()
    expect(page.get_by_test_id("banner")).to_contain_text("partner.beckwater.example")
    expect(column).to_contain_text("fail")


def test_deleting_says_who_refers_and_takes_them_along(page, plan):
    key, ask = plan
    page.goto(board(key, "pool:api"))
    page.get_by_role("button", name="Delete").click()
    dialog = page.get_by_role("alertdialog")
    expect(dialog).to_contain_text("2 places refer to api")
    expect(dialog).to_contain_text("balancer fells-front: listeners https rules alerts do pool")
    dialog.get_by_role("button", name="Delete, and take them along").click()
    expect(page.get_by_text("pool api: removed")).to_be_visible()
    document = ask()["document"]
    assert [pool["name"] for pool in document["pools"]] == ["web", "web-coast"]
    assert [balancer["listeners"][0]["rules"] for balancer in document["balancers"]] == [[], []]


def test_a_subnet_that_is_used_asks_before_it_goes(page, plan):
    key, ask = plan
    page.goto(board(key, "network:fells-net"))
    remove = (
        page.locator("[data-path='/networks/0/subnets'] > ol > li")
        .nth(1)
        .get_by_role("button", name="Remove", exact=True)
    )
    remove.click()
    dialog = page.get_by_role("alertdialog", name="Delete fells-app-1?")
    expect(dialog).to_contain_text("refer to fells-app-1")
    dialog.get_by_role("button", name="Keep it").click()
    expect(dialog).to_have_count(0)
    assert len(ask()["document"]["networks"][0]["subnets"]) == 4
    remove.click()
    dialog.get_by_role("button", name="Delete, and take them along").click()
    expect(page.locator("[data-path='/networks/0/subnets'] > ol > li")).to_have_count(4)
    assert "fells-app-1" not in json.dumps(ask()["document"])


def test_renaming_takes_references_along_and_the_selection_follows(page, plan):
    key, ask = plan
    page.goto(board(key, "group:tiles"))
    name = page.get_by_test_id("inspector").get_by_label("Name", exact=True).last
    name.fill("maps")
    name.press("Enter")
    expect(page.get_by_test_id("inspector").get_by_role("heading", level=2)).to_have_text("maps")
    assert "maps" in ask()["document"]["pools"][0]["tiers"][0]["groups"]


def test_the_changes_since_the_agreed_revision_are_told_and_agreed(page, plan):
    key, ask = plan
    page.goto(board(key, "balancer:coast-front"))
    field(page, "Exposure").select_option(label="internal")
    expect(page.get_by_test_id("standing")).to_have_text("draft · 1 edit")
    page.get_by_test_id("standing").click()
    expect(page.get_by_test_id("changes")).to_contain_text("balancer coast-front: exposure internal, was public")
    page.get_by_role("button", name="Agree on revision 2").click()
    expect(page.get_by_test_id("standing")).to_have_text("agreed")
    assert ask()["head"]["agreed"] == 2


def test_rules_have_rates_an_order_and_a_winner(page, plan):
    key, ask = plan
    page.goto(board(key, "listener:fells-front/https"))
    rules = rows_of_rules(page)
    expect(rules).to_have_count(2)
    url = page.get_by_label("URL or path")
    url.fill("https://www.beckwater.example/alerts/../alerts/x")
    expect(rules.nth(0)).to_have_attribute("data-takes", "true")
    url.fill("/tiles/3")
    expect(rules.nth(1)).to_have_attribute("data-takes", "true")
    expect(page.get_by_text("no rule matches GET www.beckwater.example/tiles/3")).to_be_visible()
    url.fill("https:/alerts")
    expect(page.get_by_role("alert")).to_contain_text("is not a URL such as")
    expect(rules).to_have_count(2)
    page.get_by_role("button", name="add a rule").click()
    expect(rules).to_have_count(3)
    page.get_by_role("button", name="Move rule-2 up").press("Enter")
    expect(rules.nth(0)).to_contain_text("rule-2")
    expect(page.get_by_role("button", name="Move rule-2 down")).to_be_focused()
    assert rules_of(ask) == ["rule-2", "alerts"]
    page.get_by_role("button", name="done rule-2").click()
    # What is still to come would move the rows under the hand.
    for row in (0, 1):
        expect(rules.nth(row)).to_contain_text("/s")
    rules.nth(1).drag_to(rules.nth(0))
    expect(rules.nth(1)).to_contain_text("rule-2")
    assert rules_of(ask) == ["alerts", "rule-2"]


def rows_of_rules(page):
    return page.get_by_test_id("rules").locator("> li")


def rules_of(ask):
    return [rule["name"] for rule in ask()["document"]["balancers"][0]["listeners"][0]["rules"]]


def test_a_rule_by_header_is_made_in_the_panel_and_takes_what_carries_it(page, plan):
    key, ask = plan
    page.goto(board(key, "listener:fells-front/https"))
    page.get_by_role("button", name="add a rule").click()
    rule = rows_of_rules(page).nth(1)
    place = "/balancers/0/listeners/0/rules/1"
    header, query = (rule.locator(f'[data-path="{place}/when/{part}"]') for part in ("header", "query"))
    header.get_by_label("add").fill("x-canary")
    header.get_by_label("add").press("Enter")
    header.get_by_label("x-canary", exact=True).fill("yes")
    header.get_by_label("x-canary", exact=True).press("Enter")
    query.get_by_label("add").fill("v")
    query.get_by_label("add").press("Enter")
    expect(rule).to_contain_text("/new/* header x-canary=yes query v=1")
    query.get_by_role("button", name="Remove v").click()
    expect(rule).not_to_contain_text("query v")
    when = ask()["document"]["balancers"][0]["listeners"][0]["rules"][1]["when"]
    assert (when["header"], when["query"]) == ({"x-canary": ["yes"]}, None)
    page.get_by_role("group", name="Which rule takes this request?").get_by_label("Method").select_option("POST")
    page.get_by_label("URL or path").fill("/new/map")
    expect(rule).to_have_attribute("data-takes", "false")
    page.get_by_label("Headers, one a line").fill("X-Canary: yes")
    expect(rule).to_have_attribute("data-takes", "true")
    rule.get_by_label("Name", exact=True).fill("canary")
    rule.get_by_label("Name", exact=True).press("Enter")
    expect(page.get_by_text("balancer fells-front: listeners https rules canary, was named rule-2")).to_be_visible()
    assert rules_of(ask) == ["alerts", "canary"]


def test_a_layer_takes_along_what_must_change_with_it(page, plan):
    key, ask = plan
    page.goto(board(key, "balancer:coast-front"))
    field(page, "Layer").select_option("4")
    offer = page.get_by_test_id("inspector").get_by_role("alert")
    expect(offer).to_contain_text("balancer coast-front: listeners https protocol tls, was https")
    assert ask()["document"]["balancers"][1]["layer"] == 7
    offer.get_by_role("button", name="Change them together").click()
    expect(page.get_by_text("layer 4 · 2 fronts")).to_be_visible()
    coast = ask()["document"]["balancers"][1]
    assert (coast["layer"], coast["listeners"][0]["protocol"], coast["listeners"][0]["rules"]) == (4, "tls", [])
    page.get_by_role("button", name="Undo (Ctrl+Z)").click()
    expect(page.get_by_text("layer 7 · 2 fronts")).to_be_visible()
    assert ask()["document"]["balancers"][1]["listeners"][0]["rules"][0]["name"] == "alerts"


def test_listeners_are_added_renamed_changed_and_removed(page, plan):
    key, ask = plan
    page.goto(board(key, "balancer:coast-front"))
    page.get_by_role("button", name="add a listener").click()
    inspector = page.get_by_test_id("inspector")
    expect(inspector.get_by_role("heading", level=2)).to_have_text("http 80")
    field(page, "Name").fill("plain")
    field(page, "Name").press("Enter")
    expect(page).to_have_url(re.compile("plain"))
    field(page, "Port").fill("8088")
    field(page, "Port").press("Enter")
    expect(inspector.get_by_role("heading", level=2)).to_have_text("http 8088")
    field(page, "Protocol").select_option("udp")
    inspector.get_by_role("button", name="Change them together").click()
    expect(inspector.get_by_role("heading", level=2)).to_have_text("udp 8088")
    listeners = ask()["document"]["balancers"][1]["listeners"]
    assert [(one["name"], one["protocol"], one["port"]) for one in listeners] == [
        ("https", "tls", 443),
        ("plain", "udp", 8088),
    ]
    inspector.get_by_role("button", name="Delete", exact=True).click()
    expect(page).not_to_have_url(re.compile("select="))
    assert [one["name"] for one in ask()["document"]["balancers"][1]["listeners"]] == ["https"]


def test_adding_asks_only_what_cannot_be_inferred(page, plan):
    key, ask = plan
    page.goto(board(key))
    expect(page.locator("[data-zone=fells-1]")).to_be_visible()
    page.keyboard.press("a")
    panel = page.get_by_role("complementary", name="Add to the plan")
    panel.get_by_role("radio", name="probe", exact=True).click()
    panel.get_by_label("Name", exact=True).fill("ready")
    panel.get_by_role("button", name="Add", exact=True).click()
    expect(panel.get_by_role("alert")).to_contain_text("another probe has the name 'ready'")
    panel.get_by_label("Name", exact=True).fill("quick")
    panel.get_by_label("Every").fill("2")
    panel.get_by_label("Give up after").fill("1")
    panel.get_by_label("Give up after").press("Enter")
    expect(panel.get_by_test_id("consequence")).to_contain_text("5–7 s")
    panel.get_by_role("button", name="Add", exact=True).click()
    expect(page.get_by_test_id("inspector").get_by_role("heading", level=2)).to_have_text("quick")
    expect(page.get_by_test_id("consequence")).to_contain_text("5–7 s")
    assert ask()["document"]["probes"][-1]["name"] == "quick"


def test_the_palette_finds_objects_and_actions(page, plan):
    key, _ = plan
    page.goto(board(key))
    expect(page.locator("[data-zone=fells-1]")).to_be_visible()
    page.keyboard.press("/")
    expect(page.get_by_placeholder("An object, a view, an action")).to_be_focused()
    page.keyboard.type("holding-page")
    page.keyboard.press("Enter")
    expect(page.get_by_test_id("inspector").get_by_role("heading", level=2)).to_have_text("holding-page")
    page.keyboard.press("/")
    expect(page.get_by_placeholder("An object, a view, an action")).to_be_focused()
    page.keyboard.type("sheet: clients")
    page.keyboard.press("Enter")
    expect(page.get_by_role("table", name="Clients")).to_be_visible()


def test_what_is_typed_into_a_palette_that_was_waited_for_stays(page):
    """It is still being loaded when it is called; what comes afterwards draws the page anew."""
    held, called = [], False

    def hold(route):
        if called:
            route.continue_()
        else:
            held.append(route)

    page.route(re.compile("/assets/panels-"), hold)
    page.goto("/plans/beckwater/board")
    expect(page.get_by_role("button", name="Find or do (/)")).to_be_visible()
    page.keyboard.press("/")
    # Until the page has been drawn again for what is loaded in a quiet moment.
    page.wait_for_timeout(1000)
    called = True
    assert held
    for route in held:
        route.continue_()
    typed = page.get_by_placeholder("An object, a view, an action")
    typed.fill("holding")
    visit(page, "/plans/beckwater/trace")
    expect(page).to_have_title(re.compile("Trace"))
    expect(typed).to_have_value("holding")


def test_a_sheet_edits_many_rows_at_once_and_sorts_and_filters(page, plan):
    key, ask = plan
    page.goto(f"/plans/{key}/sheets/machines")
    page.get_by_label("Filter").fill("holding")
    expect(page.get_by_test_id("row-count")).to_have_text("3 of 5 rows")
    page.get_by_label("Choose all rows").check()
    cell = page.get_by_label("Capacity of holding-1")
    cell.fill("500")
    cell.press("Enter")
    expect(page.get_by_label("Capacity of holding-3")).to_have_value("500")
    assert [one["capacity_rps"] for one in ask()["document"]["instances"]] == [150, 150, 500, 500, 500]
    page.get_by_label("Filter").fill("")
    page.get_by_role("columnheader", name="Service").get_by_role("button").click()
    assert page.get_by_label("Name of").count() == 0, "names are no cells to be typed into"
    expect(page.get_by_role("row").nth(1)).to_contain_text("holding-1")
    cell = page.get_by_label("Zone of holding-1")
    cell.fill("atlantis")
    cell.press("Enter")
    expect(cell).to_have_value("atlantis")
    assert ask()["document"]["instances"][2]["zone"] == "atlantis", "a draft may hold a dangling reference"


def test_pasted_rows_are_shown_before_they_are_taken(page, plan):
    key, ask = plan
    page.goto(f"/plans/{key}/sheets/machines")
    page.get_by_role("button", name="Paste rows").click()
    page.get_by_label("Rows", exact=True).fill(
        "zone\tname\tcapacity_rps\nfells-1\tholding-1\t700\nfells-2\tholding-9\t800\nfells-3\tholding-2\t900\n"
    )
    preview = page.get_by_test_id("paste-preview").locator("li")
    expect(preview).to_have_text(
        [re.compile("changed.*capacity_rps 700, was 900"), re.compile("added.*holding-9"), re.compile("same")]
    )
    page.get_by_role("button", name="Take 2 rows").click()
    expect(page.get_by_test_id("row-count")).to_have_text("6 rows")
    pages = ask()["document"]["instances"][0]["serves"][0]["pages"]
    assert pages == {"/": 200, "/ready": 200}, "what no cell shows is kept"
    with page.expect_download() as started:
        page.get_by_role("button", name="CSV").click()
    assert "holding-9,fells-2" in started.value.path().read_text()


def test_plans_are_copied_renamed_deleted_and_brought_back(page, plan):
    key, ask = plan
    page.goto("/plans")
    item = page.get_by_test_id("plans").locator("li").filter(has_text=f"{key} ·")
    item.get_by_label(f"Title of {key}").fill("Renamed watch")
    item.get_by_label(f"Title of {key}").press("Enter")
    expect(page.get_by_label(f"Title of {key}")).to_have_value("Renamed watch")
    titles = page.get_by_label(re.compile("^Title of "))
    before = titles.count()
    item.get_by_label(f"Copy {key}").click()
    expect(titles).to_have_count(before + 1)
    page.get_by_label(f"Delete {key}").click()
    expect(page.get_by_label(f"Title of {key}")).to_have_count(0)
    page.get_by_role("button", name="Undo").first.click()
    expect(page.get_by_label(f"Title of {key}")).to_have_value("Renamed watch")
    assert ask()["document"]["title"] == "Renamed watch"


def drop(page, text):
    """Drops a file with this text onto the page."""
    script = (
        "text => { const data = new DataTransfer(); data.items.add(new File([text], 'a.plan.yaml')); return data; }"
    )
    page.dispatch_event("main", "drop", {"dataTransfer": page.evaluate_handle(script, text)})


def test_files_are_taken_in_by_choice_or_dropped_and_a_bad_one_says_where(page, tmp_path):
    page.goto("/plans")
    expect(page.get_by_label("Title of beckwater", exact=True)).to_be_visible()
    chosen = tmp_path / "chosen.plan.yaml"
    chosen.write_text("northgate: 1\nname: chosen\ntitle: Chosen\n")
    page.get_by_label("Take in a file").set_input_files(chosen)
    expect(page.get_by_label("Title of chosen")).to_have_value("Chosen")
    drop(page, "northgate: 1\nname: dropped\ntitle: Dropped\n")
    expect(page.get_by_label("Title of dropped")).to_have_value("Dropped")
    drop(page, "northgate: 1\nname: bad\nprobse: []\n")
    expect(page.get_by_text("line 3: unknown field 'probse'; did you mean 'probes'?")).to_be_visible()
    for key in ("chosen", "dropped"):
        page.get_by_label(f"Delete {key}").click()
        expect(page.get_by_label(f"Title of {key}")).to_have_count(0)


def test_a_plan_is_updated_from_its_file_and_says_what_has_changed(page, plan, tmp_path):
    key, ask = plan
    path = tmp_path / "newer.plan.yaml"
    path.write_text(DEMO.replace('"interval_s":10.0', '"interval_s":7.0', 1))
    page.goto("/plans")
    page.get_by_label(f"Update {key} from a file").set_input_files(path)
    told = page.get_by_role("status", name=f"What has changed in {key}")
    expect(told).to_contain_text("Revision 2, from the file:")
    expect(told).to_contain_text("probe ready: every 7 s, was 10 s")
    assert ask()["document"]["probes"][0]["interval_s"] == 7


def test_a_pasted_row_in_an_unknown_zone_is_told(page):
    page.goto("/start")
    page.get_by_label("What is it called?").fill("Vale")
    page.get_by_label("Regions and their zones").fill("vale: vale-1")
    page.get_by_label("Machines, pasted").fill("maps-1\tvale-7")
    expect(page.get_by_text("1 machine in 1 zone.")).to_be_visible()


def test_a_choice_of_what_something_is_keeps_the_focus(page, plan):
    """By keys alone one goes on from where one is, though another field now stands beside the choice."""
    key, ask = plan
    page.goto(board(key, "group:alerts-api"))
    kind = page.locator("[data-path^='/target_groups/2/targets/0/'] select[aria-label='What it is']")
    kind.focus()
    page.keyboard.type("Host")
    page.keyboard.press("Enter")
    expect(page.locator("[data-path='/target_groups/2/targets/0/host']")).to_be_visible()
    assert ask()["document"]["target_groups"][2]["targets"][0]["host"]
    expect(kind).to_be_focused()


def test_a_list_keeps_words_that_hold_spaces(page, plan, client):
    """A header's value is one word, whatever stands in it."""
    key, ask, send = *plan, sender(client, plan[0])
    place = "/balancers/0/listeners/0/rules/0/when/header"
    send([{"op": "add", "path": place, "value": {"user-agent": ["curl"]}}])
    page.goto(board(key, "listener:fells-front/https"))
    page.get_by_role("button", name="change alerts").click()
    box = page.get_by_test_id("inspector").get_by_label("user-agent", exact=True)
    box.fill("Mozilla/5.0 (X11), curl")
    box.press("Enter")
    expect(page.get_by_test_id("standing")).to_contain_text("2 edits")
    expect(box).to_have_value("Mozilla/5.0 (X11), curl")
    when = ask()["document"]["balancers"][0]["listeners"][0]["rules"][0]["when"]
    assert when["header"] == {"user-agent": ["Mozilla/5.0 (X11)", "curl"]}


def test_keys_that_are_typed_into_fields_do_nothing_else(page, plan):
    key, _ = plan
    page.goto(board(key))
    page.get_by_test_id("inspector").wait_for()
    page.keyboard.press("?")
    help_ = page.get_by_role("dialog", name="Keys")
    expect(help_).to_contain_text("find any object or action")
    page.keyboard.press("Escape")
    expect(help_).to_have_count(0)
    page.goto(f"/plans/{key}/sheets/machines")
    page.get_by_role("button", name="Paste rows").click()
    rows = page.get_by_label("Rows", exact=True)
    rows.press_sequentially("?a/x")
    expect(rows).to_have_value("?a/x")
    expect(page.get_by_role("dialog", name="Keys")).to_have_count(0)


def test_what_a_plan_leaves_open_is_told_with_a_way_to_it(page, plan, client):
    key, ask = plan
    lacking = next(index for index, area in enumerate(ask()["document"]["areas"]) if "coast" in area["latency_ms"])
    sender(client, key)([
        {"op": "remove", "path": f"/areas/{lacking}/latency_ms/coast"},
        {"op": "replace", "path": "/names/0/choose", "value": "nearest"},
    ])  # fmt: skip
    page.goto(board(key))
    name = ask()["document"]["areas"][lacking]["name"]
    expect(page.get_by_test_id("inspector")).to_contain_text(f"{name} has no latency to coast")
    page.get_by_role("button", name=f"open {name}").click()
    expect(page).to_have_url(re.compile("select=area"))


def test_contradictions_are_counted_above_the_board_with_a_way_to_each(page, plan, client):
    key, _ = plan
    sender(client, key)(
        [
            {"op": "replace", "path": "/balancers/0/listeners/1/port", "value": 443},
            {"op": "replace", "path": "/networks/0/subnets/1/cidr", "value": "10.20.0.0/23"},
        ]
    )
    page.goto(board(key, "group:tiles"))
    page.get_by_test_id("banner").get_by_role("button", name="3 problems").click()
    inspector = page.get_by_test_id("inspector")
    expect(inspector).to_contain_text("listeners https and http of fells-front both take port 443")
    expect(inspector).to_contain_text("fells-app-1, 10.20.0.0/23, overlaps fells-edge, 10.20.0.0/24")
    expect(inspector).to_contain_text("10.20.11.61 of tiles-next-1 is not in its subnet fells-app-1")
    inspector.get_by_role("button", name="open fells-net").click()
    expect(inspector.get_by_role("heading", level=2)).to_have_text("fells-net")


def test_what_is_typed_while_an_edit_is_on_its_way_is_kept(page, plan, client):
    """The name of a subnet is sent; before the answer comes its range is typed, and left only afterwards."""
    key, ask = plan
    spare = {"name": "spare-net", "region": "fells", "cidr": "10.40.0.0/16"}
    subnets = [{"name": "first", "cidr": "10.40.1.0/24"}]
    sender(client, key)([{"op": "add", "path": "/networks/-", "value": spare | {"subnets": subnets}}])
    page.goto(f"/plans/{key}/board?select=network:spare-net")
    waiting = []
    page.route(f"**/api/plans/{key}", lambda route: waiting.append(route) if is_edit(route) else route.continue_())
    inspector = page.get_by_test_id("inspector")
    place = "/networks/2/subnets/0"
    name, cidr = (inspector.locator(f'[data-path="{place}/{one}"] input').first for one in ("name", "cidr"))
    name.fill("second")
    name.press("Tab")
    cidr.fill("10.40.2.0/24")
    until = time.monotonic() + WAIT_S
    while not waiting:
        assert time.monotonic() < until, "the edit was never sent"
        page.wait_for_timeout(20)
    waiting.pop().continue_()
    expect(inspector.get_by_text("1 · second")).to_be_visible()
    expect(cidr).to_have_value("10.40.2.0/24")
    expect(cidr).to_be_focused()
    page.unroute_all()
    cidr.press("Enter")
    expect(page.get_by_role("button", name="draft · 3 edits")).to_be_visible()
    assert ask()["document"]["networks"][2]["subnets"][0]["cidr"] == "10.40.2.0/24"


def is_edit(route):
    return route.request.method == "PATCH"
