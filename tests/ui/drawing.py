"""Draws objects through the forms of the inspector: each value is typed, chosen or clicked, field by field."""

import re
import time

from playwright.sync_api import expect

from tests.support.waits import WAIT_S

LABELS = "all => all.map((one) => one.getAttribute('aria-label') ?? one.textContent)"
NOTHING = {"reference": "none", "choice": "as by default"}


def visit(page, address):
    """Goes to an address of the application in which one is already, as by its links: without loading it anew."""
    page.evaluate("address => history.pushState(null, '', address)", address)


def value_at(document, place):
    """What stands at a JSON Pointer."""
    for part in place.split("/")[1:]:
        key = part.replace("~1", "/").replace("~0", "~")
        document = document[int(key)] if isinstance(document, list) else document[key]
    return document


def escaped(key):
    return key.replace("~", "~0").replace("/", "~1")


class Drawing:
    """A plan on the screen; `ask` gives its document as the server keeps it."""

    def __init__(self, page, key, ask):
        self.page, self.key, self.ask = page, key, ask
        self.inspector = page.get_by_test_id("inspector")

    def open(self, select):
        """Opens an object in the inspector."""
        visit(self.page, f"/plans/{self.key}/board?select={select}" if select else f"/plans/{self.key}/board")
        expect(self.inspector.locator("[data-path]").first).to_be_visible()

    def add(self, kind, name, **first):
        """Adds an object beside the board, and stays in the inspector where it then is."""
        self.page.keyboard.press("Escape")
        self.page.get_by_role("button", name="Add", exact=True).click()
        panel = self.page.get_by_role("complementary", name="Add to the plan")
        panel.get_by_role("radio", name=kind, exact=True).click()
        for label, value in first.items():
            panel.get_by_label(label, exact=True).select_option(value)
        panel.get_by_label("Name", exact=True).fill(name)
        panel.get_by_role("button", name="Add", exact=True).last.click()
        expect(panel).to_have_count(0)
        expect(self.inspector.locator("[data-path]").first).to_be_visible()

    def add_rule(self, place, want):
        """Adds a rule to the listener in the inspector, and makes it what it is to be."""
        self.inspector.get_by_role("button", name="add a rule").click()
        row = self.inspector.get_by_test_id("rules").locator("> li").nth(int(place.rpartition("/")[2]))
        expect(row.get_by_role("button", name="done")).to_be_visible()
        name = row.get_by_label("Name", exact=True)
        name.fill(want["name"])
        name.press("Enter")
        self._wait(f"{place}/name", want["name"])
        for field in ("when", "do"):
            self.become(f"{place}/{field}", want[field])

    def rename(self, select, to):
        """Gives an object another name."""
        self.open(select)
        name = self.inspector.get_by_label("Name", exact=True).last
        name.fill(to)
        name.press("Enter")
        expect(self.inspector.get_by_role("heading", level=2)).to_have_text(to)

    def remove(self, select):
        """Deletes an object on which nothing else stands."""
        self.open(select)
        self.inspector.get_by_role("button", name="Delete", exact=True).click()
        expect(self.page).not_to_have_url(re.compile("select="))

    def become(self, place, want):
        """Edits what stands at a place until it is what is wanted."""
        have = value_at(self.ask()["document"], place)
        if have == want:
            return
        if isinstance(want, dict):
            self._object_or_map(place, have, want)
        elif isinstance(want, list) and any(isinstance(one, dict) for one in [*want, *(have or [])]):
            self._list(place, have or [], want)
        else:
            self._write(place, self._row(place).locator("input, select").last, want)
            return
        self._wait(place, want)

    def _row(self, place):
        return self.inspector.locator(f'[data-path="{place}"]').first

    def _wait(self, place, want):
        self._until(place, lambda have: have == want, f"is not {want}")

    def _until_there(self, place):
        return self._until(place, lambda have: have is not None, "is not there")

    def _until(self, place, well, otherwise):
        until = time.monotonic() + WAIT_S
        while not well(have := value_at(self.ask()["document"], place)):
            assert time.monotonic() < until, f"{place} {otherwise}: {have}"
            time.sleep(0.1)
        return have

    def _write(self, place, control, want):
        if control.evaluate("one => one.tagName") == "SELECT":
            nothing = [one for one in control.locator("option").all_inner_texts() if one in NOTHING.values()]
            label = nothing[0] if want is None else str(want)
            options = control.locator("option").all_inner_texts()
            control.select_option(label=label if label in options else label.replace("-", " "))
        elif control.get_attribute("type") == "checkbox":
            control.click()
        else:
            control.fill(", ".join(map(str, want)) if isinstance(want, list) else "" if want is None else str(want))
            control.press("Enter")
        self._wait(place, want)

    def _object_or_map(self, place, have, want):
        if have is None and self._row(place).get_by_role("textbox", name=re.compile("^add")).count():
            have = {}
        if have is None:
            self._row(place).get_by_role("button", name=re.compile("^add")).click()
            have = self._until_there(place)
        if set(have) != set(want) or self._is_map(place, have):
            self._map(place, have, want)
            return
        chosen = self.inspector.locator(f'[data-path^="{place}/"] select[aria-label="What it is"]')
        given = [key for key in want if want[key] is not None and have[key] is None]
        taken = [key for key in want if want[key] is None and have[key] is not None]
        if given and taken and chosen.count():
            chosen.first.select_option(given[0])
            self._until_there(f"{place}/{escaped(given[0])}")
        for key, value in want.items():
            if have[key] != value:
                self.become(f"{place}/{escaped(key)}", value)

    def _is_map(self, place, have):
        """Whether each entry can be taken out: then its keys are the user's."""
        labels = self._row(place).locator("button").evaluate_all(LABELS)
        return any(f"Remove {key}" in labels for key in have)

    def _map(self, place, have, want):
        row = self._row(place)
        for key, value in want.items():
            if key not in have:
                more = row.get_by_label(re.compile("^add to"))
                if more.evaluate("one => one.tagName") == "SELECT":
                    more.select_option(key)
                else:
                    more.fill(key)
                    more.press("Enter")
                expect(row.get_by_role("button", name=f"Remove {key}", exact=True)).to_be_visible()
            if value_at(self.ask()["document"], f"{place}/{escaped(key)}") != value:
                self._write(f"{place}/{escaped(key)}", row.get_by_label(key, exact=True), value)
        for key in have.keys() - want.keys():
            row.get_by_role("button", name=f"Remove {key}", exact=True).click()
            expect(row.get_by_role("button", name=f"Remove {key}", exact=True)).to_have_count(0)

    def _list(self, place, have, want):
        items = self._row(place).locator("> ol > li")
        for _ in range(len(want) - len(have)):
            count = items.count()
            items.last.get_by_role("button", name=re.compile("^add")).click()
            expect(items).to_have_count(count + 1)
        for _ in range(len(have) - len(want)):
            count = items.count()
            items.nth(count - 2).get_by_role("button", name="Remove", exact=True).first.click()
            expect(items).to_have_count(count - 1)
        for index, value in enumerate(want):
            if len(have) != len(want) or have[index] != value:
                self.become(f"{place}/{index}", value)
