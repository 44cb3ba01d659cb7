"""The served build, driven in a real browser."""

import re
import subprocess
import sys

import httpx2
import pytest
from playwright.sync_api import expect, sync_playwright

from tests.support.chromium import SHORT_LIVED, launch
from tests.support.waits import WAIT_MS, WAIT_S
from tests.ui.hands import COUNTING, heard


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
        launched = launch(playwright, SHORT_LIVED)
        yield launched
        launched.close()


# One place says how long tests wait.
expect.set_options(timeout=WAIT_MS)

# Answers that a test asks for on purpose; Chromium notes them on the console all the same.
REFUSALS = re.compile(r"Failed to load resource: the server responded with a status of (409|412|422)")


VIEWPORT = {"width": 1280, "height": 800}


@pytest.fixture(scope="session")
def window(browser, server):
    """One page for all tests: what a browser keeps of an application costs a third of a visit, and is kept here."""
    context = browser.new_context(base_url=server, viewport=VIEWPORT, reduced_motion="reduce")
    context.set_default_timeout(WAIT_MS)
    context.add_init_script(COUNTING)
    yield context.new_page()
    context.close()


@pytest.fixture(scope="session")
def outside(server):
    """Asks the server without a browser. One for all tests: each reads who vouches for certificates, which takes longer
    than most questions."""
    with httpx2.Client(base_url=server, timeout=WAIT_S) as asked:
        yield asked


@pytest.fixture
def client(outside):
    """Asks the server without a browser; plans that a test has made are gone after it."""
    before = _keys(outside)
    yield outside
    for key in _keys(outside) - before:
        outside.delete(f"/api/plans/{key}")


def _keys(asked):
    """The plans that are there."""
    return {head["key"] for head in asked.get("/api/plans").json()}


@pytest.fixture
def page(window, client):
    """A page on the served build, as if it were new; an error on its console fails the test."""
    errors = []
    with (
        heard(window, "console", lambda message: errors.append(told(message)) if is_error(message) else None),
        heard(window, "pageerror", lambda error: errors.append(str(error))),
    ):
        yield window
        make_as_new(window)
    assert errors == []


def make_as_new(page):
    """Takes back all that a test has done to a page, and leaves the application."""
    page.unroute_all(behavior="ignoreErrors")
    page.evaluate("() => { if (origin !== 'null') { localStorage.clear(); sessionStorage.clear(); } }")
    page.goto("about:blank")
    page.emulate_media(media="null", color_scheme="null", reduced_motion="reduce")
    page.set_viewport_size(VIEWPORT)


def told(message):
    return f"{message.text} {message.location['url']}"


def is_error(message):
    return message.type == "error" and not REFUSALS.match(message.text)


@pytest.fixture
def api(client):
    return lambda path: client.get(f"/api/plans/beckwater{path}").json()
