"""The steps of a drill: what they do to the world, in order."""

from collections.abc import Iterator, Sequence

from northgate.engine.base import NEVER, CannotRun
from northgate.engine.network import Network
from northgate.engine.processes import Demand, Drains, Entry, World
from northgate.plan import Problem
from northgate.plan.models.drills import Drill, Step
from northgate.plan.models.faults import Part
from northgate.plan.problems import pointer


def first_change_s(drill: Drill) -> float:
    """The second of the first step that changes truth; 0 when none does."""
    return min((step.at_s for step in drill.steps if step.fail or step.restore), default=0.0)


def in_order(steps: Sequence[Step]) -> list[Step]:
    """Steps by time; those of one second as they are written."""
    return sorted(steps, key=lambda step: step.at_s)


def check_restores(network: Network, drill: Drill) -> None:
    """Raises CannotRun when a step restores what has not failed."""
    standing: list[Part] = []
    number = [other.name for other in network.plan.drills].index(drill.name) if drill in network.plan.drills else 0
    for step in in_order(drill.steps):
        if step.fail:
            standing.append(step.fail)
        elif step.restore and step.restore in standing:
            standing.remove(step.restore)
        elif step.restore:
            where = pointer(("drills", number, "steps", drill.steps.index(step), "restore"))
            raise CannotRun([Problem(where, f"{step.restore.words} has not failed before {step.at_s:g} s")])


class Script:
    """The steps that have not been taken yet."""

    def __init__(self, drill: Drill, world: World, demand: Demand, drains: Drains) -> None:
        self._steps = in_order(drill.steps)
        self.world, self.demand, self.drains = world, demand, drains

    def next_s(self, now: float) -> float:  # noqa: ARG002
        """The second of the next step."""
        return self._steps[0].at_s if self._steps else NEVER

    def take(self, now: float) -> Iterator[Entry]:
        """Takes the steps that are due."""
        while self._steps and self._steps[0].at_s <= now:
            yield self._take(self._steps.pop(0), now)

    def _take(self, step: Step, now: float) -> Entry:
        if step.surge:
            self.demand.surge(step.surge.clients, step.surge.factor)
            return Entry("surge", (step.surge.clients,), {"factor": step.surge.factor})
        if step.fail:
            self.world.fail(step.fail)
            return Entry("fail", (step.fail.words,))
        if step.restore:
            self.world.restore(step.restore)
            return Entry("restore", (step.restore.words,))
        name = (step.drain or step.undrain).instance  # type: ignore[union-attr]
        machine = self.world.network.machines.index(name)
        if step.drain:
            self.drains.leave(machine, now)
        else:
            self.drains.come_back(machine)
        return Entry(step.kind, (name,))
