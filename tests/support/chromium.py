"""The browser in which the interface is tested, measured and pictured: Debian's Chromium without a window.

The build that has no window to begin with takes a third less of the processor than the whole one; either will do.
"""

from pathlib import Path

from playwright.sync_api import Browser, Playwright

BUILDS = (Path("/usr/bin/chromium-headless-shell"), Path("/usr/bin/chromium"))
ARGUMENTS = [
    "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run", "--disable-background-networking",
    "--disable-component-update", "--disable-sync", "--font-render-hinting=none",
]  # fmt: skip

# Where each page is left after seconds: scripts are not compiled anew for speed, which takes a sixth of the processor
# and pays only later.
SHORT_LIVED = ["--js-flags=--no-opt --no-maglev"]


def launch(playwright: Playwright, more: list[str] | None = None) -> Browser:
    """A browser with nothing open."""
    build = next(path for path in BUILDS if path.exists())
    return playwright.chromium.launch(executable_path=build, args=[*ARGUMENTS, *(more or [])])
