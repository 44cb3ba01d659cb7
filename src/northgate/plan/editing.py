"""Edits of a plan: JSON Patch (RFC 6902) on the whole document, and the patches that renaming and deleting need."""

from typing import Any

import jsonpatch
import jsonpointer

from northgate.plan.document import Plan
from northgate.plan.problems import Location, PlanError, Problem, pointer
from northgate.plan.reading import plan_from_data
from northgate.plan.references import Reference, definitions, references

MAX_OPERATIONS = 20_000
Patch = list[dict[str, Any]]

# Lists whose items are nothing but a reference with its settings: without the reference the item goes.
_ITEM_OF = {"targets": 1, "answers": 1, "steps": 2, "rules": 2, "allow_in": 1, "allow_out": 1}


def whole_data(plan: Plan) -> dict[str, Any]:
    """The plan as JSON with every default filled in: the document that patches address."""
    return plan.model_dump(mode="json", by_alias=True)


def patched(plan: Plan, patch: Patch) -> Plan:
    """The plan after a JSON Patch; raises PlanError with the place that the patch, or its result, gets wrong."""
    if len(patch) > MAX_OPERATIONS:
        raise PlanError([Problem("", f"a patch may hold {MAX_OPERATIONS:,} operations at most")])
    try:
        data = jsonpatch.apply_patch(whole_data(plan), patch)
    except jsonpatch.JsonPatchTestFailed as error:
        raise PlanError([Problem(_path_of(patch), f"the plan is not what the patch expects: {error}")]) from error
    except (jsonpatch.JsonPatchException, jsonpointer.JsonPointerException, TypeError, KeyError) as error:
        raise PlanError([Problem(_path_of(patch), f"the patch cannot be applied: {error}")]) from error
    return plan_from_data(data)


def _path_of(patch: Patch) -> str:
    first = patch[0] if patch and isinstance(patch[0], dict) else {}
    return str(first.get("path", ""))


def patch_between(before: Plan, after: Plan) -> Patch:
    """The JSON Patch that makes one plan into another."""
    made: Patch = jsonpatch.make_patch(whole_data(before), whole_data(after)).patch
    return made


def users_of(plan: Plan, kind: str, name: str) -> list[Reference]:
    """Every reference to an object."""
    asked = {kind} | ({"any instance"} if kind in ("instance", "any instance") else set())
    asked |= {"zone or region"} if kind in ("zone", "region") else set()
    return [reference for reference in references(plan) if reference.name == name and reference.kind in asked]


def location_of(plan: Plan, kind: str, name: str) -> Location:
    """Where an object is defined; raises PlanError when it is not."""
    for known_kind, known, location in definitions(plan):
        if (known_kind, known) == (kind, name):
            return location
    raise PlanError([Problem("", f"there is no {kind.replace('_', ' ')} {name!r}")])


def removal(plan: Plan, kind: str, name: str) -> Patch:
    """The patch that deletes an object and takes along what refers to it.

    A list entry that is nothing without the reference goes whole; a key goes with its value; an optional field is
    emptied.
    """
    gone = {location_of(plan, kind, name)}
    emptied: list[Location] = []
    data = whole_data(plan)
    for reference in users_of(plan, kind, name):
        place = _whole_entry(reference, data)
        if place is None:
            emptied.append(reference.location)
        else:
            gone.add(place)
    top = [place for place in gone if not any(place[: len(other)] == other for other in gone if other != place)]
    operations = [
        {"op": "replace", "path": pointer(place), "value": None}
        for place in emptied
        if not any(place[: len(other)] == other for other in top)
    ]
    return operations + [{"op": "remove", "path": pointer(place)} for place in sorted(top, key=_last_first, reverse=True)]


def _last_first(location: Location) -> tuple[tuple[int, str, int], ...]:
    """Sorts list entries by number, so that from the back none moves another."""
    return tuple((1, "", part) if isinstance(part, int) else (0, part, 0) for part in location)


def _whole_entry(reference: Reference, data: dict[str, Any]) -> Location | None:
    """The entry that goes with a reference; None when emptying the field is enough."""
    location = reference.location
    if isinstance(location[-1], int) or location[-1] == reference.name:
        return location if isinstance(_at(data, location[:-1]), dict | list) and location[-1] != "link" else None
    for depth in range(len(location) - 1, 0, -1):
        if isinstance(location[depth], int) and location[depth - 1] in _ITEM_OF:
            return location[: depth + 1]
    if location[-1] in ("probe", "certificate", "firewall", "subnet", "zone", "area", "when_none_healthy"):
        return location[:2] if location[0] == "instances" and location[-1] == "zone" else None
    return location[:2]


def _at(data: Any, location: Location) -> Any:
    for part in location:
        data = data[part]
    return data


def renaming(plan: Plan, kind: str, name: str, to: str) -> Patch:
    """The patch that renames an object and every reference to it."""
    location = location_of(plan, kind, name)
    own = location if kind == "zone" else (*location, "name")
    operations: Patch = [{"op": "replace", "path": pointer(own), "value": to}]
    for reference in users_of(plan, kind, name):
        operations += _renamed(reference, to)
    return operations


def _renamed(reference: Reference, to: str) -> Patch:
    location = reference.location
    if location[-1] == reference.name and len(location) > 1 and location[-2] in ("groups", "zones", "latency_ms"):
        new = pointer((*location[:-1], to))
        return [{"op": "move", "from": pointer(location), "path": new}]
    value = f"{reference.kind}:{to}" if location[-1] in ("from", "to") else to
    return [{"op": "replace", "path": pointer(location), "value": value}]
