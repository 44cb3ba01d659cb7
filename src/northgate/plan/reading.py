"""Reading a plan from YAML or JSON text, with every error at its place.

The text becomes plain data with the place of each value; the data becomes a `Plan`. Text from strangers is bounded in
size, depth and number of values, and may hold neither tags nor repeated keys.
"""

import json
import math
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from pydantic import BaseModel, ValidationError
from ruamel.yaml import YAML
from ruamel.yaml.composer import MaxDepthExceededError
from ruamel.yaml.error import MarkedYAMLError, YAMLError
from ruamel.yaml.nodes import MappingNode, Node, ScalarNode, SequenceNode

from northgate.plan.models.document import Plan
from northgate.plan.models.types import DNS_NAME_PATTERN, HOST_PATTERN, NAME_PATTERN
from northgate.plan.problems import Location, PlanError, Problem, did_you_mean, pointer
from northgate.plan.references import repeated

MAX_BYTES = 8_000_000
MAX_DEPTH = 40
MAX_VALUES = 500_000

_TAG = "tag:yaml.org,2002:"
_Places = dict[Location, tuple[int, int]]


@dataclass(frozen=True)
class _Read:
    """Plain data, and from YAML the line and column (from 1) of every key and item."""

    data: Any
    places: _Places


def read_plan(path: Path) -> Plan:
    """Reads a plan file; raises PlanError when it cannot be read or is not a plan."""
    return plan_from_text(_text_of(path), str(path), is_json=path.suffix == ".json")


PlaceOf = Callable[[str], tuple[int, int] | None]


def read_with_places(path: Path) -> tuple[Plan, PlaceOf]:
    """A plan file, and where in its text (line and column from 1) the value at a JSON Pointer stands, or the innermost
    around it that the text has; None in JSON. Raises PlanError."""
    text, is_json = _text_of(path), path.suffix == ".json"
    plan = plan_from_text(text, str(path), is_json=is_json)
    places = _read(text, is_json=is_json).places
    by_pointer = {pointer(location): place for location, place in places.items()}

    def place_of(where: str) -> tuple[int, int] | None:
        while where and where not in by_pointer:
            where = where.rpartition("/")[0]
        return by_pointer.get(where)

    return plan, place_of


def _text_of(path: Path) -> str:
    source = str(path)
    try:
        if path.stat().st_size > MAX_BYTES:
            raise PlanError([Problem("", f"is larger than {MAX_BYTES // 1_000_000} MB")], source)
        return path.read_bytes().decode("utf-8-sig")
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
    return _read_json(text) if is_json or text.lstrip().startswith("{") else _read_yaml(text)


def plan_from_data(data: Any) -> Plan:
    """Makes a plan of plain data (as JSON would give it); raises PlanError."""
    return _plan_from(_Read(data, {}))


def _plan_from(read: _Read) -> Plan:
    if not isinstance(read.data, dict):
        raise PlanError([Problem("", "is not a plan: a mapping with `northgate: 1` and a name is wanted")])
    try:
        plan = Plan.model_validate(read.data)
    except ValidationError as error:
        raise PlanError(_placed(_problem_of(one), one["loc"], read.places) for one in error.errors()) from error
    problems = repeated(plan)
    if problems:
        by_pointer = {pointer(location): location for location in read.places}
        raise PlanError(_placed(problem, by_pointer.get(problem.where, ()), read.places) for problem in problems)
    return plan


def _placed(problem: Problem, location: Location, places: _Places) -> Problem:
    """The problem with the place of the innermost value around `location` that the text has."""
    while location and location not in places:
        location = location[:-1]
    found = places.get(location)
    return problem.at(*found) if found else problem


def _problem_of(error: Any) -> Problem:
    location: Location = tuple(part for part in error["loc"] if part != "[key]")
    message = str(error["msg"]).removeprefix("Value error, ")
    if error["type"] == "extra_forbidden":
        word = str(location[-1])
        message = f"unknown field {word!r}{did_you_mean(word, _fields_at(location[:-1]))}"
    elif error["type"] == "missing":
        message = f"the field {str(location[-1])!r} is missing"
    elif error["type"] == "literal_error":
        message = _literal_message(error)
    elif error["type"] == "string_pattern_mismatch":
        message = f"{_shown(error['input'])} {_PATTERN_WORDS.get(error['ctx']['pattern'], 'does not fit')}"
    elif "input" in error and not isinstance(error["input"], dict | list):
        message = f"{message[0].lower()}{message[1:]} (found {_shown(error['input'])})"
    return Problem(pointer(location), message)


_PATTERN_WORDS = {
    NAME_PATTERN: "is not a name: lower-case letters, digits and hyphens, beginning with a letter, at most 63",
    DNS_NAME_PATTERN: "is not a DNS name such as www.beckwater.example",
    HOST_PATTERN: "is not a host such as www.beckwater.example or *.beckwater.example",
    "^/": "is not a path: it must begin with /",
}


def _literal_message(error: Any) -> str:
    known = str(error["ctx"]["expected"])
    words = [word.strip(" '") for word in known.replace(" or ", ", ").split(",")]
    found = error["input"]
    hint = did_you_mean(found, words) if isinstance(found, str) else ""
    return f"{_shown(found)} is not one of {', '.join(words)}{hint}"


def _shown(value: Any) -> str:
    text = repr(value)
    return text if len(text) <= 80 else text[:77] + "..."


def _fields_at(location: Location) -> list[str]:
    """The field names that the model at a location knows; none when there is no model."""
    model: Any = Plan
    for part in location:
        if isinstance(part, int) or model is None:
            continue
        if part not in _field_names(model):
            continue
        info = next(info for field, info in model.model_fields.items() if part in (field, info.alias))
        model = _model_in(info.annotation) or model
    return _field_names(model)


def _field_names(model: type[BaseModel]) -> list[str]:
    return [info.alias or field for field, info in model.model_fields.items()]


def _model_in(annotation: Any) -> type[BaseModel] | None:
    if isinstance(annotation, type) and issubclass(annotation, BaseModel):
        return annotation
    for argument in getattr(annotation, "__args__", ()):
        found = _model_in(argument)
        if found is not None:
            return found
    return None


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


def _read_yaml(text: str) -> _Read:
    yaml = YAML(typ="safe", pure=True)
    # To read on would take the square of the depth. The plan itself is not nested in anything.
    yaml.max_depth = MAX_DEPTH + 1
    try:
        node = yaml.compose(text)
        places: _Places = {}
        data = _Builder(places).value(node, ()) if node is not None else None
    except MarkedYAMLError as error:
        mark = error.problem_mark or error.context_mark
        message = f"is not YAML: {error.problem or error.context}"
        if isinstance(error, MaxDepthExceededError):
            message = f"is nested more than {MAX_DEPTH} deep"
        place = (mark.line + 1, mark.column + 1) if mark else (None, None)
        raise PlanError([Problem("", message, *place)]) from error
    except YAMLError as error:
        raise PlanError([Problem("", f"is not YAML: {str(error).splitlines()[0]}")]) from error
    except RecursionError as error:
        raise PlanError([Problem("", f"is nested more than {MAX_DEPTH} deep")]) from error
    except ValueError as error:
        raise PlanError([Problem("", f"is not YAML: {error}")]) from error
    return _Read(data, places)


class _Builder:
    """Turns YAML nodes into plain data and notes each value's place; aliases count every time they are used."""

    def __init__(self, places: _Places) -> None:
        self._places = places
        self._values = 0

    def value(self, node: Node, location: Location) -> Any:
        self._values += 1
        if self._values > MAX_VALUES:
            raise self._refused(node, location, f"holds more than {MAX_VALUES:,} values, aliases counted out")
        if len(location) > MAX_DEPTH:
            raise self._refused(node, location, f"is nested more than {MAX_DEPTH} deep")
        self._places.setdefault(location, (node.start_mark.line + 1, node.start_mark.column + 1))
        if isinstance(node, MappingNode):
            return self._mapping(node, location)
        if isinstance(node, SequenceNode):
            self._plain_tag(node, location, "seq")
            return [self.value(item, (*location, index)) for index, item in enumerate(node.value)]
        return self._scalar(node, location)

    def _mapping(self, node: MappingNode, location: Location) -> dict[str, Any]:
        self._plain_tag(node, location, "map")
        made: dict[str, Any] = {}
        for key_node, value_node in node.value:
            if not isinstance(key_node, ScalarNode):
                raise self._refused(key_node, location, "has a key that is not a word")
            key = key_node.value
            if key in made:
                raise self._refused(key_node, (*location, key), f"the key {key!r} stands twice")
            self._places[(*location, key)] = (key_node.start_mark.line + 1, key_node.start_mark.column + 1)
            made[key] = self.value(value_node, (*location, key))
        return made

    def _scalar(self, node: Node, location: Location) -> Any:
        tag, text = _tag_of(node).removeprefix(_TAG), node.value
        if tag in ("str", "timestamp"):
            return text
        if tag == "null":
            return None
        if tag == "bool":
            return text.lower() == "true"
        if tag == "int":
            return _whole_number(text)
        if tag == "float":
            number = _decimal_number(text)
            if not math.isfinite(number):
                raise self._refused(node, location, f"{text} is not a number that a plan can hold")
            return number
        raise self._refused(node, location, f"has the tag {_tag_of(node)!r}; a plan has none")

    def _plain_tag(self, node: Node, location: Location, wanted: str) -> None:
        if _tag_of(node) != _TAG + wanted:
            raise self._refused(node, location, f"has the tag {_tag_of(node)!r}; a plan has none")

    def _refused(self, node: Node, location: Location, message: str) -> PlanError:
        return PlanError([Problem(pointer(location), message, node.start_mark.line + 1, node.start_mark.column + 1)])


def _tag_of(node: Node) -> str:
    return str(node.tag)


def _whole_number(text: str) -> int:
    cleaned = text.replace("_", "")
    return int(cleaned, 0) if cleaned.lstrip("+-")[:2].lower() in ("0x", "0o", "0b") else int(cleaned)


def _decimal_number(text: str) -> float:
    """A YAML float; `.inf` and `.nan` become NaN, which the caller refuses."""
    return math.nan if text.lower().endswith(("inf", "nan")) else float(text.replace("_", ""))
