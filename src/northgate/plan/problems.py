"""What can be wrong with a plan file.

PlanError                 the input cannot be used; carries one or more `Problem`s
"""

import difflib
from collections.abc import Iterable
from typing import Any

from msgspec import Struct
from msgspec.structs import replace

Location = tuple[str | int, ...]
# Where the value at each location stands in a text: line and column, from 1.
Places = dict[Location, tuple[int, int]]
# Nothing in a plan is nested deeper.
MAX_DEPTH = 40


def pointer(location: Iterable[str | int]) -> str:
    """The JSON Pointer (RFC 6901) of a location; the empty string is the whole document."""
    return "".join("/" + str(part).replace("~", "~0").replace("/", "~1") for part in location)


def nearest(word: str, known: Iterable[str]) -> str | None:
    """The known word that `word` was perhaps meant to be."""
    found = difflib.get_close_matches(word, list(known), n=1, cutoff=0.6)
    return found[0] if found else None


def did_you_mean(word: str, known: Iterable[str]) -> str:
    """A closing half-sentence with the nearest known word, or nothing."""
    found = nearest(word, known)
    return f"; did you mean {found!r}?" if found else ""


class Problem(Struct, frozen=True):
    """One thing that is wrong: where (JSON Pointer; line and column from 1 when read from text) and what."""

    where: str
    message: str
    line: int | None = None
    column: int | None = None

    def at(self, line: int, column: int) -> "Problem":
        """The same problem with its place in the text."""
        return replace(self, line=line, column=column)

    def describe(self, source: str = "") -> str:
        """One line for a person: `file:line:column: /place: message`."""
        place = [source] if source else []
        if self.line is not None:
            place += [str(self.line), str(self.column)]
        return ": ".join(filter(None, [":".join(place), self.where, self.message]))


class PlanError(Exception):
    """The input is not a plan; `problems` says where and why, in the order of the document."""

    def __init__(self, problems: Iterable[Problem], source: str = "") -> None:
        self.problems = tuple(problems)
        self.source = source
        super().__init__("\n".join(problem.describe(source) for problem in self.problems))

    def __reduce__(self) -> tuple[Any, ...]:
        # Errors come from other processes, too.
        return type(self), (self.problems, self.source)
