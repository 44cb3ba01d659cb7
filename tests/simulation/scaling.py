"""Fleets of a simulated plan: who is launched and who ends, by hand or as an autoscaler decides."""

from __future__ import annotations

import math
from collections.abc import Iterator
from typing import TYPE_CHECKING

import simpy

from northgate.plan import Plan
from northgate.plan.models.drills import Drill, Step
from northgate.plan.models.faults import Part
from northgate.plan.models.groups import Target as Member
from northgate.plan.models.machines import Fleet, Instance, Scale
from tests.simulation.places import Machine

if TYPE_CHECKING:
    from tests.simulation.requests import Simulation

# How long who is launched by hand warms up, where the fleet has no autoscaler (s).
WARMUP_S = 90.0


def roomy(plan: Plan, drill: Drill) -> tuple[Plan, dict[str, list[str]]]:
    """The plan with a place in every zone for whoever may be launched there, and these places by fleet."""
    by_hand = {step.scale.fleet: 0 for step in drill.steps if step.scale}
    for step in drill.steps:
        if step.scale:
            by_hand[step.scale.fleet] = max(by_hand[step.scale.fleet], step.scale.count)
    places = {
        fleet.name: list(_places(fleet, max(fleet.scale.max if fleet.scale else 0, by_hand.get(fleet.name, 0))))
        for fleet in plan.fleets
        if fleet.scale or fleet.name in by_hand
    }
    groups = [
        group.model_copy(update={"targets": [one for target in group.targets for one in _with(target, places)]})
        for group in plan.target_groups
    ]
    instances = [*plan.instances, *(one for some in places.values() for one in some)]
    names = {fleet: [one.name for one in some] for fleet, some in places.items()}
    made = plan.model_copy(update={"instances": instances, "target_groups": groups})
    # All machines were listed before there were any more.
    vars(made).pop("machines", None)
    return made, names


def _places(fleet: Fleet, room: int) -> Iterator[Instance]:
    """Numbered on from zone to zone in turn, in each as many as may ever be there."""
    begun = [one.zone for one in fleet.instances()]
    for number in range(room):
        for position, (zone, subnet) in enumerate(fleet.zones.items()):
            if number < room - begun.count(zone):
                name = f"{fleet.name}-{fleet.count + number * len(fleet.zones) + position + 1}"
                template = {field: getattr(fleet.instance, field) for field in type(fleet.instance).model_fields}
                yield Instance.model_construct(name=name, zone=zone, subnet=subnet, address=None, **template)


def _with(target: Member, places: dict[str, list[Instance]]) -> list[Member]:
    more = places.get(target.fleet or "", [])
    return [target, *(target.model_copy(update={"fleet": None, "instance": one.name}) for one in more)]


class Fleets:
    """Who of each fleet is there, since when, and whom its autoscaler launches or drains."""

    def __init__(self, run: Simulation, places: dict[str, list[str]]) -> None:
        self.run, self.env = run, run.env
        self._fleets = [one for one in run.plan.fleets if one.name in places]
        self._places = {one.name: [*one.instance_names(), *places[one.name]] for one in self._fleets}
        self.later = {name for some in places.values() for name in some}
        # Not there; and there, but not serving yet.
        self.absent, self.warming = set(self.later), set[str]()
        self._since = {name: -1.0 for some in self._places.values() for name in some}
        self._proven = set(self._since) - self.later

    def watch(self) -> None:
        """Autoscalers begin to decide."""
        for fleet in self._fleets:
            if fleet.scale:
                self.env.process(self._decide_on(fleet, fleet.scale))

    def scale(self, name: str, count: int) -> None:
        """A fleet is to have so many, by hand."""
        fleet = next(one for one in self._fleets if one.name == name)
        here = [one for one in self._there(name) if one not in self.run.leaving]
        self._drain_newest(fleet, here, len(here) - count)
        self._launch(fleet, count - len(here))

    def waits(self, machine: Machine) -> bool:
        """Whether nobody may be sent there: it is not there, or warms up."""
        return machine.name in self.absent or machine.name in self.warming

    def restarted(self, machine: str) -> None:
        """A machine is back: whether it is lost is not known before it has been in use again."""
        self._proven.discard(machine)

    def _there(self, fleet: str) -> list[str]:
        return [one for one in self._places[fleet] if one not in self.absent and one not in self.run.removed]

    def _decide_on(self, fleet: Fleet, scale: Scale) -> Iterator[simpy.Event]:
        run = self.run
        while True:
            work = {name: run.world.machines[name].worked_s(self.env.now) for name in self._places[fleet.name]}
            yield self.env.timeout(scale.every_s)
            there = self._there(fleet.name)
            used = [one for one in there if self._in_use(one)]
            self._proven |= set(used)
            loads = [
                min(max(run.world.machines[one].worked_s(self.env.now) - work[one], 0.0) / scale.every_s, 1.0)
                for one in used
            ]
            load = sum(loads) / len(loads) if loads else 0.0
            wanted = min(max(math.ceil(len(used) * load / scale.target_utilisation - 1e-9), scale.min), scale.max)
            starting = [one for one in there if one not in run.leaving and one not in self._proven]
            have = len(used) + len(starting)
            launched = self._launch(fleet, min(wanted - have, scale.max - len(there)))
            if wanted < have and not launched:
                self._drain_newest(fleet, used, 1)
                run.look_again()

    def _in_use(self, machine: str) -> bool:
        if machine in self.run.leaving or machine in self.warming:
            return False
        return any(
            target.in_use
            for (front, _), targets in self.run.targets.items()
            for target in targets
            if target.machine.name == machine and not self.run.dead[front]
        )

    def _launch(self, fleet: Fleet, count: int) -> int:
        """Launches so many in living zones, the emptiest first, and says how many there was room for."""
        machines, launched = self.run.world.machines, 0
        for _ in range(count):
            there = [machines[one].zone for one in self._there(fleet.name)]
            free = [one for one in self._places[fleet.name] if one in self.absent and self._lives(machines[one].zone)]
            if not free:
                break
            zones = [zone for zone in fleet.zones if any(machines[one].zone == zone for one in free)]
            zone = min(zones, key=there.count)
            self._start(fleet, next(one for one in free if machines[one].zone == zone))
            launched += 1
        return launched

    def _lives(self, zone: str) -> bool:
        region = self.run.world.region_of[zone]
        return not any(fault.zone == zone or fault.region == region for fault in self.run.world.faults)

    def _start(self, fleet: Fleet, name: str) -> None:
        self.absent.remove(name)
        self.warming.add(name)
        self._since[name] = self.env.now
        self._proven.discard(name)
        self.run.unproven(name)
        self.env.process(self._warm_up(name, fleet.scale.warmup_s if fleet.scale else WARMUP_S))

    def _warm_up(self, name: str, warmup_s: float) -> Iterator[simpy.Event]:
        yield self.env.timeout(warmup_s)
        self.warming.remove(name)
        self.run.happen(Step(at_s=0, restore=Part(instance=name)))

    def _drain_newest(self, fleet: Fleet, some: list[str], count: int) -> None:
        order = sorted(some, key=lambda one: (self._since[one], self._places[fleet.name].index(one)))
        for machine in order[::-1][: max(count, 0)]:
            self.run.drain(machine)
            self.env.process(self._end(machine))

    def _end(self, machine: str) -> Iterator[simpy.Event]:
        yield self.env.timeout(self.run.drain_s(machine))
        self.absent.add(machine)
        self.run.leaving.pop(machine, None)
        self.run.happen(Step(at_s=0, fail=Part(instance=machine)))
