"""What is to be built, in the order in which it can be, with every value to type."""

from typing import Any

from msgspec import Struct

from northgate.change import build_steps
from northgate.plan import Plan
from northgate.plan.models.addressing import AddressBook
from northgate.plan.models.words import label, unit


class Build(Struct, frozen=True):
    """One step: what is done, and the values of it (label, value)."""

    words: str
    values: tuple[tuple[str, str], ...]


def builds(plan: Plan) -> list[Build]:
    """Every object of a plan, what it stands on first; addresses that North Gate chose are said."""
    book = AddressBook(plan)
    made = []
    for step in build_steps(plan):
        (edit,) = step.edits
        values = list(_values("", edit.value))
        if edit.field == "balancers" and not edit.value["addresses"]:
            values.append(("Addresses", f"{', '.join(book.balancers[edit.name])} (the next free)"))
        if edit.field == "instances" and not edit.value.get("address") and book.instances.get(edit.name):
            values.append(("Address", f"{book.instances[edit.name]} (the next free)"))
        made.append(Build(step.words, tuple(values)))
    return made


def _values(place: str, value: Any) -> list[tuple[str, str]]:
    """The leaves of an object that are set, each with where it stands."""
    if isinstance(value, dict):
        found = []
        for key, item in value.items():
            if key != "name" or place:
                found += _values(f"{place} › {label(key)}".strip(" ›") if place else label(key), item)
            if not isinstance(item, dict | list) and found and unit(key) and item is not None:
                where, said = found[-1]
                found[-1] = (where, f"{said} {unit(key)}".replace(" /s", "/s"))
        return found
    if isinstance(value, list):
        if all(not isinstance(one, dict | list) for one in value):
            return [(place, ", ".join(map(str, value)))] if value else []
        return [leaf for number, one in enumerate(value) for leaf in _values(f"{place} {number + 1}", one)]
    if value is None or value == "":
        return []
    return [(place, _said(value))]


def _said(value: Any) -> str:
    if isinstance(value, bool):
        return "yes" if value else "no"
    return f"{value:g}" if isinstance(value, float) else str(value)
