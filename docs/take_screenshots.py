"""Takes the screenshots of the main views from the demo plan, at 1280x800, into docs/screenshots."""

import subprocess
import sys
import tempfile
from pathlib import Path

from playwright.sync_api import APIRequestContext, Page, expect, sync_playwright
from tests.support.chromium import launch

FOLDER = Path(__file__).parent / "screenshots"
BOARD = "plans/beckwater/board?drill=lose-fells-2"
# JSON, as the address bar has it: two settings.
SWEEP = (
    "plans/beckwater/compare?way=sweep&drill=lose-fells-2&set="
    "%5B%22probes%2Fready%2Finterval_s%3D4..16%2F2%22%2C%22probes%2Fready%2Funhealthy_after%3D2..5%2F1%22%5D"
)
VIEWS = {
    "sheet": ("plans/beckwater/sheets/machines", "light"),
    "start": ("start", "light"),
    "board": (f"{BOARD}&at=89&select=group%3Atiles", "light"),
    "board-dark": (f"{BOARD}&at=89&select=group%3Atiles", "dark"),
    "board-what-if": (f"{BOARD}&lost=zone%3Afells-2&moment=settled", "light"),
    "trace-served": ("plans/beckwater/trace?client=walkers&times=100", "light"),
    "drill-zone": ("plans/beckwater/drill?drill=lose-fells-2&at=89", "light"),
    "drill-region": ("plans/beckwater/drill?drill=lose-fells&at=160", "light"),
    "compare": ("plans/beckwater-2/compare", "light"),
    "change": ("plans/beckwater-2/compare?way=change", "light"),
    "variants": ("plans/beckwater/compare?way=variants", "light"),
    "sweep": (SWEEP, "light"),
    "handover": ("plans/beckwater/handover", "light"),
    "roll": ("plans/beckwater-2/board?drill=roll&at=62", "light"),
    "losses": ("plans/beckwater/losses", "light"),
    "losses-pairs": ("plans/beckwater/losses?pairs=true", "light"),
    "sizing": ("plans/beckwater/sizing?failed=20000", "light"),
    "findings": ("plans/beckwater/findings", "light"),
    "index": ("plans/beckwater/index", "light"),
}


def fill_in_start(page: Page) -> None:
    """Starts a plan from pasted rows and asks for the proposal."""
    page.get_by_label("What is it called?").fill("Vale flood maps")
    page.get_by_label("Regions and their zones").fill("vale: vale-1, vale-2, vale-3")
    rows = [f"maps-{number}\tvale-{(number - 1) % 3 + 1}\t120" for number in range(1, 10)]
    page.get_by_label("Machines, pasted").fill("\n".join(["name\tzone\tcapacity_rps", *rows]))
    page.get_by_role("button", name="Propose the rest").click()
    page.get_by_role("heading", name="Proposed").wait_for()


def move_the_tiles(address: str, request: APIRequestContext) -> None:
    """A copy of the demo in which the tiles have moved to a new group and probe, with a drill that restarts them."""
    key = request.post(f"{address}api/plans/beckwater/copy").json()["key"]
    document = request.get(f"{address}api/plans/{key}").json()["document"]
    group = next(one for one in document["target_groups"] if one["name"] == "tiles")
    probe = {"name": "deep", "path": "/", "interval_s": 5, "timeout_s": 2, "unhealthy_after": 2, "healthy_after": 2}
    roll = {"name": "roll", "title": "restart the tiles, three at a time", "steps": [
        {"at_s": 60, "roll": {"group": "tiles-deep", "batch": 3}},
    ]}  # fmt: skip
    patch = [
        {"op": "add", "path": "/probes/-", "value": probe},
        {"op": "add", "path": "/target_groups/-", "value": {**group, "name": "tiles-deep", "probe": "deep"}},
        {"op": "add", "path": "/drills/-", "value": roll},
        {"op": "replace", "path": "/balancers/1/address_kind", "value": "floating"},
    ]
    for at, pool in enumerate(document["pools"]):
        for number, tier in enumerate(pool["tiers"]):
            groups = {("tiles-deep" if name == "tiles" else name): weight for name, weight in tier["groups"].items()}
            patch.append({"op": "replace", "path": f"/pools/{at}/tiers/{number}/groups", "value": groups})
    patch.append({"op": "remove", "path": f"/target_groups/{document['target_groups'].index(group)}"})
    answer = request.patch(f"{address}api/plans/{key}", data=patch, headers={"if-match": '"1"'})
    assert answer.ok, answer.text()


def try_a_variant(address: str, request: APIRequestContext) -> None:
    """A variant of the demo with quicker probes."""
    key = request.post(f"{address}api/plans/beckwater/variants", data={"name": "quicker probes"}).json()["key"]
    patch = [
        {"op": "replace", "path": "/probes/0/interval_s", "value": 4},
        {"op": "replace", "path": "/probes/0/timeout_s", "value": 2},
    ]
    answer = request.patch(f"{address}api/plans/{key}", data=patch, headers={"if-match": '"1"'})
    assert answer.ok, answer.text()


def take(page: Page, address: str, name: str, view: str) -> None:
    """Opens a view, waits until it has settled, and keeps its picture."""
    page.goto(address + view)
    # What each view comes to when its answer is there.
    shown = {
        "/trace": "[data-testid=ladder]",
        "/drill": "[data-testid=charts]:not(:has-text('being worked out'))",
        "/sheets": "[role=table]",
        "start": "form",
        "pairs=": "[data-testid=pairs]",
        "/losses": "[data-testid=losses]",
        "/sizing": "[data-testid=sizing]",
        "/findings": "[data-code=cascade]",
        "way=variants": "[data-testid=matrix]",
        "way=sweep": "[data-testid=heat]",
        "way=change": "[data-testid=rehearsed]",
        "/compare": "[data-testid=compared]",
        "/handover": "[data-testid=exports]",
        "/index": "[data-testid=index-count]",
        "select=": "[data-testid=inspector] dl",
    }
    page.locator(next((one for part, one in shown.items() if part in view), "[data-zone]")).first.wait_for(
        timeout=240_000
    )
    # Nothing that is still to come holds its place, with a skeleton or with dots.
    expect(page.get_by_test_id("skeleton")).to_have_count(0, timeout=60_000)
    expect(page.get_by_text("…", exact=True)).to_have_count(0, timeout=60_000)
    page.wait_for_load_state("networkidle", timeout=240_000)
    page.evaluate("document.fonts.ready")
    if name == "start":
        fill_in_start(page)
    if name == "drill-zone":
        page.get_by_role("button", name="Work it out").click()
        page.get_by_text("fewer fail").first.wait_for(timeout=60_000)
    page.screenshot(path=FOLDER / f"{name}.png")


def main(wanted: list[str]) -> None:
    """Serves the demo on a free port and takes the pictures."""
    with tempfile.TemporaryDirectory() as data:
        command = [sys.executable, "-m", "northgate", "demo", "--port", "0", "--no-browser", "--data", data]
        server = subprocess.Popen(command, stdout=subprocess.PIPE, text=True)
        try:
            assert server.stdout is not None
            address = server.stdout.readline().split()[4]
            with sync_playwright() as playwright:
                request = playwright.request.new_context()
                move_the_tiles(address, request)
                try_a_variant(address, request)
                browser = launch(playwright)
                for name, (view, scheme) in VIEWS.items():
                    if not wanted or name in wanted:
                        page = browser.new_page(viewport={"width": 1280, "height": 800}, color_scheme=scheme)
                        take(page, address, name, view)
                browser.close()
        finally:
            server.terminate()
            server.wait()


if __name__ == "__main__":
    main(sys.argv[1:])
