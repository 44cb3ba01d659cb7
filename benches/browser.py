"""How long the interface takes on the demo and on a large plan, by the application's own performance marks."""

import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from typing import Any

from benches.figures import row
from tests.support.chromium import launch

from northgate.plan.generated import generated_plan
from northgate.plan.writing import plan_as_json

STARTS = 5
BOARD, DEMO_ZONES = "plans/beckwater/board", ("fells-1", "fells-2", "fells-3", "coast-1", "coast-2")
# Notes in a page when its board has been painted.
WHEN_PAINTED = """new MutationObserver((_, self) => {
  if (!document.querySelector("[data-zone]")) return;
  self.disconnect();
  requestAnimationFrame(() => setTimeout(() => { window.painted = Date.now(); }));
}).observe(document, { childList: true, subtree: true });"""


def browser() -> None:
    """The interface on the demo: opening the board, and from a click on "what if" to the repainted board."""
    from playwright.sync_api import sync_playwright

    print("Interface on the demo (the application's own performance marks)")
    with sync_playwright() as playwright:
        _starts(playwright)
    with tempfile.TemporaryDirectory() as data, sync_playwright() as playwright, _served(playwright, data) as served:
        page, address, _ = served
        page.goto(address + BOARD, wait_until="commit")
        for _ in range(5):
            page.goto(address + BOARD, wait_until="commit")
            _painted(page)
        row("opening the board again", page.evaluate("painted - performance.timeOrigin"))
        row("what if: click to repaint, the pointer on the button for 0.3 s, median of 20", _what_if_ms(page, 300))
        row("what if: click to repaint, nobody before it, median of 20", _what_if_ms(page, 0))
        row("edit to repaint, median of 10", _edit_ms(page, "beckwater"))
        large = generated_plan(targets=2000, zones=12, groups=40, rules=300)
        body = plan_as_json(large).encode()
        key = page.request.post(address + "api/plans", data=body, headers={"content-type": "text/plain"}).json()["key"]
        opening = time.perf_counter()
        page.goto(f"{address}plans/{key}/board")
        page.locator("[data-zone]").first.wait_for()
        row("opening of a board with 2,000 targets, 12 zones, 300 rules", (time.perf_counter() - opening) * 1000)
        row("edit to repaint on it, median of 10", _edit_ms(page, key))
        regions = [region.name for region in large.regions]
        taken = _what_if_ms(page, 300, f"plans/{key}/board", regions)
        row("what if on it: click to repaint, the pointer on the button for 0.3 s, median of 20", taken)


@contextmanager
def _served(playwright: Any, data: str) -> Iterator[tuple[Any, str, float]]:
    """A page of a browser that is open when the demo's server over a folder is started, the server's address, and when
    it was started (s)."""
    launched = launch(playwright)
    page = launched.new_page(viewport={"width": 1280, "height": 800})
    page.add_init_script(WHEN_PAINTED)
    command = [sys.executable, "-m", "northgate", "demo", "--port", "0", "--no-browser", "--data", data]
    started = time.time()
    server = subprocess.Popen(command, stdout=subprocess.PIPE, text=True)
    assert server.stdout is not None
    yield page, server.stdout.readline().split()[4], started
    launched.close()
    server.terminate()
    server.wait()


def _starts(playwright: Any) -> None:
    """From the command to the first board: of the demo, whose first answers are made at set-up, and of a plan of one's
    own, which is read and computed: the demo as edited."""
    told: list[float] = []
    painted: dict[str, list[float]] = {"": [], ", edited": []}
    for _ in range(STARTS):
        with tempfile.TemporaryDirectory() as data:
            for boards in painted.values():
                with _served(playwright, data) as (page, address, started):
                    told.append((time.time() - started) * 1000)
                    page.goto(address + BOARD, wait_until="commit")
                    boards.append(_painted(page) - started * 1000)
                    edit = [{"op": "add", "path": "/title", "value": "Beckwater, edited"}]
                    page.request.patch(f"{address}api/plans/beckwater", data=edit, headers={"if-match": '"1"'})
    row(f"from the demo command to its address, median of {2 * STARTS}", statistics.median(told))
    for whose, boards in painted.items():
        row(f"from the command to the first board{whose}, median of {STARTS}", statistics.median(boards))


def _painted(page: Any) -> float:
    """When the board was there, in ms."""
    page.locator("[data-zone]").first.wait_for()
    page.wait_for_timeout(300)
    return float(page.evaluate("painted"))


def _what_if_ms(page: Any, resting_ms: int, board: str = BOARD, zones: Sequence[str] = DEMO_ZONES) -> float:
    """Breaks each zone in turn, each time from a fresh question, after the pointer has rested on the button for a while
    (people's do, a program's need not), and reads the marks."""
    taken = []
    for number in range(20):
        zone = zones[number % len(zones)]
        page.goto(page.url.split("/plans")[0] + f"/{board}")
        button = page.get_by_role("button", name=f"What if {zone} were lost?")
        if resting_ms:
            button.hover()
            page.wait_for_timeout(resting_ms)
        button.click()
        page.wait_for_timeout(1000)
        taken.append(page.evaluate("performance.getEntriesByName('what-if-repaint')[0].duration"))
    return statistics.median(taken)


def _edit_ms(page: Any, key: str) -> float:
    """Changes a probe's interval again and again, and reads the marks."""
    page.goto(page.url.split("/plans")[0] + f"/plans/{key}/board")
    page.locator("[data-zone]").first.wait_for()
    page.goto(page.url + "?select=" + page.evaluate("document.querySelector('[data-part^=\"group:\"]').dataset.part"))
    every = page.get_by_test_id("inspector").get_by_label("Every", exact=True).first
    every.wait_for()
    page.wait_for_load_state("networkidle")
    taken = []
    for number in range(10):
        page.evaluate("performance.clearMeasures('edit-repaint')")
        every.fill(str(11 + number))
        every.press("Enter")
        page.wait_for_timeout(1500)
        taken += page.evaluate("performance.getEntriesByName('edit-repaint').map((one) => one.duration)")
    return statistics.median(taken)
