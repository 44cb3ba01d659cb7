"""Scaling: what an autoscaler decides, on what it can see, and what is done by hand.

Every `every_s` it wants ceil(n u / target) instances, n being those in use and u their mean served utilisation since
its last decision, within min and max. Those that start count towards what is wanted; lost ones are not replaced as
such, but count towards max. Where the fleet `replaces_lost`, those that were in use and are so no more are given up
first, and as many are launched. Launches go to living zones, the emptiest first; scaling in drains the newest, one a
decision. By hand a fleet gets as many as are wanted at once, the newest draining first.
"""

import math
from collections.abc import Collection, Iterator, Sequence

import numpy as np
from msgspec import Struct

from northgate.engine.base import DIGITS, NEVER, Bools, Floats, Ints, ints, total_by, where_true
from northgate.engine.network import Network
from northgate.engine.processes.process import Entry
from northgate.engine.processes.targets import Targets
from northgate.engine.processes.transitions import Drains
from northgate.engine.processes.world import World
from northgate.plan.models.machines import Fleet, Scale


class Decision(Struct, frozen=True):
    """What an autoscaler decides: which machines it launches, and which one it drains; seeing so many in use, at so
    much load on the mean, and wanting so many; or what is done by hand."""

    fleet: str
    in_use: int
    load: float
    wanted: int
    launches: Ints
    drains: Ints
    by_hand: bool = False


# What a fleet without an autoscaler goes by where it is scaled by hand.
BY_HAND = Scale(min=0, max=1, target_utilisation=1)


class Autoscaler:
    """The autoscaler of one fleet in one drill: its machines, and which of them are there.

    Per machine of the fleet: `since` when it was launched (-1: from the start, inf: not there), `starts` when it begins
    to serve. Without a `scale` it decides nothing, and launches what is wanted by hand.
    """

    def __init__(self, network: Network, fleet: Fleet) -> None:
        self.network, self.fleet, self.scale = network, fleet, fleet.scale or BY_HAND
        machines = network.machines
        own = {machines.names[one] for one in where_true(machines.spare)}
        names = {*fleet.instance_names(), *(one for one in own if one.rpartition("-")[0] == fleet.name)}
        self.machines = ints(at for at, name in enumerate(network.machines.names) if name in names)
        # In the order of their numbers: plan order has a fleet's own after the instances, and so after the spares.
        self.machines = self.machines[np.argsort([_number(network.machines.names[at]) for at in self.machines])]
        self.since = np.where(network.machines.spare[self.machines], NEVER, -1.0)
        self.gone_at = np.full(len(self.machines), NEVER)
        self.next_s = self.scale.every_s if fleet.scale else NEVER
        # Given up, or terminated: nobody is launched in their very place.
        self._ended = np.zeros(len(self.machines), dtype=bool)
        self._proven, self._restarted = self.since < 0, np.zeros(len(self.machines), dtype=bool)
        self._worked = np.zeros(len(self.machines))
        self._seen_s = 0.0

    def watch(self, utilisation: Floats, seconds: float) -> None:
        """Takes in what machines have served over a stretch."""
        self._worked += np.minimum(utilisation[self.machines], 1.0) * seconds
        self._seen_s += seconds

    def give_up(self, in_use: Bools, leaving: Bools) -> Ints:
        """Those that were in use and are lost, where such are replaced: they are gone, and not to come back."""
        mine = self.machines
        used = in_use[mine] & ~leaving[mine]
        lost: Ints = mine[(self.since < NEVER) & self._proven & ~used & ~leaving[mine]]
        self.end(lost)
        return lost

    def end(self, machines: Ints) -> None:
        """These are gone for good."""
        mine = np.isin(self.machines, machines)
        self._ended |= mine
        self.since[mine], self.gone_at[mine] = NEVER, NEVER

    def restarted(self, machine: int) -> None:
        """A machine is back from being restarted: it is not lost, but has to be proven again."""
        mine = self.machines == machine
        self._proven[mine], self._restarted[mine] = False, True

    def scale_to(self, now: float, count: int, leaving: Bools, living: Bools) -> Decision:
        """What is launched, or drained, for the fleet to have so many."""
        there = (self.since < NEVER) & ~leaving[self.machines]
        have = int(there.sum())
        drains = self._newest(there, have - count) if count < have else np.zeros(0, dtype=np.int64)
        launches = self._launch(now, count - have, living)
        return Decision(self.fleet.name, have, 0.0, count, launches, drains, by_hand=True)

    def decide(
        self, now: float, in_use: Bools, leaving: Bools, living: Bools, lost: int = 0, *, room: bool = True
    ) -> Decision:  # fmt: skip
        """The decision that is due now, given which machines are in use, which leave, which zones live, how many are to
        be replaced, and whether there is room for launches."""
        mine, scale = self.machines, self.scale
        there = self.since < NEVER
        used = there & in_use[mine] & ~leaving[mine]
        starting = there & ~used & ~leaving[mine] & self._not_proven(used)
        count = int(used.sum())
        load = float(self._worked[used].mean() / self._seen_s) if count and self._seen_s > 0 else 0.0
        wanted = min(max(math.ceil(count * load / scale.target_utilisation - 1e-9), scale.min), scale.max)
        wanted = min(max(wanted, count + lost), scale.max) if lost else wanted
        have = count + int(starting.sum())
        more = min(wanted - have, scale.max - int(there.sum()))
        launches = self._launch(now, more if room else 0, living)
        drains = self._newest(used, 1) if wanted < have and not len(launches) else np.zeros(0, dtype=np.int64)
        self.next_s = round(now + scale.every_s, 9)
        self._worked[:], self._seen_s = 0.0, 0.0
        return Decision(self.fleet.name, count, load, wanted, launches, drains)

    def _not_proven(self, used: Bools) -> Bools:
        """Those that have been launched, or restarted, and have not been in use since."""
        self._proven |= used
        return ~self._proven & ((self.since >= 0) | self._restarted)

    def _launch(self, now: float, count: int, living: Bools) -> Ints:
        zones = self.network.machines.zone[self.machines]
        launched = []
        for _ in range(max(count, 0)):
            there = self.since < NEVER
            taken = there | self._ended
            free = [zone for zone in self._zones if living[zone] and (~taken & (zones == zone)).any()]
            if not free:
                break
            held = total_by(zones, there, len(self.network.zones))
            zone = min(free, key=lambda one: held[one])
            place = int(where_true(~taken & (zones == zone))[0])
            self.since[place] = now
            self._proven[place] = False
            launched.append(int(self.machines[place]))
        return np.array(launched, dtype=np.int64)

    def _newest(self, some: Bools, count: int) -> Ints:
        """The newest of some; of equally new ones the last."""
        places = where_true(some)
        return self.machines[places[np.argsort(self.since[places], kind="stable")][::-1][:count]]

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

    def stands(self, now: float) -> Iterator[Bools | Floats | Ints]:
        """All that decisions to come depend on: who is there, in the order in which they came; seconds are from now."""
        yield from (
            self._ended,
            self._proven,
            self._restarted,
            np.unique(self.since, return_inverse=True)[1],
            self.since < 0,
        )
        yield from (np.maximum(self.since + self.scale.warmup_s - now, 0.0), self.gone_at - now)
        yield np.array([*self._worked, self._seen_s, self.next_s - now])

    def next_event_s(self, now: float) -> float:
        """The next decision, start of service or end of a drain."""
        ready = self.since[(self.since >= 0) & (self.since < NEVER)] + self.scale.warmup_s
        ready = np.round(ready[ready > now + 1e-9], 9)
        return min(self.next_s, float(ready.min(initial=NEVER)), float(self.gone_at.min(initial=NEVER)))


class Autoscaling:
    """The autoscalers of a network, in plan order: machines are launched, begin to serve, drain and go. `by_hand`: the
    fleets that are scaled by hand."""

    def __init__(self, world: World, targets: Targets, drains: Drains, by_hand: Collection[str] = ()) -> None:
        self.world, self.targets, self.drains, self.network = world, targets, drains, world.network
        fleets = self.network.plan.fleets
        self.scalers = [Autoscaler(self.network, fleet) for fleet in fleets if fleet.scale or fleet.name in by_hand]
        self._by_hand: list[tuple[str, int]] = []
        # Until when launches fail, and which zones lived at the last look.
        self._no_room_s: dict[str, float] = {}
        self._lived = world.living_zones

    def watch(self, utilisation: Floats, seconds: float) -> None:
        """Takes in what machines have served over a stretch."""
        for scaler in self.scalers:
            scaler.watch(utilisation, seconds)

    def stands(self, now: float) -> Iterator[Bools | Floats | Ints]:
        """All that decisions to come depend on."""
        for scaler in self.scalers:
            yield from scaler.stands(now)
        yield np.array([max(until_s - now, 0.0) for until_s in self._no_room_s.values()])

    def next_s(self, now: float) -> float:
        """The next decision, start of service or end of a drain."""
        return min((scaler.next_event_s(now) for scaler in self.scalers), default=NEVER)

    def take(self, now: float) -> Iterator[Entry]:
        """Drained machines go, launched ones begin to serve, and autoscalers decide."""
        if not self.scalers:
            return
        changed, launched = False, list[int]()
        exists = self.world.exists = self.world.exists.copy()
        self._look_for_room(now)
        for scaler in self.scalers:
            gone = scaler.take_gone(now)
            if len(gone):
                exists[gone] = False
                self.drains.forget(gone)
            due = [count for fleet, count in self._by_hand if fleet == scaler.fleet.name]
            given_up = self._give_up(scaler) if scaler.next_s <= now else gone[:0]
            exists[given_up] = False
            for decision in self._decisions(scaler, now, due[-1:], len(given_up)):
                exists[decision.launches] = True
                launched += decision.launches.tolist()
                yield from self._told(decision)
            changed |= len(gone) > 0 or len(given_up) > 0 or bool(launched)
        self._by_hand.clear()
        starting = np.array([int(one) for scaler in self.scalers for one in scaler.starting(now)], dtype=np.int64)
        if changed or starting.tolist() != self.world.starting.tolist():
            self.targets.start(np.array(launched, dtype=np.int64))
            self.world.populate(exists, starting)

    def scale(self, fleet: str, count: int) -> None:
        """A fleet is to have so many, by hand."""
        self._by_hand.append((fleet, count))

    def end(self, machine: int) -> None:
        """A machine is terminated: it does not count any more."""
        for scaler in self.scalers:
            scaler.end(np.array([machine]))

    def restarted(self, machine: int) -> None:
        """A machine is back from being restarted."""
        for scaler in self.scalers:
            scaler.restarted(machine)

    def _look_for_room(self, now: float) -> None:
        """Notes where zones have been lost since, for those whose launches then fail for a while."""
        living = self.world.living_zones
        if (self._lived & ~living).any():
            self._no_room_s = {one.fleet.name: now + one.scale.launch_fails_s for one in self.scalers}
        self._lived = living

    @property
    def _in_use(self) -> Bools:
        network = self.network
        using = self.targets.in_use & ~self.world.truth.front_dead[network.pairs.front]
        return total_by(network.pairs.machine, using, len(network.machines.names)) > 0

    def _give_up(self, scaler: Autoscaler) -> Ints:
        return scaler.give_up(self._in_use, self.drains.leaving) if scaler.scale.replaces_lost else scaler.machines[:0]

    def _decisions(self, scaler: Autoscaler, now: float, by_hand: Sequence[int], lost: int) -> Iterator[Decision]:
        """What is done by hand, and what the autoscaler then decides, if that is due."""
        leaving, living = self.drains.leaving, self.world.living_zones
        for count in by_hand:
            yield self._drained(scaler, scaler.scale_to(now, count, leaving, living), now)
        if scaler.next_s <= now:
            room = now >= self._no_room_s.get(scaler.fleet.name, 0.0) - 1e-9
            decision = scaler.decide(now, self._in_use, self.drains.leaving, living, lost, room=room)
            yield self._drained(scaler, decision, now)

    def _drained(self, scaler: Autoscaler, decision: Decision, now: float) -> Decision:
        network = self.network
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
                kind = "scaled" if decision.by_hand else "scale"
                yield Entry(kind, names, {**facts, "wanted": decision.wanted, "does": does})


def _number(name: str) -> int:
    return int(name.rpartition("-")[2])
