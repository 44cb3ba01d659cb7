"""The steps of a drill."""

from collections.abc import Sequence

from northgate.engine.base import CannotRun
from northgate.engine.network import Network
from northgate.engine.truth import describe_part
from northgate.plan import Problem
from northgate.plan.drills import Drill, Part, Step
from northgate.plan.problems import pointer


def first_change_s(drill: Drill) -> float:
    """The second of the first step that changes truth; 0 when none does."""
    return min((step.at_s for step in drill.steps if step.fail or step.restore), default=0.0)


def _in_order(steps: Sequence[Step]) -> list[Step]:
    return sorted(steps, key=lambda step: step.at_s)


def _check_restores(network: Network, drill: Drill) -> None:
    standing: list[Part] = []
    number = [other.name for other in network.plan.drills].index(drill.name) if drill in network.plan.drills else 0
    for step in _in_order(drill.steps):
        if step.fail:
            standing.append(step.fail)
        elif step.restore and step.restore in standing:
            standing.remove(step.restore)
        elif step.restore:
            where = pointer(("drills", number, "steps", drill.steps.index(step), "restore"))
            raise CannotRun([Problem(where, f"{describe_part(step.restore)} has not failed before {step.at_s:g} s")])
