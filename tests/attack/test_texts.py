"""Plan files that mean no good: each is taken in or refused with a reason, and what is taken in can be used and read.

NORTHGATE_EXPLORE=1 (`make attack`) sends many more.
"""

import random
from pathlib import Path

import pytest

from northgate.store.examples import demo_plan_text
from tests.attack.conftest import served
from tests.support.exploring import EXPLORING
from tests.support.tally import answered, count

TEXTS = 2000 if EXPLORING else 40
GOOD = demo_plan_text()
# The most memory that a server and what it keeps of all these may take.
MOST_BYTES = 2**30
ODD = [
    "&a ", "*a", "<<: *a", "!!python/object:os.system ", "!!binary ", "? ", "- ", "{", "[" * 500, "{a: " * 300, "|\n",
    ">-\n", "'", '"', "\t", "\x00", "\x1b[31m", "\u0085", "\u2028", "\ufeff", "\ud7ff", "#", "---\n", "...\n",
    "%YAML 1.99\n",
    "~", "null", "true", "0x" + "f" * 5000, "1" * 5000, "1e400", "-1e400", ".inf", ".nan", "-1", "0", "1e-9", "1e15",
    "1_000", "0o17", "2026-11-27", "2026-11-27T99:99", "x" * 30_000, "🌊" * 100, '"\\UFFFFFFFF"', '"\\ud800"', "",
]  # fmt: skip
PLAIN = {"content-type": "text/plain"}
BOMB = "notes: &a " + "x" * 1000 + "\ntitle: [" + ", ".join(["*a"] * 200) + "]\n"


def odd_character(chance, text):
    place = chance.randrange(len(text))
    return text[:place] + chance.choice(ODD) + text[place + chance.choice([0, 1]) :]


def cut(chance, text):
    return text[: chance.randrange(len(text))]


def with_lines(change):
    def changed(chance, text):
        lines = text.split("\n")
        change(chance, lines)
        return "\n".join(lines)

    return changed


@with_lines
def other_value(chance, lines):
    place = chance.randrange(len(lines))
    name, colon, _ = lines[place].partition(": ")
    lines[place] = name + (colon or ": ") + chance.choice(ODD)


@with_lines
def repeated(chance, lines):
    first = chance.randrange(len(lines))
    some = lines[first : first + chance.randrange(1, 12)]
    lines[first:first] = some * chance.choice([1, 1, 2, 50])


@with_lines
def elsewhere(chance, lines):
    taken = lines.pop(chance.randrange(len(lines)))
    lines.insert(chance.randrange(len(lines)), taken)


@with_lines
def indented(chance, lines):
    place = chance.randrange(len(lines))
    lines[place] = " " * chance.randrange(8) + lines[place].lstrip()


@with_lines
def bomb(chance, lines):
    lines.insert(chance.randrange(len(lines)), BOMB)


HOW = [odd_character, cut, other_value, other_value, other_value, repeated, elsewhere, indented, bomb]


def spoiled(seed):
    """The demo's text with one to four things done to it."""
    chance, text = random.Random(seed), GOOD
    for _ in range(chance.choice([1, 1, 2, 4])):
        text = chance.choice(HOW)(chance, text or GOOD)
    return text


@pytest.mark.parametrize("first", range(0, TEXTS, 40))
def test_whatever_a_file_says_it_is_taken_in_or_refused(tmp_path, first):
    with served(tmp_path) as (process, client):
        answers = [used(client, spoiled(seed)) for seed in range(first, first + 40)]
        answered("plan files", [one for some in answers for one in some])
        memory = most_memory(process)
        count("plan files", texts=40)
        count("plan files", most=True, memory_mb=memory // 10**6)
        assert memory < MOST_BYTES


def used(client, text):
    """What the server says of a text; where it takes it in, of what is asked then."""
    answer = client.post(
        "/api/plans", content=text.encode("utf-8", "surrogatepass"), headers={"content-type": "text/plain"}
    )
    if answer.status_code != 201:
        assert answer.status_code in (413, 422), answer.text[:300]
        assert answer.json()["problems"] or answer.json()["detail"]
        return [answer]
    plan = f"/api/plans/{answer.json()['key']}"
    asked = [client.get(f"{plan}/{what}") for what in ("state", "findings", "index", "file")]
    assert [one.status_code for one in asked if one.status_code not in (200, 409)] == []
    # What is given out says the same.
    again = client.post("/api/plans", content=asked[-1].content, headers=PLAIN)
    assert again.status_code == 201
    documents = [client.get(f"/api/plans/{one.json()['key']}").json()["document"] for one in (answer, again)]
    assert documents[0] == documents[1]
    assert not any(one["unreadable"] for one in client.get("/api/plans").json())
    return [answer, again, *asked]


def most_memory(process):
    """The most memory (bytes) that a process has held at once."""
    lines = Path(f"/proc/{process.pid}/status").read_text().splitlines()
    return next(int(line.split()[1]) * 1024 for line in lines if line.startswith("VmHWM:"))
