"""Doing a job in the interface as a person would: by clicks, or by keys alone."""

import json
import re
from contextlib import contextmanager

from playwright.sync_api import expect

from tests.ui.drawing import Drawing, value_at

# What counts as a step: a click, a field that has been filled, a key that is no text.
COUNTING = """
const count = () => sessionStorage.setItem("steps", String(Number(sessionStorage.getItem("steps") ?? 0) + 1));
addEventListener("click", (event) => event.isTrusted && event.detail > 0 && count(), true);
addEventListener("change", (event) => event.isTrusted && count(), true);
addEventListener("keydown", ({ key, ctrlKey }) => (key.length > 1 || ctrlKey) && key !== "Shift" && count(), true);
"""


@contextmanager
def heard(page, event, listener):
    """Listens to a page for as long as the block lasts."""
    page.on(event, listener)
    try:
        yield
    finally:
        page.remove_listener(event, listener)


class Hands(Drawing):
    """A plan on the screen, and what one does with it."""

    def steps(self):
        """How many steps have been taken so far."""
        return int(self.page.evaluate("sessionStorage.getItem('steps') ?? 0"))

    def document(self):
        """The plan as it is kept."""
        return self.ask()["document"]

    def find(self, words):
        """Finds something by its name or opens a view, with the palette."""
        self.page.keyboard.press("Escape")
        self.page.keyboard.press("/")
        self.page.get_by_placeholder("An object, a view, an action").fill(words)
        expect(self.page.locator("[cmdk-item][data-selected=true]")).to_be_visible()
        self.page.keyboard.press("Enter")
        expect(self.page.get_by_placeholder("An object, a view, an action")).to_have_count(0)

    def see(self, words):
        """Finds an object, and waits until its settings are there."""
        self.find(words)
        expect(self.inspector.locator("[data-path]").first).to_be_visible()

    def until_there(self, place):
        """Waits until something stands at a place of the plan."""
        self._until_there(place)

    def add_to(self, place):
        """Adds an entry to a list of the inspector, as it is proposed."""
        count = len(value_at(self.document(), place))
        rows = self.inspector.locator(f'[data-path="{place}"] > ol > li')
        rows.last.get_by_role("button", name=re.compile("^add")).click()
        self._until(place, lambda have: len(have) == count + 1, "has no new entry")
        expect(rows).to_have_count(count + 2)

    def write(self, label, text):
        """Fills a field of the inspector by its label."""
        box = self.inspector.get_by_label(label, exact=True).first
        box.fill(text)
        box.press("Enter")

    def choose(self, label, option):
        """Chooses in a field of the inspector by its label."""
        self.inspector.get_by_label(label, exact=True).first.select_option(label=option)

    def trace(self, url=None, *choices):
        """Sends a request on its way: `choices` say how often, and what is new each time."""
        self.page.get_by_role("navigation", name="Views").get_by_role("link", name="Trace").click()
        expect(self.page).to_have_url(re.compile("/trace"))
        form = self.page.get_by_role("form", name="One request")
        if url:
            form.get_by_label("To", exact=True).fill(url)
            form.get_by_label("To", exact=True).press("Enter")
        for choice in choices:
            form.get_by_role("radio", name=choice, exact=True).click()
        expect(self.page.get_by_test_id("ending")).to_be_visible()

    def board(self):
        """Goes to the board."""
        self.page.get_by_role("navigation", name="Views").get_by_role("link", name="Board").click()

    def drill(self):
        """Goes to the drill."""
        self.page.get_by_role("navigation", name="Views").get_by_role("link", name="Drill").click()
        expect(self.page.get_by_test_id("summary")).to_be_visible()


class Keys(Hands):
    """The same with the keyboard alone: no click, no pointer, and what has the focus is told by its name."""

    MOST_TABS = 120
    NAME = """() => {
      const one = document.activeElement;
      const label = one?.getAttribute("aria-label") ?? one?.labels?.[0]?.textContent ?? one?.textContent ?? "";
      return label.trim();
    }"""

    def press(self, *keys):
        """Presses keys, one after the other."""
        for key in keys:
            self.page.keyboard.press(key)

    def tab_to(self, name):
        """Goes on with Tab until what has the focus has this name."""
        for _ in range(self.MOST_TABS):
            self.page.keyboard.press("Tab")
            if self.page.evaluate(self.NAME) == name:
                return
        raise AssertionError(f"nothing named {name!r} comes within {self.MOST_TABS} presses of Tab")

    def fill(self, name, text):
        """Goes to a field, writes over what it holds, and leaves it with Enter."""
        self.tab_to(name)
        self.press("Control+a")
        self.page.keyboard.type(text)
        self.press("Enter")

    def pick(self, name, option):
        """Goes to a choice, and types the beginning of what is wanted."""
        self.tab_to(name)
        self.page.keyboard.type(option)

    def add_kind(self, kind):
        """Opens the panel that adds an object of a kind, and goes to its first field."""
        self.find(f"Add: {kind}")
        panel = self.page.get_by_role("complementary", name="Add to the plan")
        expect(panel.get_by_role("radio", name=kind, exact=True)).to_have_attribute("aria-checked", "true")

    def added(self):
        """Adds what the panel shows."""
        self.tab_to("Add")
        self.press("Enter")
        expect(self.page.get_by_role("complementary", name="Add to the plan")).to_have_count(0)


def number_in(text):
    """The first number of a text."""
    return float(re.sub(r"[, ]", "", re.search(r"-?[\d,]+(\.\d+)?", text)[0]))


def plan_text(data):
    """A plan as one would give it to the server."""
    return json.dumps(data)
