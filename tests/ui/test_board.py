"""The board in a real browser: what it shows is what the engine says."""

import re
from urllib.parse import urlsplit

import pytest
from playwright.sync_api import expect

from northgate.store.head import Head
from northgate.web.door.ahead import questions
from tests.ui.hands import heard

pytestmark = pytest.mark.xdist_group("browser")

BOARD = "/plans/beckwater/board"
DRILL = "/drills/lose-fells-2"


def number(text):
    return float(re.search(r"[\d,]+(\.\d+)?", text)[0].replace(",", ""))


def zone(page, name):
    return page.locator(f"[data-zone={name}]")


def reading(page, label):
    row = page.get_by_test_id("inspector").locator("dl > div").filter(has=page.get_by_text(label, exact=True))
    return row.first.locator("dd").inner_text()


def test_the_demo_opens_on_its_board(page, api):
    page.goto("/")
    expect(page).to_have_url(re.compile("/plans/beckwater/board"))
    expect(page.get_by_test_id("banner")).to_have_attribute("data-mode", "now")
    state = api("/state")
    for one in state["zones"]:
        shown = zone(page, one["name"]).locator("[data-reading=zone-served]").inner_text()
        assert number(shown) == round(one["served_rps"])
    assert page.locator("[data-part^='berth:']").count() == len(state["berths"])
    assert page.evaluate("document.fonts.check('13px \"Public Sans Variable\"')")


def test_what_the_board_of_the_demo_asks_is_what_is_made_ahead(page, api):
    """Nothing else, so that a new server answers all of it from what was made at set-up."""
    asked = []
    with heard(page, "request", lambda request: asked.append(urlsplit(request.url))):
        page.goto(BOARD)
        expect(page.get_by_test_id("strip")).to_be_visible()
        expect(page.get_by_test_id("count-risks")).to_be_visible()
    head = Head("beckwater", revision=1, agreed=None, can_undo=False, can_redo=False, edits=0)
    groups = {row["group"] for row in api("/drills/lose-fells-2")["blind"]}
    made = set(questions(head, "lose-fells-2", groups))
    known = {(one.path, one.query) for one in asked if one.path.startswith("/api/")}
    assert len(known) >= 7
    assert known <= made


def test_breaking_a_zone_shows_what_fails_at_once_noticed_and_settled(page):
    page.goto(BOARD)
    zone(page, "fells-2").get_by_role("button", name="What if fells-2 were lost?").click()
    banner = page.get_by_test_id("banner")
    expect(banner).to_have_attribute("data-mode", "what-if")
    expect(banner).to_contain_text("What if fells-2 were lost")
    expect(zone(page, "fells-2")).to_have_attribute("data-lost", "true")
    asked = page.request.post("/api/plans/beckwater/what-if", data={"faults": [{"zone": "fells-2"}]}).json()
    assert number(reading(page, "Failing")) == round(asked["at_once"]["failed_rps"])
    assert number(page.get_by_test_id("what-if-failed").inner_text()) == round(asked["failed_until_noticed"])
    page.get_by_role("radio", name="settled").click()
    expect(page.get_by_test_id("inspector")).to_contain_text("When it has settled")
    assert reading(page, "Failing") == "none"
    expect(page).to_have_url(re.compile("lost=zone%3Afells-2.*moment=settled|moment=settled.*lost="))
    page.get_by_role("button", name="back to now").click()
    expect(zone(page, "fells-2")).to_have_attribute("data-lost", "false")


def test_what_a_loss_comes_to_is_asked_once_the_pointer_rests_on_it(page):
    asked = []
    page.goto(BOARD)
    button = zone(page, "fells-3").get_by_role("button", name="What if fells-3 were lost?")
    with heard(page, "request", lambda one: asked.append(one.post_data) if "/what-if?" in one.url else None):
        with page.expect_response(lambda answer: "/what-if" in answer.url):
            button.hover()
        expect(page.get_by_test_id("banner")).not_to_have_attribute("data-mode", "what-if")
        button.click()
        expect(page.get_by_test_id("what-if-failed")).to_be_visible()
        # By the keyboard the same.
        with page.expect_response(lambda answer: "/what-if" in answer.url):
            zone(page, "fells-1").get_by_role("button", name="What if fells-1 were lost?").focus()
    assert len(asked) == 2


def test_x_breaks_what_has_the_focus_and_brings_it_back(page):
    page.goto(BOARD)
    berth = page.locator("[data-part='berth:tiles/tiles-8']")
    berth.focus()
    page.keyboard.press("x")
    expect(page.get_by_test_id("banner")).to_contain_text("What if tiles-8 were lost")
    expect(berth).to_have_attribute("aria-label", re.compile("tiles-8 of tiles: silent, believed in use.*not noticed"))
    page.keyboard.press("x")
    expect(page.get_by_test_id("banner")).to_have_attribute("data-mode", "now")


def test_the_cursor_moves_the_whole_board(page, api):
    page.goto(f"{BOARD}?drill=lose-fells-2&at=89&select=group%3Atiles")
    expect(page.get_by_test_id("banner")).to_contain_text("Second 89")
    for second in (89, 64, 300):
        page.goto(f"{BOARD}?drill=lose-fells-2&at={second}&select=group%3Atiles")
        expect(page.get_by_test_id("banner")).to_contain_text(f"Second {second}")
        page.wait_for_load_state("networkidle")
        state = api(f"{DRILL}/state?at={second}")
        group = next(one for one in state["groups"] if one["name"] == "tiles")
        assert number(reading(page, "Offered")) == round(group["rps"])
        assert number(reading(page, "Served")) == round(group["served_rps"])
        failing = reading(page, "Failing")
        assert (0 if failing == "none" else number(failing)) == round(group["failed_rps"])
        for one in state["zones"]:
            if not one["lost"]:
                shown = zone(page, one["name"]).locator("[data-reading=zone-served]").inner_text()
                assert number(shown) == round(one["served_rps"])


def test_dragging_and_stepping_move_the_cursor(page, api):
    page.goto(BOARD)
    slider = page.get_by_role("slider", name="Second of the drill")
    box = slider.bounding_box()
    page.mouse.move(box["x"] + 300, box["y"] + 80)
    page.mouse.down()
    page.mouse.move(box["x"] + 420, box["y"] + 80, steps=8)
    page.mouse.up()
    expect(page.get_by_test_id("banner")).to_have_attribute("data-mode", "drill")
    second = int(slider.get_attribute("aria-valuenow"))
    assert 60 < second < 200
    events = api(DRILL)["series"]["t_s"]
    page.keyboard.press(".")
    following = next(time for time in events if time > second)
    expect(slider).to_have_attribute("aria-valuenow", str(following))
    slider.focus()
    page.keyboard.press("Home")
    expect(slider).to_have_attribute("aria-valuenow", "0")
    page.keyboard.press("ArrowRight")
    expect(slider).to_have_attribute("aria-valuenow", "1")
    page.keyboard.press("Escape")
    expect(page.get_by_test_id("banner")).to_have_attribute("data-mode", "now")


def test_a_berth_shows_truth_against_belief(page):
    page.goto(f"{BOARD}?drill=lose-fells-2&at=61")
    page.locator("[data-part='berth:tiles/tiles-7']").click()
    expect(page.get_by_test_id("inspector")).to_contain_text("tiles-7")
    assert reading(page, "Truth") == "silent"
    assert reading(page, "Belief") == "in use · 2 of 2 fronts"
    expect(page.locator("[data-testid=strip]")).to_have_attribute("data-target", "tiles-7")
    expect(page.get_by_test_id("consequence")).to_contain_text("25–35 s")


def test_every_kind_of_thing_opens_in_the_inspector(page):
    page.goto(f"{BOARD}?drill=lose-fells-2&at=61")
    for part, title in (
        ("client:walkers", "walkers"), ("name:www.beckwater.example", "www.beckwater.example"),
        ("balancer:fells-front", "fells-front"), ("listener:fells-front/https", "https 443"),
        ("front:fells-front/fells-2", "fells-2"), ("zone:fells-3", "fells-3"), ("group:alerts-api", "alerts-api"),
    ):  # fmt: skip
        page.locator(f"[data-part='{part}']").click()
        expect(page.get_by_test_id("inspector").get_by_role("heading", level=2)).to_have_text(title)
    page.go_back()
    expect(page.get_by_test_id("inspector").get_by_role("heading", level=2)).to_have_text("fells-3")


def test_night_is_kept_over_a_reload(page):
    page.goto(BOARD)
    page.get_by_role("button", name="Night survey").click()
    page.reload()
    expect(page.locator("html")).to_have_attribute("data-theme", "night")
    page.get_by_role("button", name="Day survey").click()


def test_the_keys_are_listed(page):
    page.goto(BOARD)
    expect(page.get_by_test_id("board")).to_be_visible()
    page.keyboard.press("?")
    expect(page.get_by_role("dialog", name="Keys")).to_contain_text("next event of the drill")


def test_an_unknown_plan_says_so_and_names_the_nearest(browser, server):
    page = browser.new_page(base_url=server)
    page.goto("/plans/bekwater/board")
    expect(page.get_by_role("alert")).to_contain_text("did you mean 'beckwater'?")
    page.close()


def test_a_first_start_is_shown_around_in_five_steps_and_left_for_good(page):
    page.goto("/")
    card = page.get_by_role("dialog", name=re.compile("Tour, step"))
    expect(card).to_contain_text("1 of 5")
    page.keyboard.press("Enter")
    expect(page).to_have_url(re.compile("lost=zone%3Afells-2"))
    expect(card).to_contain_text("What if fells-2 were lost?")
    card.get_by_role("button", name="Next").click()
    expect(page).to_have_url(re.compile("drill=lose-fells-2&at=89"))
    card.get_by_role("button", name="Next").click()
    expect(page.get_by_test_id("summary")).to_contain_text("requests fail")
    card.get_by_role("button", name="Back").click()
    expect(card).to_contain_text("3 of 5")
    page.keyboard.press("Escape")
    expect(card).to_have_count(0)
    page.goto("/")
    expect(page.get_by_test_id("banner")).to_be_visible()
    expect(card).to_have_count(0)
    page.keyboard.press("/")
    page.get_by_placeholder("An object, a view, an action").fill("tour")
    page.keyboard.press("Enter")
    expect(card).to_contain_text("1 of 5")


def test_until_the_plans_are_there_the_door_shows_the_shapes_of_what_will_be(page):
    held = []

    def hold(route):
        held.append(route)

    page.route("**/api/plans", hold)
    page.goto("/")
    expect(page.get_by_role("status", name="Opening the plans")).to_be_visible()
    expect(page.get_by_test_id("skeleton").first).to_be_visible()
    held[0].continue_()
    expect(page.get_by_test_id("banner")).to_be_visible()


def test_an_address_of_nothing_says_so_and_leads_back(page):
    page.goto("/plans/beckwater/elsewhere")
    expect(page.get_by_role("heading", level=1)).to_have_text("There is nothing at this address")
    page.get_by_role("main").get_by_role("link", name="All plans").click()
    expect(page).to_have_url(re.compile("/plans$"))


def test_a_view_is_gone_to_and_back_from_as_the_browser_does(page):
    page.goto("/plans/beckwater/board?select=zone%3Afells-1")
    views = page.get_by_role("navigation", name="Views")
    views.get_by_role("link", name="Index").click()
    expect(views.get_by_role("link", name="Index")).to_have_attribute("aria-current", "page")
    page.go_back()
    expect(page).to_have_url(re.compile("/board.select=zone%3Afells-1$"))
    expect(views.get_by_role("link", name="Board")).to_have_attribute("aria-current", "page")
    page.go_forward()
    expect(page).to_have_url(re.compile("/index$"))
    # With a key held it opens elsewhere, and this page stays.
    views.get_by_role("link", name="Drill").click(modifiers=["ControlOrMeta"])
    expect(page).to_have_url(re.compile("/index$"))
