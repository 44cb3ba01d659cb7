"""Of all tests those are watched for coverage that tell the most for their time."""

import re
from pathlib import Path

from tests.support import watched

LINES = {name: {("one.py", number) for number in range(*lines)} for name, lines in
         {"": (0, 10), "long": (0, 110), "short": (0, 60), "more": (50, 110), "nothing": (0, 10)}.items()}  # fmt: skip
TOOK = {"long": 9.0, "short": 0.1, "more": 0.1, "nothing": 0.0}


def test_what_tells_most_for_its_time_comes_first_and_what_tells_nothing_more_not_at_all():
    assert list(watched.worth_it(LINES, TOOK)) == ["more", "short"]


def test_what_alone_tells_something_is_watched_though_it_takes_long():
    left = {name: lines for name, lines in LINES.items() if name != "more"}
    assert list(watched.worth_it(left, TOOK)) == ["short", "long"]


def test_what_tells_too_little_for_its_time_is_not_watched():
    assert "long" not in watched.worth_it(LINES, TOOK | {"long": 1000.0, "more": 2000.0})


def test_those_that_are_watched_are_there():
    """`make watched` writes their names anew, where some of them have changed."""
    root = Path(__file__).parents[1]
    named = {re.sub(r"\[.*", "", name) for name in watched.names()}
    assert named
    for name in named:
        file, _, function = name.partition("::")
        assert f"def {function}(" in (root / file).read_text(), name
