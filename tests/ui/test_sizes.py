"""Every view at three sizes, by day and by night: nothing is cut off, and nobody is kept out."""

import re

import pytest
from axe_playwright_python.sync_playwright import Axe
from playwright.sync_api import expect

pytestmark = pytest.mark.xdist_group("browser")

# JSON, as the address bar has it.
SWEPT = "%5B%22clients/walkers/rps%3D100..900/400%22%5D"
VIEWS = {
    "board": ("/plans/beckwater/board?select=group:tiles", "[data-testid=consequence]"),
    "add": ("/plans/beckwater/board?add=balancer", "[data-testid=add-panel]"),
    "what if": ("/plans/beckwater/board?lost=zone:fells-2&moment=at_once", "[data-testid=what-if-failed]"),
    "trace": ("/plans/beckwater/trace?times=20&vary=area", "[data-testid=by-area]"),
    "drill": ("/plans/beckwater/drill?at=89", "[data-testid=strip]"),
    "losses": ("/plans/{small}/losses", "[data-testid=losses]"),
    "sizing": ("/plans/{small}/sizing?failed=20000", "[data-testid=sizing]"),
    "findings": ("/plans/beckwater/findings", "[data-code=cascade]"),
    "compare": ("/plans/{small}/compare", "[data-testid=compared]"),
    "change": ("/plans/{small}/compare?way=change", "[data-testid=rehearsed]"),
    "usual": ("/plans/{small}/compare?way=usual&usual=empty&at=31", "[data-testid=rehearsed] [data-testid=board]"),
    "variants": ("/plans/{small}/compare?way=variants", "[data-testid=matrix]"),
    "sweep": (f"/plans/{{small}}/compare?way=sweep&set={SWEPT}", "[data-testid=heat]"),
    "log": ("/plans/{small}/compare?way=log", "[data-testid=log]"),
    "hand over": ("/plans/{small}/handover", "[data-testid=exports]"),
    "sheet": ("/plans/beckwater/sheets/pools", "[role=row]"),
    "index": ("/plans/beckwater/index", "[data-testid=index-count]"),
    "plans": ("/plans", "[data-testid=plans] li"),
    "start": ("/start", "main h1"),
}
# The last is a window of 1280 CSS pixels at 200 %, the middle one a telephone.
SIZES = [(1280, 800), (400, 800), (640, 400)]

# What axe is asked: everything by day, and by night, where only colours are others, what depends on them.
# Who steers by voice says the words on the screen: a name for those who do not see begins with them.
NAMED_AS_SEEN = {"label-content-name-mismatch": {"enabled": True}}
EVERYTHING = {"resultTypes": ["violations"], "rules": NAMED_AS_SEEN}
COLOURS = {"resultTypes": ["violations"], "runOnly": ["color-contrast", "link-in-text-block"]}
THEMES = {"day": EVERYTHING, "night": COLOURS}


# Texts of which an end is hidden, and that nothing tells whole.
CUT = """() => {
  const cut = new Set();
  for (const one of document.querySelectorAll("main *, header *")) {
    const style = getComputedStyle(one);
    const own = [...one.childNodes].some((node) => node.nodeType === Node.TEXT_NODE && node.textContent.trim());
    if (!own || ["visible", "auto"].includes(style.overflowX) || style.position === "absolute") continue;
    const hidden = one.clientWidth > 0 && one.scrollWidth > one.clientWidth + 1;
    if (hidden && !one.closest("[title]")) cut.add(one.textContent);
  }
  return [...cut];
}"""


@pytest.fixture
def small(page):
    """A plan of few parts, whose losses are soon computed: its key."""
    return page.request.post("/api/examples/trap-own-zone").json()["key"]


@pytest.mark.parametrize("view", VIEWS)
def test_a_view_is_whole_at_any_size_by_day_and_night(page, small, view):
    """No violation of accessibility, nothing cut off; one heading, one main part, a title, and a way to skip to it."""
    url, there = VIEWS[view]
    page.goto(url.format(small=small))
    expect(page.locator(there).first).to_be_attached()
    _has_one_heading_one_main_part_and_a_title(page)
    page.evaluate(Axe().axe_script)
    for width, height in SIZES:
        page.set_viewport_size({"width": width, "height": height})
        for theme, asked in THEMES.items():
            page.evaluate("theme => { document.documentElement.dataset.theme = theme }", theme)
            # What is still being loaded would change under the eyes of the check.
            expect(page.get_by_test_id("skeleton")).to_have_count(0)
            found = page.evaluate("options => axe.run(options)", asked)["violations"]
            told = [(one["id"], [node["target"] for node in one["nodes"]][:3]) for one in found]
            assert told == [], f"{width} x {height} by {theme}"
        overflow = page.evaluate("document.documentElement.scrollWidth - document.documentElement.clientWidth")
        assert overflow <= 0, f"cut off at {width} x {height}"
        assert page.evaluate(CUT) == [], f"at {width} x {height}"


def _has_one_heading_one_main_part_and_a_title(page):
    assert (page.locator("h1").count(), page.locator("main").count()) == (1, 1)
    expect(page).to_have_title(re.compile("North Gate$"))
    skip = page.locator("a, button, input, select").first
    expect(skip).to_have_text("Skip to the main part")
    skip.focus()
    expect(skip).to_be_in_viewport()
    expect(page.locator("main#main")).to_have_count(1)


def test_what_is_lost_and_what_fails_is_told_whole_beside_problems(page):
    key = page.request.post("/api/plans/beckwater/copy").json()["key"]
    patch = [{"op": "replace", "path": "/balancers/0/listeners/0/certificate", "value": None}]
    assert page.request.patch(f"/api/plans/{key}", data=patch, headers={"if-match": '"1"'}).ok
    page.goto(f"/plans/{key}/board?lost=zone:fells-2&moment=settled")
    expect(page.get_by_test_id("what-if-failed")).to_contain_text("fail until noticed")
    expect(page.get_by_role("button", name="1 problem")).to_be_visible()
    assert page.evaluate(CUT) == []


def test_a_narrow_window_gives_the_board_all_of_it_until_something_is_picked(page):
    page.set_viewport_size({"width": 400, "height": 800})
    page.goto("/plans/beckwater/board")
    expect(page.locator("[data-part='group:tiles']")).to_be_visible()
    inspector = page.get_by_test_id("inspector")
    expect(inspector).not_to_be_visible()
    page.locator("[data-part='group:tiles']").click()
    expect(inspector).to_be_visible()
    inspector.get_by_role("button", name="Close").click()
    expect(inspector).not_to_be_visible()
    page.get_by_role("button", name="Show the time line").click()
    expect(page.get_by_label("Second of the drill")).to_be_visible()


def test_arrow_keys_go_from_berth_to_berth(page):
    page.goto("/plans/beckwater/board")
    first = page.locator("[data-part='berth:tiles/tiles-1']")
    first.focus()
    page.keyboard.press("ArrowRight")
    expect(page.locator("[data-part='berth:tiles/tiles-2']")).to_be_focused()
    page.keyboard.press("Home")
    expect(first).to_be_focused()


def test_on_paper_stands_the_view_alone_and_all_of_it(page):
    page.goto("/plans/beckwater/trace?times=20")
    expect(page.get_by_test_id("beads")).to_be_visible()
    page.emulate_media(media="print")
    expect(page.get_by_role("banner")).not_to_be_visible()
    expect(page.get_by_role("form", name="One request")).not_to_be_visible()
    assert page.evaluate("document.documentElement.scrollHeight") >= page.locator("main").bounding_box()["height"]
    page.emulate_media(media="screen")
    page.goto("/plans/beckwater/board?select=group:tiles")
    expect(page.get_by_test_id("consequence")).to_be_visible()
    page.emulate_media(media="print")
    expect(page.get_by_test_id("inspector")).not_to_be_visible()
    expect(page.locator("[data-zone=fells-1]")).to_be_visible()
