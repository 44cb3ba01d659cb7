"""The steps from one plan to another, in an order in which nothing is used before it is there and proven.

First what is new is built, in the order in which one thing refers to another. New targets are registered, and groups
that come into a pool come with weight 0, so that they are proven before anything is sent there. Then settings change,
from the foot up; names last. What is left is unregistered and removed, from the top down; zones and subnets when nobody
is there any more. What can only be replaced is built anew beside the old, what leads to the old is moved, and the old
is removed.

Clients, areas, prices and notes are no steps: they are what the later plan says as soon as what they speak of is there.
Nor is it one that a region, a network, a subnet or an area is called otherwise.
"""

from collections.abc import Sequence
from typing import Any

from northgate.change.assumed import called_as, host_of, with_assumed
from northgate.change.between import BUILT, Between, without_later
from northgate.change.edits import ChangeStep, Data, Edit
from northgate.plan import Plan
from northgate.plan.difference import KINDS, difference
from northgate.plan.editing import whole_data


def steps_between(before: Plan, after: Plan) -> list[ChangeStep]:
    """The steps from one plan to another, each with those that it needs."""
    before = called_as(before, after)
    old, new = whole_data(before), whole_data(after)
    between = Between(
        old, new, _replaced(before, after), without_later(after, before), without_later(before, after)
    )  # fmt: skip
    found = with_assumed(list(between.steps()), old, new)
    return [_with_needs(at, step, found, old) for at, step in enumerate(found)]


def build_steps(plan: Plan) -> list[ChangeStep]:
    """The steps from nothing to a plan: every object of it, what it stands on first."""
    return list(Between({field: [] for field in BUILT}, whole_data(plan), set(), {}, {}).steps())


def _replaced(before: Plan, after: Plan) -> set[tuple[str, str]]:
    """The balancers and groups that can only be replaced."""
    lists = {kind: field for field, kind in KINDS.items()}
    made = set()
    for one in difference(before, after):
        kind = next((kind for kind in ("balancer", "target group") if one.about.startswith(f"{kind} ")), None)
        if one.effect == "replace" and kind:
            made.add((lists[kind], one.about.removeprefix(f"{kind} ")))
    return made


def _words_in(value: Any) -> set[str]:
    """All words in a value, keys too; of `balancer:front` the name as well."""
    if isinstance(value, dict):
        return {str(key) for key in value} | {word for item in value.values() for word in _words_in(item)}
    if isinstance(value, list):
        return {word for item in value for word in _words_in(item)}
    return {value, value.partition(":")[2]} - {""} if isinstance(value, str) else set()


def _refers(edit: Edit) -> set[str]:
    """All words in what an edit puts into the plan, and the hosts that clients call."""
    calls = edit.value["calls"] if edit.field == "clients" else []
    return _words_in(edit.value) | {host_of(call) for call in calls}


def _with_needs(at: int, step: ChangeStep, every: Sequence[ChangeStep], old: Data) -> ChangeStep:
    """A step with those before it that build what it refers to, stop referring to what it removes, or change the same
    thing."""
    refers = {word for edit in step.edits for word in _refers(edit)}
    drops = {name for edit in step.edits for name in edit.drops}
    users = {
        (field, one["name"])
        for field in BUILT
        for one in old[field]
        if drops & _words_in({key: value for key, value in one.items() if key != "name"})
    }
    needs = []
    for number, other in enumerate(every[:at]):
        builds = {name for edit in other.edits for name in edit.builds}
        lets_go = {(edit.field, edit.name) for edit in other.edits if edit.op not in ("put", "merge")}
        same = {(edit.field, edit.name) for edit in step.edits if edit.op != "merge"} & lets_go
        if builds & refers or users & lets_go or same:
            needs.append(number)
    return ChangeStep(step.words, step.edits, tuple(needs), step.seen_s)
