"""What is wrong with data that is no plan, field by field: the place, what is wanted there, and what was found."""

import re
from collections.abc import Sequence
from typing import Any

from msgspec import Struct
from pydantic import BaseModel

from northgate.plan.models.document import Plan
from northgate.plan.models.types import DNS_NAME_PATTERN, HOST_PATTERN, NAME_PATTERN
from northgate.plan.problems import Location, Problem, did_you_mean, pointer

# By the types of errors that the validator knows: what is wanted.
_WANTED = {
    "string_type": "a text", "int_type": "a whole number", "float_type": "a number", "finite_number": "a finite number",
    "bool_type": "true or false", "list_type": "a list", "dict_type": "a mapping", "model_type": "a mapping of fields",
    "greater_than": "more than {gt:,.15g}", "greater_than_equal": "at least {ge:,.15g}",
    "less_than": "less than {lt:,.15g}", "less_than_equal": "at most {le:,.15g}",
    "too_short": "no fewer than {min_length}", "too_long": "no more than {max_length}",
    "string_too_short": "a text of at least {min_length} letters",
    "string_too_long": "a text of at most {max_length} letters", "literal_error": "{expected}",
}  # fmt: skip
_PATTERN_WORDS = {
    NAME_PATTERN: "is not a name: lower-case letters, digits and hyphens, beginning with a letter, at most 63",
    DNS_NAME_PATTERN: "is not a DNS name such as www.beckwater.example",
    HOST_PATTERN: "is not a host such as www.beckwater.example or *.beckwater.example",
    "^/": "is not a path: it must begin with /",
}
# Where a field may be of several kinds, the validator tells of each, with a mark of it in the place.
_KIND = re.compile(r"^(literal|list|dict)\[.*\]$", re.DOTALL)


class Refusal(Struct, frozen=True):
    """A problem, and the place of the value in the data."""

    problem: Problem
    location: Location


def refusals(errors: Sequence[Any]) -> list[Refusal]:
    """The errors of a validation, in its order; those of a field that may be of several kinds as one, or as those of
    the kind that it is most like."""
    groups: dict[Location, list[Any]] = {}
    for error in errors:
        # A word that nobody knows may look like one of them.
        known = error["loc"][: -1 if error["type"] == "extra_forbidden" else None]
        marked = next((place for place, part in enumerate(known) if _is_kind(part)), None)
        groups.setdefault(error["loc"] if marked is None else error["loc"][:marked], []).append(error)
    return [one for place, some in groups.items() for one in _of_one_place(place, some)]


def _is_kind(part: Any) -> bool:
    return isinstance(part, str) and part != "[key]" and _KIND.match(part) is not None


def _of_one_place(place: Location, errors: Sequence[Any]) -> list[Refusal]:
    if errors[0]["loc"] == place:
        return [_refusal(place, one) for one in errors]
    within = [one for one in errors if len(one["loc"]) > len(place) + 1]
    if within:
        return [_refusal((*place, *one["loc"][len(place) + 1 :]), one) for one in within]
    wanted = " or ".join(_wanted(one) for one in errors)
    words = [one["ctx"]["expected"].strip("'") for one in errors if one["type"] == "literal_error"]
    found = errors[0]["input"]
    hint = did_you_mean(found, words) if isinstance(found, str) else ""
    return [Refusal(Problem(pointer(place), f"{wanted} is wanted (found {_shown(found)}){hint}"), place)]


def _refusal(place: Location, error: Any) -> Refusal:
    location: Location = tuple(part for part in place if part != "[key]")
    return Refusal(Problem(pointer(location), _message(location, error)), place)


def _message(location: Location, error: Any) -> str:
    kind, found = error["type"], error.get("input")
    if kind == "extra_forbidden":
        word = str(location[-1])
        return f"unknown field {word!r}{did_you_mean(word, _fields_at(location[:-1]))}"
    if kind == "missing":
        return f"the field {str(location[-1])!r} is missing"
    if kind == "literal_error":
        return _literal_message(error)
    if kind == "string_pattern_mismatch":
        return f"{_shown(found)} {_PATTERN_WORDS.get(error['ctx']['pattern'], 'does not fit')}"
    if kind in _WANTED:
        return f"{_wanted(error)} is wanted (found {_shown(found)})"
    message = str(error["msg"]).removeprefix("Value error, ")
    told = isinstance(found, dict | list) or kind == "value_error"
    return message if told else f"{message[:1].lower()}{message[1:]} (found {_shown(found)})"


def _wanted(error: Any) -> str:
    template = _WANTED.get(error["type"])
    return template.format(**error.get("ctx", {})) if template else str(error["msg"])


def _literal_message(error: Any) -> str:
    known = str(error["ctx"]["expected"])
    words = [word.strip(" '") for word in known.replace(" or ", ", ").split(",")]
    found = error["input"]
    hint = did_you_mean(found, words) if isinstance(found, str) else ""
    return f"{_shown(found)} is not one of {', '.join(words)}{hint}"


def _shown(value: Any) -> str:
    """What was found, in short."""
    if value is None:
        return "nothing"
    if isinstance(value, bool):
        return str(value).lower()
    if isinstance(value, dict | list):
        kind = "mapping" if isinstance(value, dict) else "list"
        return f"a {kind} of {len(value)}" if value else f"an empty {kind}"
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
