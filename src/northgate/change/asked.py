"""What a usual change asks of a plan, and what is made of the answers."""

from collections.abc import Iterator, Mapping, Sequence
from typing import Any

from msgspec import Struct

from northgate.change.edits import ChangeStep
from northgate.engine.reports import AnswerModel
from northgate.plan import Plan
from northgate.plan.models.drills import Drill
from northgate.plan.models.groups import TargetGroup


class Ask(AnswerModel):
    """What a usual change has to know: one of what is offered, or a number where nothing is; and what is taken when it
    is not said."""

    name: str
    words: str
    offers: list[str]
    given: str


class ByPlan(Struct, frozen=True):
    """Steps from the plan, and what it is after them."""

    steps: Sequence[ChangeStep]
    after: Plan


class ByHand(Struct, frozen=True):
    """A drill with what is done at which second, and the same all at once."""

    drill: Drill
    marks: Sequence[tuple[float, str]]
    once: Drill


Given = Mapping[str, str]


def choice(name: str, words: str, offers: Sequence[str], first: int = 0) -> Ask:
    """A choice among what is offered, by default the first, or the one at that place."""
    return Ask(name=name, words=words, offers=list(offers), given=offers[min(first, len(offers) - 1)])


def number(name: str, words: str, given: int) -> Ask:
    """A number that is asked for, and what it is by default."""
    return Ask(name=name, words=words, offers=[], given=str(given))


def named(items: Sequence[Any], name: str) -> Any:
    """The one of that name."""
    return next(one for one in items if one.name == name)


def free(items: Sequence[Any], name: str) -> str:
    """A name that none of these has."""
    taken = {one.name for one in items}
    return next(one for one in (name, *(f"{name}-{number}" for number in range(2, len(taken) + 3))) if one not in taken)


def machines(plan: Plan, group: TargetGroup) -> list[str]:
    """The instances of a group, by name."""
    return list(dict.fromkeys(_instances(plan, group)))


def _instances(plan: Plan, group: TargetGroup) -> Iterator[str]:
    for target in group.targets:
        if target.instance:
            yield target.instance
        elif target.fleet:
            yield from named(plan.fleets, target.fleet).instance_names()
        elif target.tagged:
            yield from (one.name for one in plan.machines if target.tagged in one.tags)


def proof_s(plan: Plan, group: TargetGroup) -> float:
    """For how long a target is proven at most (s)."""
    probe = next((one for one in plan.probes if one.name == group.probe), None)
    return (probe.healthy_after + 1) * (probe.interval_s + probe.timeout_s) + group.slow_start_s if probe else 0.0
