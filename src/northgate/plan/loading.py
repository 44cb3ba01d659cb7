"""YAML as plain data, with the place of each value.

The text's events come from libyaml, and are put together here without recursion; plain words mean what the core schema
of YAML 1.2 says (https://yaml.org/spec/1.2.2/#103-core-schema). Text from strangers is bounded while it is read: in
depth, in values, and in what aliases make of it.
"""

import math
import re
from typing import Any

from msgspec import Struct
from yaml._yaml import CParser
from yaml.error import MarkedYAMLError, YAMLError
from yaml.events import (
    AliasEvent,
    DocumentStartEvent,
    Event,
    MappingEndEvent,
    MappingStartEvent,
    ScalarEvent,
    SequenceEndEvent,
    SequenceStartEvent,
)
from yaml.reader import ReaderError

from northgate.plan.problems import MAX_DEPTH, Location, Places, PlanError, Problem, pointer

MAX_VALUES, MAX_SIGNS = 500_000, 8_000_000

_TAG = "tag:yaml.org,2002:"
_BOOL = re.compile(r"true|True|TRUE|false|False|FALSE")
_NULL = re.compile(r"~|null|Null|NULL|")
_INT = re.compile(r"[-+]?0b[01_]+|[-+]?0o[0-7_]+|[-+]?[0-9][0-9_]*|[-+]?0x[0-9a-fA-F_]+")
_FLOAT = re.compile(
    r"[-+]?[0-9][0-9_]*\.[0-9_]*(?:[eE][-+]?[0-9]+)?|[-+]?[0-9][0-9_]*[eE][-+]?[0-9]+|[-+]?\.[0-9][0-9_]*(?:[eE][-+]?[0-9]+)?"
    r"|[-+]?\.(?:inf|Inf|INF)|\.(?:nan|NaN|NAN)"
)
# No number that a plan can hold is written with more signs.
LONGEST_NUMBER = 400


class _Open(Struct):
    """A mapping or sequence that is being read: what it holds so far, the key whose value comes next, and how much had
    been read when it began."""

    made: dict[str, Any] | list[Any]
    location: Location
    anchor: str | None
    values: int
    signs: int
    key: str | None = None


class _Anchored(Struct, frozen=True):
    """What an anchor stands for, and how much that is, aliases counted out."""

    value: Any
    values: int
    signs: int


def load_yaml(text: str) -> tuple[Any, Places]:
    """Plain data and its places; raises PlanError with line and column."""
    builder = _Builder()
    try:
        parser = CParser(text)
        while parser.check_event():
            event = parser.get_event()
            if event is not None:
                builder.take(event)
    except ReaderError as error:
        before = text[: error.position]
        line, column = before.count("\n") + 1, len(before) - before.rfind("\n")
        raise PlanError([Problem("", f"is not YAML: {error.reason}", line, column)]) from error
    except MarkedYAMLError as error:
        mark = error.problem_mark or error.context_mark
        place = (mark.line + 1, mark.column + 1) if mark else (None, None)
        message = f"is not YAML: {error.problem or error.context}"
        if "nesting depth" in message:
            # libyaml looks far ahead at brackets: the one too many stands before that.
            message, place = f"is nested more than {MAX_DEPTH} deep", builder.too_deep(text)
        raise PlanError([Problem("", message, *place)]) from error
    except (YAMLError, ValueError) as error:
        raise PlanError([Problem("", f"is not YAML: {str(error).splitlines()[0]}")]) from error
    return builder.data, builder.places


class _Builder:
    """Puts events together; aliases count every time they are used."""

    def __init__(self) -> None:
        self.data: Any = None
        self.places: Places = {}
        self._open: list[_Open] = []
        self._anchors: dict[str, _Anchored] = {}
        self._values, self._signs, self._documents = 0, 0, 0
        # Where the last event ends in the text.
        self._at = 0

    def take(self, event: Event) -> None:
        """Takes the next event."""
        if event.end_mark is not None:
            self._at = event.end_mark.index
        if isinstance(event, ScalarEvent):
            self._scalar(event)
        elif isinstance(event, MappingStartEvent | SequenceStartEvent):
            self._begin(event)
        elif isinstance(event, MappingEndEvent | SequenceEndEvent):
            self._end()
        elif isinstance(event, AliasEvent):
            self._alias(event)
        elif isinstance(event, DocumentStartEvent):
            self._documents += 1
            if self._documents > 1:
                raise self._refused(event, (), "is not YAML: one document is wanted, and here another begins")

    def too_deep(self, text: str) -> tuple[int, int]:
        """The place of the bracket that is one too deep, after all that has been taken."""
        depth, at = len(self._open), self._at
        for found in re.compile(r"[\[{]").finditer(text, at):
            depth, at = depth + 1, found.start()
            if depth > MAX_DEPTH + 1:
                break
        before = text[:at]
        return before.count("\n") + 1, len(before) - before.rfind("\n")

    def _scalar(self, event: ScalarEvent) -> None:
        self._count(event, 1, len(event.value))
        inside = self._open[-1] if self._open else None
        if inside is not None and isinstance(inside.made, dict) and inside.key is None:
            self._key(inside, event)
            return
        location = self._next()
        self.places.setdefault(location, _place(event))
        value = self._meant(event, location)
        if event.anchor:
            self._anchors[event.anchor] = _Anchored(value, 1, len(event.value))
        self._put(value)

    def _key(self, inside: _Open, event: ScalarEvent) -> None:
        assert isinstance(inside.made, dict)
        key, location = event.value, (*inside.location, event.value)
        if key in inside.made:
            raise self._refused(event, location, f"the key {key!r} stands twice")
        self.places[location] = _place(event)
        inside.key = key

    def _begin(self, event: MappingStartEvent | SequenceStartEvent) -> None:
        self._count(event, 1, 0)
        if self._open and isinstance(self._open[-1].made, dict) and self._open[-1].key is None:
            raise self._refused(event, self._open[-1].location, "has a key that is not a word")
        location, is_map = self._next(), isinstance(event, MappingStartEvent)
        # The plan itself is not nested in anything.
        if len(self._open) > MAX_DEPTH:
            raise self._refused(event, (), f"is nested more than {MAX_DEPTH} deep")
        if event.tag not in (None, "!", _TAG + ("map" if is_map else "seq")):
            raise self._refused(event, location, f"has the tag {event.tag!r}; a plan has none")
        self.places.setdefault(location, _place(event))
        made: dict[str, Any] | list[Any] = {} if is_map else []
        self._open.append(_Open(made, location, event.anchor, self._values - 1, self._signs))

    def _end(self) -> None:
        done = self._open.pop()
        if done.anchor:
            size = self._values - done.values, self._signs - done.signs
            self._anchors[done.anchor] = _Anchored(done.made, *size)
        self._put(done.made)

    def _alias(self, event: AliasEvent) -> None:
        inside = self._open[-1] if self._open else None
        if inside is not None and isinstance(inside.made, dict) and inside.key is None:
            raise self._refused(event, inside.location, "has a key that is not a word")
        found = self._anchors.get(event.anchor or "")
        if found is None:
            raise self._refused(event, (), f"is not YAML: found undefined alias {event.anchor!r}")
        self._count(event, found.values, found.signs)
        self.places.setdefault(self._next(), _place(event))
        self._put(found.value)

    def _next(self) -> Location:
        """Where the next value stands."""
        if not self._open:
            return ()
        inside = self._open[-1]
        last = inside.key if isinstance(inside.made, dict) else len(inside.made)
        return (*inside.location, last if last is not None else "")

    def _put(self, value: Any) -> None:
        if not self._open:
            self.data = value
            return
        inside = self._open[-1]
        if isinstance(inside.made, list):
            inside.made.append(value)
        else:
            inside.made[inside.key or ""] = value
            inside.key = None

    def _count(self, event: Event, values: int, signs: int) -> None:
        self._values += values
        self._signs += signs
        if self._values > MAX_VALUES:
            raise self._refused(event, (), f"holds more than {MAX_VALUES:,} values, aliases counted out")
        if self._signs > MAX_SIGNS:
            raise self._refused(event, (), f"holds more than {MAX_SIGNS:,} signs, aliases counted out")

    def _meant(self, event: ScalarEvent, location: Location) -> Any:
        """What a scalar means: a plain one by the core schema, another as text."""
        text, tag = event.value, event.tag
        if tag not in (None, "!") and (not tag.startswith(_TAG) or tag[len(_TAG) :] not in _CORE):
            raise self._refused(event, location, f"has the tag {tag!r}; a plan has none")
        kind = tag[len(_TAG) :] if tag not in (None, "!") else ""
        if kind == "str" or (not kind and (event.style or tag == "!")):
            return text
        if _NULL.fullmatch(text):
            return None
        if _BOOL.fullmatch(text):
            return text.lower() == "true"
        if _INT.fullmatch(text) or _FLOAT.fullmatch(text):
            number = _number(text)
            if number is None:
                shown = text if len(text) <= 60 else f"{text[:60]}…"
                raise self._refused(event, location, f"{shown} is not a number that a plan can hold")
            return number
        if text == "<<":
            raise self._refused(event, location, "has the tag 'tag:yaml.org,2002:merge'; a plan has none")
        return text

    def _refused(self, event: Event, location: Location, message: str) -> PlanError:
        return PlanError([Problem(pointer(location), message, *_place(event))])


_CORE = ("str", "int", "float", "bool", "null")


def _place(event: Event) -> tuple[int, int]:
    assert event.start_mark is not None
    return event.start_mark.line + 1, event.start_mark.column + 1


def _number(text: str) -> int | float | None:
    """A number; None where it is none that a plan can hold."""
    plain = text.replace("_", "")
    if len(plain) > LONGEST_NUMBER:
        return None
    if _INT.fullmatch(text):
        based = plain.lstrip("+-")[:2] in ("0x", "0o", "0b")
        return int(plain, 0) if based else int(plain)
    number = math.nan if plain.lower().endswith(("inf", "nan")) else float(plain)
    return number if math.isfinite(number) else None
