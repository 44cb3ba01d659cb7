"""An edit that was made of one revision, made of another: what it meant is found by name, not by number.

Three documents are merged: what the edit was made of, what it made, and the plan as it is now. What the edit left alone
is as it is now; what it changed is as it made it. What only one of them calls otherwise is the same thing. Entries of a
list are told apart by their names, or by what they lead to, as targets and answers are; other entries are one value
each, which the edit leaves, adds or takes away. A list of which some entries are alike, or one of which the edit
rewrote an entry that others have rewritten since, is one value.
"""

import json
from collections.abc import Sequence
from typing import Any

from northgate.plan.difference import renames
from northgate.plan.editing import patched, renaming, whole_data
from northgate.plan.models.document import Plan
from northgate.plan.problems import Location, PlanError, Problem, pointer
from northgate.plan.reading import plan_from_data
from northgate.plan.references import definitions

_ABSENT: Any = object()
# What makes an entry without a name what it is: whom it leads to, or what it asks for.
_LEADS_TO = ("instance", "fleet", "tagged", "balancer", "address", "host", "port", "method", "url")


def merged(before: Plan, mine: Plan, now: Plan) -> Plan:
    """The plan as it is now with what changed from `before` to `mine`; raises PlanError when something that was
    changed is no longer there, or when what is left is no plan."""
    if before not in (mine, now):
        before, mine, now = _called_alike(before, mine, now)
    return plan_from_data(_merge((), whole_data(before), whole_data(mine), whole_data(now)))


def _called_alike(before: Plan, mine: Plan, now: Plan) -> tuple[Plan, Plan, Plan]:
    """All three with what the edit, or others, have renamed, under its new name; where both have, under the edit's."""
    given = set()
    for kind, was, name in renames(before, mine):
        given.add((kind, name))
        before, now = (_renamed(one, kind, was, name) for one in (before, now))
    for kind, was, name in renames(before, now):
        if (kind, was) in given:
            now = _renamed(now, kind, name, was)
        else:
            before, mine = (_renamed(one, kind, was, name) for one in (before, mine))
    return before, mine, now


def _renamed(plan: Plan, kind: str, was: str, name: str) -> Plan:
    """The plan with an object renamed, if it has it; raises PlanError where it has another of that name."""
    there = any((known, called) == (kind, was) for known, called, _ in definitions(plan))
    return patched(plan, renaming(plan, kind, was, name)) if there else plan


def _merge(place: Location, before: Any, mine: Any, now: Any) -> Any:
    if mine == before:
        return now
    if now in (before, mine):
        return mine
    if now is _ABSENT:
        raise PlanError([Problem(pointer(place), f"the plan no longer has {_words(place)}, which this changes")])
    if before is _ABSENT:
        raise PlanError([Problem(pointer(place), f"meanwhile the plan has been given another {_words(place)}")])
    if mine is _ABSENT:
        # It is to go, whatever has become of it.
        return mine
    if all(isinstance(one, dict) for one in (before, mine, now)):
        return _merge_mappings(place, before, mine, now)
    if all(isinstance(one, list) for one in (before, mine, now)):
        return _merge_lists(place, before, mine, now)
    return mine


def _merge_lists(place: Location, before: Sequence[Any], mine: Sequence[Any], now: Sequence[Any]) -> Any:
    tables = [{_key(item): item for item in one} for one in (before, mine, now)]
    was, made, is_ = tables
    rewritten = any(_one_value(item) and key not in is_ for key, item in was.items() if key not in made)
    if rewritten or any(len(table) < len(one) for table, one in zip(tables, (before, mine, now), strict=True)):
        return mine
    found = _merge_mappings(place, *tables)
    return [found[key] for key in _order(*map(list, tables)) if key in found]


def _merge_mappings(place: Location, before: dict[str, Any], mine: dict[str, Any], now: dict[str, Any]) -> Any:
    found = {}
    for key in dict.fromkeys([*now, *mine]):
        one = _merge((*place, key), *(table.get(key, _ABSENT) for table in (before, mine, now)))
        if one is not _ABSENT:
            found[key] = one
    return found


def _marks(item: Any) -> list[str]:
    """What tells an entry of a list apart from others, whatever else it says."""
    if not isinstance(item, dict):
        return []
    fields = ("name",) if "name" in item else _LEADS_TO
    return [str(item[field]) for field in fields if item.get(field) is not None]


def _one_value(item: Any) -> bool:
    return not _marks(item)


def _key(item: Any) -> str:
    return " ".join(_marks(item)) or json.dumps(item, sort_keys=True)


def _order(before: list[str], mine: list[str], now: list[str]) -> list[str]:
    """The names in the order of the edit, if it changed that, else in that of the plan as it is; what only the other
    has comes behind what it stands behind there."""
    kept = [name for name in before if name in mine]
    leading, other = (mine, now) if [name for name in mine if name in before] != kept else (now, mine)
    found = list(leading)
    for place, name in enumerate(other):
        if name not in found:
            behind = [one for one in other[:place] if one in found]
            found.insert(found.index(behind[-1]) + 1 if behind else 0, name)
    return found


def _words(place: Location) -> str:
    return " ".join(str(part).replace("_", " ") for part in place) or "what it had"
