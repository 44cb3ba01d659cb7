"""Autoscaling: what an autoscaler decides, on what it can see.

Every `every_s` it wants ceil(n u / target) instances, n being those in use and u their mean served utilisation since
its last decision, within min and max. Those that start count towards what is wanted; lost ones are not replaced as
such, but count towards max. Launches go to living zones, the emptiest first; scaling in drains the newest, one a
decision.
"""

import math
from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from northgate.engine.base import DIGITS, NEVER, Bools, Floats, Ints, total_by
from northgate.engine.network import Network
from northgate.engine.processes.process import Entry
from northgate.engine.processes.targets import Targets
from northgate.engine.processes.transitions import Drains
from northgate.engine.processes.world import World
from northgate.plan.models.machines import Fleet, Scale


@dataclass(frozen=True)
class Decision:
    """What an autoscaler decides: which machines it launches, and which one it drains; seeing so many in use, at so
    much load on the mean, and wanting so many."""

    fleet: str
    in_use: int
    load: float
    wanted: int
    launches: Ints
    drains: Ints


class Autoscaler:
    """The autoscaler of one fleet in one drill: its machines, and which of them are there.

    Per machine of the fleet: `since` when it was launched (-1: from the start, inf: not there), `starts` when it begins
    to serve.
    """

    def __init__(self, network: Network, fleet: Fleet, scale: Scale) -> None:
        self.network, self.fleet, self.scale = network, fleet, scale
        machines = network.machines
        own = {machines.names[one] for one in np.flatnonzero(machines.spare)}
        names = {*fleet.instance_names(), *(one for one in own if one.rpartition("-")[0] == fleet.name)}
        self.machines = np.array([at for at, name in enumerate(network.machines.names) if name in names])
        # In the order of their numbers: plan order has a fleet's own after the instances, and so after the spares.
        self.machines = self.machines[np.argsort([_number(network.machines.names[at]) for at in self.machines])]
        self.since = np.where(network.machines.spare[self.machines], NEVER, -1.0)
        self.gone_at = np.full(len(self.machines), NEVER)
        self.next_s = scale.every_s
        self._proven = self.since < 0
        self._worked = np.zeros(len(self.machines))
        self._seen_s = 0.0

    def watch(self, utilisation: Floats, seconds: float) -> None:
        """Takes in what machines have served over a stretch."""
        self._worked += np.minimum(utilisation[self.machines], 1.0) * seconds
        self._seen_s += seconds

    def decide(self, now: float, in_use: Bools, leaving: Bools, living: Bools) -> Decision:
        """The decision that is due now, given which machines are in use, which leave, and which zones live."""
        mine, scale = self.machines, self.scale
        there = self.since < NEVER
        used = there & in_use[mine] & ~leaving[mine]
        starting = there & ~used & ~leaving[mine] & self._not_proven(used)
        count = int(used.sum())
        load = float(self._worked[used].mean() / self._seen_s) if count and self._seen_s > 0 else 0.0
        wanted = min(max(math.ceil(count * load / scale.target_utilisation - 1e-9), scale.min), scale.max)
        have = count + int(starting.sum())
        launches = self._launch(now, min(wanted - have, scale.max - int(there.sum())), living)
        drains = self._drain(used) if wanted < have and not len(launches) else np.zeros(0, dtype=np.int64)
        self.next_s = round(now + scale.every_s, 9)
        self._worked[:], self._seen_s = 0.0, 0.0
        return Decision(self.fleet.name, count, load, wanted, launches, drains)

    def _not_proven(self, used: Bools) -> Bools:
        """Those that have been launched and never been in use yet."""
        self._proven |= used
        return ~self._proven & (self.since >= 0)

    def _launch(self, now: float, count: int, living: Bools) -> Ints:
        zones = self.network.machines.zone[self.machines]
        launched = []
        for _ in range(max(count, 0)):
            there = self.since < NEVER
            free = [zone for zone in self._zones if living[zone] and (~there & (zones == zone)).any()]
            if not free:
                break
            held = total_by(zones, there, len(self.network.zones))
            zone = min(free, key=lambda one: held[one])
            place = int(np.flatnonzero(~there & (zones == zone))[0])
            self.since[place] = now
            self._proven[place] = False
            launched.append(int(self.machines[place]))
        return np.array(launched, dtype=np.int64)

    def _drain(self, used: Bools) -> Ints:
        """The newest of those in use; of equally new ones the last."""
        places = np.flatnonzero(used)
        if not len(places):
            return np.zeros(0, dtype=np.int64)
        newest = places[self.since[places] == self.since[places].max()][-1]
        return self.machines[[newest]]

    @property
    def _zones(self) -> list[int]:
        return [self.network.zones.index(zone) for zone in self.fleet.zones]

    def leaves(self, machine: int, at_s: float) -> None:
        """A machine drains: from then on it is gone."""
        self.gone_at[self.machines == machine] = at_s

    def take_gone(self, now: float) -> Ints:
        """The machines that are gone from now on."""
        gone = self.gone_at <= now
        self.since[gone], self.gone_at[gone] = NEVER, NEVER
        return self.machines[gone]

    def starting(self, now: float) -> Ints:
        """The machines that do not serve yet."""
        return self.machines[(self.since >= 0) & (self.since < NEVER) & (now < self.since + self.scale.warmup_s - 1e-9)]

    def next_event_s(self, now: float) -> float:
        """The next decision, start of service or end of a drain."""
        ready = self.since[(self.since >= 0) & (self.since < NEVER)] + self.scale.warmup_s
        ready = np.round(ready[ready > now + 1e-9], 9)
        return min(self.next_s, float(ready.min(initial=NEVER)), float(self.gone_at.min(initial=NEVER)))


class Autoscaling:
    """The autoscalers of a network, in plan order: machines are launched, begin to serve, drain and go."""

    def __init__(self, world: World, targets: Targets, drains: Drains) -> None:
        self.world, self.targets, self.drains, self.network = world, targets, drains, world.network
        fleets = self.network.plan.fleets
        self.scalers = [Autoscaler(self.network, fleet, fleet.scale) for fleet in fleets if fleet.scale]

    def watch(self, utilisation: Floats, seconds: float) -> None:
        """Takes in what machines have served over a stretch."""
        for scaler in self.scalers:
            scaler.watch(utilisation, seconds)

    def next_s(self, now: float) -> float:
        """The next decision, start of service or end of a drain."""
        return min((scaler.next_event_s(now) for scaler in self.scalers), default=NEVER)

    def take(self, now: float) -> Iterator[Entry]:
        """Drained machines go, launched ones begin to serve, and autoscalers decide."""
        if not self.scalers:
            return
        changed, launched = False, list[int]()
        exists = self.world.exists = self.world.exists.copy()
        for scaler in self.scalers:
            gone = scaler.take_gone(now)
            if len(gone):
                exists[gone] = False
                self.drains.forget(gone)
            if scaler.next_s <= now:
                decision = self._decide(scaler, now)
                exists[decision.launches] = True
                launched += decision.launches.tolist()
                yield from self._told(decision)
            changed |= len(gone) > 0 or bool(launched)
        starting = np.array([int(one) for scaler in self.scalers for one in scaler.starting(now)], dtype=np.int64)
        if changed or starting.tolist() != self.world.starting.tolist():
            self.targets.start(np.array(launched, dtype=np.int64))
            self.world.populate(exists, starting)

    def _decide(self, scaler: Autoscaler, now: float) -> Decision:
        network, world = self.network, self.world
        using = self.targets.in_use & ~world.truth.front_dead[network.pairs.front]
        in_use = total_by(network.pairs.machine, using, len(network.machines.names)) > 0
        decision = scaler.decide(now, in_use, self.drains.leaving, world.living_zones)
        for machine in decision.drains.tolist():
            self.drains.leave(machine, now)
            longest_s = float(self.drains.drain_s[network.pairs.machine == machine].max(initial=0.0))
            scaler.leaves(machine, round(now + longest_s, DIGITS))
        return decision

    def _told(self, decision: Decision) -> Iterator[Entry]:
        for does, some in (("launches", decision.launches), ("drains", decision.drains)):
            if len(some):
                names = tuple(self.network.machines.names[int(one)] for one in some)
                facts = {"fleet": decision.fleet, "in_use": decision.in_use, "load": decision.load}
                yield Entry("scale", names, {**facts, "wanted": decision.wanted, "does": does})


def _number(name: str) -> int:
    return int(name.rpartition("-")[2])
