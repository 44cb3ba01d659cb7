"""Edits of a plan: JSON Patch (RFC 6902) on the whole document, and the patches that renaming and deleting need."""

from collections.abc import Iterable
from types import UnionType
from typing import Any, Union, get_args, get_origin

import jsonpatch
import jsonpointer
from annotated_types import MinLen
from pydantic import BaseModel
from pydantic.fields import FieldInfo

from northgate.plan.models.document import Plan
from northgate.plan.models.faults import Part
from northgate.plan.problems import Location, PlanError, Problem, pointer
from northgate.plan.reading import plan_from_data
from northgate.plan.references import Reference, definitions, names_of, references

MAX_OPERATIONS = 20_000
Patch = list[dict[str, Any]]


def whole_data(plan: Plan) -> dict[str, Any]:
    """The plan as JSON with every default filled in: the document that patches address."""
    return plan.model_dump(mode="json", by_alias=True)


def patched(plan: Plan, patch: Patch) -> Plan:
    """The plan after a JSON Patch; raises PlanError with the place that the patch, or its result, gets wrong."""
    return plan_from_data(applied(plan, patch))


def applied(plan: Plan, patch: Patch) -> Any:
    """The plan's data after a JSON Patch, a plan or not; raises PlanError with the place that the patch gets wrong."""
    if len(patch) > MAX_OPERATIONS:
        raise PlanError([Problem("", f"a patch may hold {MAX_OPERATIONS:,} operations at most")])
    try:
        return jsonpatch.apply_patch(whole_data(plan), patch, in_place=True)
    except jsonpatch.JsonPatchTestFailed as error:
        raise PlanError([Problem(_path_of(patch), f"the plan is not what the patch expects: {error}")]) from error
    except (jsonpatch.JsonPatchException, jsonpointer.JsonPointerException, TypeError, KeyError) as error:
        raise PlanError([Problem(_path_of(patch), f"the patch cannot be applied: {error}")]) from error


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

    Of each reference the least goes that leaves a plan: an optional field is emptied, else the key or list entry goes
    in which the reference stands, else the object around it, whose own users go the same way.
    """
    return patch_between(plan, _without_dangling(without(plan, [location_of(plan, kind, name)])))


def with_users_gone(plan: Plan, patch: Patch) -> Patch:
    """A patch of a plan that can be run, which takes along what refers to what it removes, as `removal` does."""
    left = patched(plan, patch)
    tidy = _without_dangling(left)
    return patch if tidy is left else patch_between(plan, tidy)


def _without_dangling(plan: Plan) -> Plan:
    while loose := _dangling_at(plan):
        plan = without(plan, loose)
    return plan


def _dangling_at(plan: Plan) -> list[Location]:
    names = names_of(plan)
    return [one.location for one in references(plan) if one.name not in names[one.kind]]


def without(plan: Plan, places: Iterable[Location]) -> Plan:
    """The plan without what stands at these places, each widened until what is left is a plan."""
    emptied: set[Location] = set()
    gone: set[Location] = set()
    for place in places:
        _let_go(plan, place, emptied, gone)
    data = whole_data(plan)
    for place in emptied:
        _at(data, place[:-1])[place[-1]] = None
    for place in sorted(gone, key=_last_first, reverse=True):
        if not any(place[:depth] in gone for depth in range(1, len(place))):
            del _at(data, place[:-1])[place[-1]]
    return plan_from_data(data)


def _let_go(plan: Plan, place: Location, emptied: set[Location], gone: set[Location]) -> None:
    """Notes the least around a place that can go: a field to be emptied, or an entry to be taken out."""
    while True:
        container, least = _container(plan, place[:-1])
        if isinstance(container, BaseModel):
            if _may_be_empty(container, str(place[-1])):
                emptied.add(place)
                return
        else:
            siblings = {other for other in gone if other[:-1] == place[:-1]} | {place}
            if len(container) - len(siblings) >= least:
                gone.add(place)
                return
        place = place[:-1]


def _container(plan: Plan, place: Location) -> tuple[Any, int]:
    """What stands at a place, and how many entries it must keep."""
    found: Any = plan
    least = 0
    for part in place:
        if isinstance(found, BaseModel):
            field = _field(found, str(part))
            least = _least(type(found).model_fields[field])
            found = getattr(found, field)
        else:
            found, least = found[part], 0
    return found, least


def _least(field: FieldInfo) -> int:
    """How many entries a list or mapping must keep, be it optional or not."""
    bounds = list(field.metadata)
    if get_origin(field.annotation) in (Union, UnionType):
        given = [one for option in get_args(field.annotation) for one in get_args(option)[1:]]
        bounds += [bound for one in given if isinstance(one, FieldInfo) for bound in one.metadata]
    return max((bound.min_length for bound in bounds if isinstance(bound, MinLen)), default=0)


def _field(model: BaseModel, public: str) -> str:
    return next(name for name, info in type(model).model_fields.items() if public in (name, info.alias))


def _may_be_empty(model: BaseModel, public: str) -> bool:
    """Whether a field can be null; where exactly one of several fields is wanted, none can."""
    if isinstance(model, Part) or "json_schema_extra" in type(model).model_config:
        return False
    return type(model).model_fields[_field(model, public)].default is None


def _last_first(location: Location) -> tuple[tuple[int, str, int], ...]:
    """Sorts list entries by number, so that from the back none moves another."""
    return tuple((1, "", part) if isinstance(part, int) else (0, part, 0) for part in location)


def _at(data: Any, location: Location) -> Any:
    for part in location:
        data = data[part]
    return data


def renaming(plan: Plan, kind: str, name: str, to: str) -> Patch:
    """The patch that renames an object and every reference to it."""
    location = location_of(plan, kind, name)
    own = location if kind == "zone" else (*location, "name")
    operations: Patch = [{"op": "replace", "path": pointer(own), "value": to}]
    data = whole_data(plan)
    for reference in users_of(plan, kind, name):
        operations += _renamed(data, reference, to)
    if kind == "fleet":
        for number, instance in enumerate(plan.fleets[int(location[1])].instance_names(), start=1):
            for reference in users_of(plan, "any instance", instance):
                operations += _renamed(data, reference, f"{to}-{number}")
    return operations


def _renamed(data: Any, reference: Reference, to: str) -> Patch:
    location = reference.location
    holder = _at(data, location[:-1])
    if (
        isinstance(holder, dict)
        and location[-1] == reference.name
        and location[-2] in ("groups", "zones", "latency_ms")
    ):
        # Machines stand by the order of zones, so that the new key takes the place of the old one.
        kept = {(to if key == reference.name else key): value for key, value in holder.items()}
        return [{"op": "replace", "path": pointer(location[:-1]), "value": kept}]
    value = f"{reference.kind}:{to}" if location[-1] in ("from", "to") else to
    return [{"op": "replace", "path": pointer(location), "value": value}]
