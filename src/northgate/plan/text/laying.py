"""A text kept line by line, where only a part of what it says has changed.

What writes YAML cannot keep every text: it moves and loses comments here and there, and writes with one indent. So a
text is written twice, as it is and as it is to be, and only what differs between these two is done to the text.
"""

from collections.abc import Iterator
from difflib import SequenceMatcher

from msgspec import Struct

Lines = list[str]


class _Change(Struct, frozen=True):
    """Lines from `start` up to `end` that have others in their place; whether these are of the text that is kept."""

    start: int
    end: int
    lines: Lines
    kept: bool


def laid_over(text: str, before: str, after: str) -> str:
    """The text with the lines that differ from before to after; where it has other lines itself, only their comments
    are kept."""
    old = before.splitlines(keepends=True)
    changes = [*_changes(old, text, kept=True), *_changes(old, after, kept=False)]
    made, at = Lines(), 0
    for some in _together(sorted(changes, key=lambda one: (one.start, one.end))):
        start, end = some[0].start, max(one.end for one in some)
        made += old[at:start] + _settled(old, some, start, end)
        at = end
    return "".join(made + old[at:])


def _changes(old: Lines, text: str, *, kept: bool) -> Iterator[_Change]:
    new = text.splitlines(keepends=True)
    first = _alike(old, new)
    last = _alike(old[first:][::-1], new[first:][::-1])
    within = old[first : len(old) - last], new[first : len(new) - last]
    for tag, i, j, k, to in SequenceMatcher(None, *within).get_opcodes():
        if tag != "equal":
            yield _Change(first + i, first + j, within[1][k:to], kept)


def _alike(one: Lines, other: Lines) -> int:
    """How many lines both begin with."""
    pairs = enumerate(zip(one, other, strict=False))
    return next((at for at, (line, theirs) in pairs if line != theirs), min(len(one), len(other)))


def _together(changes: list[_Change]) -> Iterator[list[_Change]]:
    """Changes, those of the same lines, or of the same place between two, as one."""
    some: list[_Change] = []
    for one in changes:
        end = max((other.end for other in some), default=-1)
        same = bool(some) and one.start == one.end == some[-1].start == some[-1].end
        if some and one.start >= end and not same:
            yield some
            some = []
        some.append(one)
    if some:
        yield some


def _settled(old: Lines, some: list[_Change], start: int, end: int) -> Lines:
    kept, new = (_with(old, [one for one in some if one.kept is side], start, end) for side in (True, False))
    if all(one.kept for one in some):
        return kept
    if any(one.kept for one in some):
        there = {line.strip() for line in new}
        return [line for line in kept if line.lstrip().startswith("#") and line.strip() not in there] + new
    return new


def _with(old: Lines, some: list[_Change], start: int, end: int) -> Lines:
    made, at = Lines(), start
    for one in some:
        made += old[at : one.start] + one.lines
        at = one.end
    return made + old[at:end]
