"""The page that tests share is as new for each of them."""

import pytest
from playwright.sync_api import expect

from tests.ui.conftest import VIEWPORT, make_as_new

pytestmark = pytest.mark.xdist_group("browser")


def test_nothing_that_a_test_has_done_to_the_page_is_left(page):
    page.route("**/api/plans", lambda route: route.abort())
    page.goto("/plans/beckwater/board")
    page.evaluate("() => { localStorage.setItem('northgate-theme', 'night'); sessionStorage.setItem('steps', '7'); }")
    page.emulate_media(media="print", color_scheme="dark")
    page.set_viewport_size({"width": 400, "height": 300})
    make_as_new(page)
    assert page.url == "about:blank"
    page.goto("/plans")
    told = page.evaluate(
        """async () => [
          localStorage.length, sessionStorage.length, matchMedia("print").matches,
          matchMedia("(prefers-color-scheme: dark)").matches, innerWidth, innerHeight, (await fetch("/api/plans")).ok,
        ]"""
    )
    assert told == [0, 0, False, False, VIEWPORT["width"], VIEWPORT["height"], True]


def test_what_may_not_be_copied_is_selected(page):
    page.goto("/plans/beckwater/handover")
    page.evaluate("() => { navigator.clipboard.writeText = () => Promise.reject(new DOMException('no')); }")
    page.get_by_role("button", name="Copy northgate export").click()
    expect(page.get_by_text("The browser does not let it be copied")).to_be_visible()
    assert page.evaluate("getSelection().toString()").startswith("northgate export beckwater.plan.yaml")
