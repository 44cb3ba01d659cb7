"""Reading a plan from YAML or JSON text, with every error at its place.

The text becomes plain data with the place of each value; the data becomes a `Plan`. Text from strangers is bounded in
size, depth and number of values, and may hold neither tags nor repeated keys.
"""

import json
import stat
import sys
from collections.abc import Callable
from functools import cache
from pathlib import Path
from typing import Any

from msgspec import Struct
from pydantic import ValidationError

from northgate.plan.models.document import Plan
from northgate.plan.problems import MAX_DEPTH, Location, Places, PlanError, Problem, pointer
from northgate.plan.references import repeated
from northgate.plan.text.refusals import refusals

MAX_BYTES = 8_000_000
STANDARD_INPUT = ("-", "/dev/stdin")
# Of more problems than this the others are counted.
MOST_PROBLEMS = 20


class _Read(Struct, frozen=True):
    """Plain data, and from YAML the line and column (from 1) of every key and item."""

    data: Any
    places: Places


def read_plan(path: Path) -> Plan:
    """Reads a plan file; raises PlanError when it cannot be read or is not a plan."""
    return plan_from_text(_text_of(path), str(path), is_json=path.suffix == ".json")


PlaceOf = Callable[[str], tuple[int, int] | None]


def read_with_places(path: Path) -> tuple[Plan, PlaceOf]:
    """A plan file, and where in its text (line and column from 1) the value at a JSON Pointer stands, or the innermost
    around it that the text has; None in JSON. Raises PlanError."""
    text, is_json = _text_of(path), path.suffix == ".json"
    plan = plan_from_text(text, str(path), is_json=is_json)

    @cache
    def by_pointer() -> dict[str, tuple[int, int]]:
        return {pointer(location): place for location, place in _read(text, is_json=is_json).places.items()}

    def place_of(where: str) -> tuple[int, int] | None:
        while where and where not in by_pointer():
            where = where.rpartition("/")[0]
        return by_pointer().get(where)

    return plan, place_of


def _text_of(path: Path) -> str:
    source = str(path)
    try:
        if source in STANDARD_INPUT:
            content = sys.stdin.buffer.read(MAX_BYTES + 1)
        elif stat.S_ISREG(path.stat().st_mode):
            with path.open("rb") as file:
                content = file.read(MAX_BYTES + 1)
        else:
            raise PlanError([Problem("", "is no regular file")], source)
        if len(content) > MAX_BYTES:
            raise PlanError([Problem("", f"is larger than {MAX_BYTES // 1_000_000} MB")], source)
        return content.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        raise PlanError([Problem("", f"is not UTF-8 text (byte {error.start})")], source) from error
    except OSError as error:
        raise PlanError([Problem("", error.strerror or "cannot be read")], source) from error


def plan_from_text(text: str, source: str = "", *, is_json: bool = False) -> Plan:
    """Reads a plan from text (JSON is tried first where the text looks like it); raises PlanError."""
    if len(text) > MAX_BYTES:
        raise PlanError([Problem("", f"is larger than {MAX_BYTES // 1_000_000} MB")], source)
    try:
        return _plan_from(_read(text, is_json=is_json))
    except PlanError as error:
        raise PlanError(error.problems, source) from error.__cause__


def _read(text: str, *, is_json: bool) -> _Read:
    if is_json or text.lstrip().startswith("{"):
        return _read_json(text)
    # Loaded where there is YAML: that takes as long as to read a small plan.
    from northgate.plan.loading import load_yaml

    return _Read(*load_yaml(text))


def plan_from_data(data: Any) -> Plan:
    """Makes a plan of plain data (as JSON would give it); raises PlanError."""
    return _plan_from(_Read(data, {}))


def _plan_from(read: _Read) -> Plan:
    if not isinstance(read.data, dict):
        raise PlanError([Problem("", "is not a plan: a mapping with `northgate: 1` and a name is wanted")])
    try:
        plan = Plan.model_validate(read.data)
    except ValidationError as error:
        found = refusals(error.errors(include_url=False))
        told = [_placed(one.problem, one.location, read.places) for one in found[:MOST_PROBLEMS]]
        raise PlanError(_cut(told, len(found))) from error
    problems = repeated(plan)
    if problems:
        by_pointer = {pointer(location): location for location in read.places}
        raise PlanError(_placed(problem, by_pointer.get(problem.where, ()), read.places) for problem in problems)
    return plan


def _cut(problems: list[Problem], whole: int) -> list[Problem]:
    """The first problems, and how many more there are."""
    more = whole - len(problems)
    return [*problems, Problem("", f"and {more:,} more")] if more else problems


def _placed(problem: Problem, location: Location, places: Places) -> Problem:
    """The problem with the place of the innermost value around `location` that the text has."""
    while location and location not in places:
        location = location[:-1]
    found = places.get(location)
    return problem.at(*found) if found else problem


def _read_json(text: str) -> _Read:
    def no_repeats(pairs: list[tuple[str, Any]]) -> dict[str, Any]:
        made: dict[str, Any] = {}
        for key, value in pairs:
            if key in made:
                raise PlanError([Problem("", f"the key {key!r} stands twice in one object")])
            made[key] = value
        return made

    def no_constants(word: str) -> Any:
        raise PlanError([Problem("", f"{word} is not a number that a plan can hold")])

    try:
        data = json.loads(text, object_pairs_hook=no_repeats, parse_constant=no_constants)
    except json.JSONDecodeError as error:
        raise PlanError([Problem("", f"is not JSON: {error.msg}", error.lineno, error.colno)]) from error
    except (RecursionError, ValueError) as error:
        reason = "is nested too deeply" if isinstance(error, RecursionError) else f"is not JSON: {error}"
        raise PlanError([Problem("", reason)]) from error
    _check_depth(data)
    return _Read(data, {})


def _check_depth(data: Any) -> None:
    level, depth = [data], 0
    while level:
        depth += 1
        if depth > MAX_DEPTH:
            raise PlanError([Problem("", f"is nested more than {MAX_DEPTH} deep")])
        level = [
            item
            for value in level
            for item in (value.values() if isinstance(value, dict) else value if isinstance(value, list) else ())
            if isinstance(item, dict | list)
        ]
