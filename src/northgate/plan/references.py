"""Who refers to whom: every reference of a plan, which of them dangle, and which names are given twice."""

import typing
from collections.abc import Iterator
from functools import cache
from typing import Any

from msgspec import Struct
from pydantic import BaseModel

from northgate.plan.models.document import Plan
from northgate.plan.models.groups import Target
from northgate.plan.models.traffic import LastResort
from northgate.plan.models.types import Ref
from northgate.plan.problems import Location, Problem, did_you_mean, pointer

_LISTS = {
    "region": "regions",
    "area": "areas",
    "network": "networks",
    "firewall": "firewalls",
    "fleet": "fleets",
    "probe": "probes",
    "target_group": "target_groups",
    "pool": "pools",
    "certificate": "certificates",
    "balancer": "balancers",
    "name": "names",
    "client": "clients",
    "drill": "drills",
}


class Reference(Struct, frozen=True):
    """One reference: where it stands, the kind of object that it names, and the name."""

    location: Location
    kind: str
    name: str


def definitions(plan: Plan) -> Iterator[tuple[str, str, Location]]:
    """Every named object of the plan as (kind, name, location), in document order within its kind."""
    for kind, field in _LISTS.items():
        for index, item in enumerate(getattr(plan, field)):
            yield kind, item.name, (field, index)
    for index, region in enumerate(plan.regions):
        for position, zone in enumerate(region.zones):
            yield "zone", zone, ("regions", index, "zones", position)
    for index, network in enumerate(plan.networks):
        for position, subnet in enumerate(network.subnets):
            yield "subnet", subnet.name, ("networks", index, "subnets", position)
    for index, instance in enumerate(plan.instances):
        yield "instance", instance.name, ("instances", index)


def names_of(plan: Plan) -> dict[str, set[str]]:
    """All names by the kind that a reference may ask for."""
    names: dict[str, set[str]] = {kind: set() for kind in (*_LISTS, "zone", "subnet", "instance")}
    for kind, name, _ in definitions(plan):
        names[kind].add(name)
    fleet_instances = {name for fleet in plan.fleets for name in fleet.instance_names()}
    names["any instance"] = names["instance"] | fleet_instances
    names["zone or region"] = names["zone"] | names["region"]
    names["fault_domain"] = plan.fault_domains()
    names["address outside"], names["host outside"] = outside(plan)
    return names


def outside(plan: Plan) -> tuple[set[str], set[str]]:
    """The addresses and the hosts that are targets or answers, and no part of the plan."""
    ends: list[Target | LastResort] = [target for group in plan.target_groups for target in group.targets]
    for entry in plan.names:
        ends += [*entry.answers, *([entry.when_none_healthy] if entry.when_none_healthy else [])]
    owned = {address for instance in plan.instances for address in (instance.address, instance.public_address)}
    owned |= {address for balancer in plan.balancers for address in balancer.addresses}
    known = {entry.name.lower().rstrip(".") for entry in plan.names}
    addresses = {end.address for end in ends if end.address and end.address not in owned}
    return addresses, {end.host for end in ends if end.host and end.host.lower().rstrip(".") not in known}


def references(plan: Plan) -> Iterator[Reference]:
    """Every reference of the plan, in document order."""
    return _in_model(plan, ())


def dangling(plan: Plan) -> list[Problem]:
    """References to objects that the plan does not have; a draft may hold them, a run may not."""
    names = names_of(plan)
    return [
        Problem(
            pointer(reference.location),
            f"there is no {_called(reference.kind)} {reference.name!r}"
            + did_you_mean(reference.name, sorted(names[reference.kind])),
        )
        for reference in references(plan)
        if reference.name not in names[reference.kind]
    ]


def _called(kind: str) -> str:
    """A kind of reference as it is spoken of."""
    return kind.removeprefix("any ").replace("_", " ").replace("outside", "outside the plan")


def repeated(plan: Plan) -> list[Problem]:
    """Names that are given twice within their kind."""
    seen: set[tuple[str, str]] = set()
    problems = []
    for kind, name, location in _everything_named(plan):
        if (kind, name) in seen:
            problems.append(Problem(pointer(location), f"another {kind.replace('_', ' ')} has the name {name!r}"))
        seen.add((kind, name))
    return problems


def _everything_named(plan: Plan) -> Iterator[tuple[str, str, Location]]:
    yield from definitions(plan)
    for index, fleet in enumerate(plan.fleets):
        for name in fleet.instance_names():
            yield "instance", name, ("fleets", index)
    for index, balancer in enumerate(plan.balancers):
        for position, listener in enumerate(balancer.listeners):
            place: Location = ("balancers", index, "listeners", position)
            yield f"listener of {balancer.name}", listener.name, place
            for number, rule in enumerate(listener.rules):
                yield f"rule of {balancer.name} {listener.name}", rule.name, (*place, "rules", number)


class _Shape(Struct, frozen=True):
    """How a field's value is walked: as a reference, a model, or item by item."""

    kind: str | None = None
    items: "_Shape | None" = None
    keys: "_Shape | None" = None


def _in_model(model: BaseModel, location: Location) -> Iterator[Reference]:
    for field, public, shape in _walkable(type(model)):
        value = getattr(model, field)
        if value is not None:
            yield from _in_value(value, shape, (*location, public))


def _in_value(value: Any, shape: _Shape, location: Location) -> Iterator[Reference]:
    if isinstance(value, BaseModel):
        yield from _in_model(value, location)
    elif isinstance(value, dict):
        yield from _in_mapping(value, shape, location)
    elif isinstance(value, list) and shape.items:
        for index, item in enumerate(value):
            yield from _in_value(item, shape.items, (*location, index))
    elif isinstance(value, str) and shape.kind:
        yield from _in_word(value, shape.kind, location)


def _in_mapping(value: dict[str, Any], shape: _Shape, location: Location) -> Iterator[Reference]:
    for key, item in value.items():
        if shape.keys and shape.keys.kind:
            yield Reference((*location, key), shape.keys.kind, key)
        if shape.items and item is not None:
            yield from _in_value(item, shape.items, (*location, key))


def _in_word(word: str, kind: str, location: Location) -> Iterator[Reference]:
    if kind != "rule peer":
        yield Reference(location, kind, word)
        return
    peer, separator, name = word.partition(":")
    if separator and peer in ("balancer", "firewall"):
        yield Reference(location, peer, name)


@cache
def _walkable(model: type[BaseModel]) -> tuple[tuple[str, str, _Shape], ...]:
    """The fields of a model that can hold references: (attribute, name in the file, shape)."""
    hints = typing.get_type_hints(model, include_extras=True)
    fields = []
    for field, info in model.model_fields.items():
        shape = _shape(hints[field])
        if shape is not None:
            fields.append((field, info.alias or field, shape))
    return tuple(fields)


def _shape(annotation: Any) -> _Shape | None:
    """How values of an annotation are walked; None when they can hold no reference."""
    origin, arguments = typing.get_origin(annotation), typing.get_args(annotation)
    if origin is typing.Annotated:
        marks = [extra.kind for extra in arguments[1:] if isinstance(extra, Ref)]
        return _Shape(kind=marks[0]) if marks else _shape(arguments[0])
    if origin is dict:
        keys, items = _shape(arguments[0]), _shape(arguments[1])
        return _Shape(keys=keys, items=items) if keys or items else None
    if origin is list:
        items = _shape(arguments[0])
        return _Shape(items=items) if items else None
    if isinstance(annotation, type) and issubclass(annotation, BaseModel):
        return _Shape()
    return next(filter(None, map(_shape, arguments)), None)
