"""What has come into a plan from a file."""

from collections.abc import Sequence
from typing import Any

from msgspec import Struct, field

from northgate.intake.bad import Bad
from northgate.plan import Plan, plan_from_data
from northgate.plan.editing import whole_data


class TakenIn(Struct):
    """What has come into a plan: the plan as it is then, the names of what is new or changed, and the JSON Patch (RFC
    6902) that makes it so; how much was read, lines that could not be taken, and what else is to be known."""

    plan: Plan
    added: list[str]
    patch: list[dict[str, Any]]
    read: int
    bad: Bad
    notes: list[str] = field(default_factory=list)


def taken(
    plan: Plan, kind: str, items: Sequence[dict[str, Any]], read: int, bad: Bad, notes: Sequence[str] = ()
) -> TakenIn:
    """A plan with objects of a kind, each in the place of the one of its name, or after all others."""
    data, patch = whole_data(plan), list[dict[str, Any]]()
    places = {called(one["name"]): at for at, one in enumerate(data[kind])}
    for item in items:
        at = places.get(called(item["name"]))
        patch.append(
            {"op": "add", "path": f"/{kind}/-", "value": item} if at is None
            else {"op": "replace", "path": f"/{kind}/{at}", "value": item}
        )  # fmt: skip
        if at is None:
            data[kind].append(item)
        else:
            data[kind][at] = item
    made = plan_from_data(data)
    return TakenIn(made, [one["name"] for one in items], patch, read, bad, list(notes))


def called(name: str) -> str:
    """A name as names are compared: those of hosts in any case, with or without the last dot."""
    return name.lower().rstrip(".")
