"""The page for scripts: each of its requests is made, in its order, and answers what it says."""

import json
import re
from pathlib import Path

import pytest

PAGE = Path(__file__).parents[2] / "docs" / "api.md"
BLOCKS = re.findall(r"```http\n(.*?)```\n```json\n(.*?)```", PAGE.read_text(), re.DOTALL)


def request_of(block):
    """Method, path, headers and body of a request as the page writes it."""
    head, _, body = block.partition("\n\n")
    first, *lines = head.strip().splitlines()
    method, path = first.split()
    headers = dict(line.split(": ", 1) for line in lines)
    return method, path, {"content-type": "application/json"} | headers, body


def missing(wanted, got, place=""):
    """What of an answer is other than the page says: it may hold more."""
    if isinstance(wanted, dict) and isinstance(got, dict):
        for key, value in wanted.items():
            yield from missing(value, got.get(key), f"{place}/{key}")
    elif isinstance(wanted, list) and wanted and isinstance(got, list) and got:
        for number, (one, other) in enumerate(zip(wanted, got, strict=False)):
            yield from missing(one, other, f"{place}/{number}")
    elif wanted != (pytest.approx(got) if isinstance(got, float) else got):
        yield f"{place}: {got!r}, not {wanted!r}"


def test_every_request_of_the_page_answers_what_it_says(client):
    assert len(BLOCKS) > 15
    for request, answer in BLOCKS:
        method, path, headers, body = request_of(request)
        got = client.request(method, path, headers=headers, content=body).json()
        assert list(missing(json.loads(answer), got)) == [], request


def test_the_page_shows_every_kind_of_request_that_changes_a_plan():
    shown = {request_of(request)[0] for request, _ in BLOCKS}
    assert shown == {"GET", "POST", "PATCH", "PUT"}
