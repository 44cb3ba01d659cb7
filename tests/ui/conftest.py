"""The served build, driven in a real browser."""

import re
import subprocess
import sys

import httpx2
import pytest
from playwright.sync_api import expect, sync_playwright

from tests.support.chromium import launch
from tests.support.waits import WAIT_MS, WAIT_S


@pytest.fixture(scope="session")
def server(tmp_path_factory):
    data = tmp_path_factory.mktemp("data")
    command = [sys.executable, "-m", "northgate", "demo", "--port", "0", "--no-browser", "--data", str(data)]
    process = subprocess.Popen(command, stdout=subprocess.PIPE, text=True)
    yield process.stdout.readline().split()[4]
    process.terminate()
    process.wait()
    process.stdout.close()


@pytest.fixture(scope="session")
def browser():
    with sync_playwright() as playwright:
        launched = launch(playwright)
        yield launched
        launched.close()


# One place says how long tests wait.
expect.set_options(timeout=WAIT_MS)

# Answers that a test asks for on purpose; Chromium notes them on the console all the same.
REFUSALS = re.compile(r"Failed to load resource: the server responded with a status of (409|412|422)")


@pytest.fixture
def page(browser, server):
    """A page on the served build; an error on its console fails the test."""
    context = browser.new_context(base_url=server, viewport={"width": 1280, "height": 800}, reduced_motion="reduce")
    context.set_default_timeout(WAIT_MS)
    opened = context.new_page()
    errors = []
    opened.on(
        "console",
        lambda message: errors.append(f"{message.text} {message.location['url']}") if is_error(message) else None,
    )
    opened.on("pageerror", lambda error: errors.append(str(error)))
    yield opened
    context.close()
    assert errors == []


def is_error(message):
    return message.type == "error" and not REFUSALS.match(message.text)


@pytest.fixture
def api(server):
    with httpx2.Client(base_url=f"{server}api/plans/beckwater", timeout=WAIT_S) as client:
        yield lambda path: client.get(path).json()
