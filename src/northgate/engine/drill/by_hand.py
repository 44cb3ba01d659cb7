"""What is done by hand in a drill: records of names that are changed, and groups whose instances are restarted."""

from collections.abc import Iterator, Sequence

import numpy as np
from msgspec import Struct, field

from northgate.engine.base import DIGITS, NEVER, Bools, CannotRun
from northgate.engine.network import Network, roomy
from northgate.engine.processes import Autoscaling, Drains, Entry, Names, Targets, World
from northgate.plan import Problem
from northgate.plan.models.drills import Drill, Roll, Step
from northgate.plan.models.faults import Part
from northgate.plan.models.traffic import Answer
from northgate.plan.problems import pointer


def with_room(network: Network, drill: Drill) -> Network:
    """The network with places for all that may come into a drill: instances, and answers of names."""
    most: dict[str, int] = {}
    answers: dict[str, list[Answer]] = {}
    for step in drill.steps:
        if step.scale:
            most[step.scale.fleet] = max(most.get(step.scale.fleet, 0), step.scale.count)
        if step.change_answers:
            answers.setdefault(step.change_answers.name, []).extend(step.change_answers.answers)
    return roomy(network, most, answers, frozenset(_emptied(drill)))


def scaled_in(drill: Drill) -> set[str]:
    """The fleets that are scaled by hand in a drill."""
    return {step.scale.fleet for step in drill.steps if step.scale}


def _emptied(drill: Drill) -> Iterator[str]:
    """The names that may have no answer left after some step of a drill, in whatever order its steps are written."""
    for step in drill.steps:
        if step.withdraw:
            yield step.withdraw.name
        elif step.change_answers and not step.change_answers.answers:
            yield step.change_answers.name


def _brought(network: Network, drill: Drill) -> tuple[dict[int, list[int]], dict[str, list[int]]]:
    """The places of the answers that each step brings (by its number), after those of the plan; and these, by name."""
    brings: dict[int, list[int]] = {}
    ends = {entry.name: len(entry.answers) for entry in network.plan.names}
    for number, step in reversed(list(enumerate(drill.steps))):
        if step.change_answers:
            name, many = step.change_answers.name, len(step.change_answers.answers)
            brings[number] = list(range(ends[name] - many, ends[name]))
            ends[name] -= many
    return brings, {name: list(range(end)) for name, end in ends.items()}


def first_given(network: Network, drill: Drill) -> list[Bools]:
    """Per name of a network with room for a drill, and answer: whether it is in the record when the drill begins."""
    given = _brought(network, drill)[1]
    return [np.isin(np.arange(len(entry.answers)), given[entry.name]) for entry in network.plan.names]


class Records:
    """The records of names: of all answers that they have in a drill, those that they give now."""

    def __init__(self, names: Names, drill: Drill) -> None:
        self.names, self._steps = names, drill.steps
        self._at = {entry.name: index for index, entry in enumerate(names.network.plan.names)}
        self._brings, self._given = _brought(names.network, drill)

    def change(self, step: Step) -> Entry:
        """A name gives other answers from now on, or one less; raises CannotRun when it does not give that one."""
        if step.change_answers:
            name = step.change_answers.name
            self._given[name] = self._brings[next(at for at, one in enumerate(self._steps) if one is step)]
        else:
            assert step.withdraw is not None
            name, place = step.withdraw.name, step.withdraw.answer
            given = self._given[name]
            if place >= len(given):
                problem = f"{name} gives {len(given)} answers by then, counted from 0: there is no answer {place}"
                raise CannotRun([Problem(pointer(("names", self._at[name], "answers")), problem)])
            self._given[name] = given[:place] + given[place + 1 :]
        self.names.give(self._at[name], self._given[name])
        return Entry("change_answers", (name,), {"answers": self._words(name)})

    def _words(self, name: str) -> str:
        answers = self.names.network.plan.names[self._at[name]].answers
        given = [answers[one] for one in self._given[name]]
        return ", ".join(one.balancer or one.instance or one.address or one.host or "" for one in given) or "nothing"


# A way from a front to a target: balancer, zone, group and machine.
Way = tuple[str, str, str, str]


def ways_of(network: Network) -> list[Way]:
    """The way that each pair of a network is."""
    pairs, groups = network.pairs, network.plan.target_groups
    fronts = [(network.balancer_of(one), network.front_name(one)) for one in range(len(network.fronts.zone))]
    return [
        (*fronts[front], groups[group].name, network.machines.names[machine])
        for front, group, machine in zip(
            pairs.front.tolist(), pairs.group.tolist(), pairs.machine.tolist(), strict=True
        )
    ]


def new_fronts(network: Network, ways: frozenset[Way]) -> Bools:
    """Per front whether it is new to a balancer that has others: only such ways lead on from it."""
    fronts, count = network.pairs.front, len(network.fronts.zone)
    if not ways:
        return np.zeros(count, dtype=bool)
    known = np.array([way not in ways for way in ways_of(network)], dtype=bool)
    old, every = (np.bincount(fronts[some], minlength=count) > 0 for some in (known, slice(None)))
    has_old = np.bincount(network.fronts.balancer[old], minlength=len(network.plan.balancers)) > 0
    return np.asarray(every & ~old & has_old[network.fronts.balancer])


class Newcomers:
    """Ways that there are from a drill's first step on: their targets are registered then, and have to be proven."""

    def __init__(self, targets: Targets, ways: frozenset[Way], drill: Drill) -> None:
        self.targets, self.at_s = targets, min((step.at_s for step in drill.steps), default=0.0)
        self._pairs = np.array([way in ways for way in ways_of(targets.network)], dtype=bool) if ways else None
        if self._pairs is not None:
            targets.world.registered = ~self._pairs

    def next_s(self, now: float) -> float:  # noqa: ARG002
        """When they are registered."""
        return NEVER if self._pairs is None else self.at_s

    def take(self, now: float) -> Iterator[Entry]:
        """Registers them when it is time."""
        if self._pairs is not None and now >= self.at_s:
            names = dict.fromkeys(
                way[3] for way, new in zip(ways_of(self.targets.network), self._pairs, strict=True) if new
            )
            self.targets.register(self._pairs)
            self._pairs = None
            yield Entry("registered", tuple(names))


class Batch(Struct):
    """Machines that are restarted together: until when they leave, and until when they are away (s)."""

    machines: Sequence[int]
    left_s: float
    away_s: float
    stage: str = "leaving"


class Rolling(Struct):
    """A group that is being restarted: those who have not been yet, and the batch that is on its way."""

    roll: Roll
    to_come: list[int] = field(default_factory=list)
    batch: Batch | None = None


class Rolls:
    """The groups that are being restarted, batch by batch."""

    def __init__(self, world: World, drains: Drains, targets: Targets, scaling: Autoscaling) -> None:
        self.world, self.drains, self.targets, self.scaling = world, drains, targets, scaling
        self.network = world.network
        self._rolling: list[Rolling] = []
        self._ended = np.zeros(len(self.network.machines.names), dtype=bool)

    def end(self, machine: int) -> None:
        """A machine is terminated: it is not restarted."""
        self._ended[machine] = True

    @property
    def _there(self) -> Bools:
        """Per machine whether it can be restarted."""
        return self.network.machines.real & self.world.exists & ~self._ended

    def begin(self, roll: Roll) -> None:
        """All instances of a group are to be restarted from now on."""
        members, plan = self.network.members, self.network.plan
        group = [one.name for one in plan.target_groups].index(roll.group)
        mine = dict.fromkeys(members.machine[members.group == group].tolist())
        # Who has been launched comes after those that were there at first, however the group names them.
        here = sorted((one for one in mine if self._there[one]), key=lambda one: bool(self.network.machines.spare[one]))
        self._rolling.append(Rolling(roll, here))

    def next_s(self, now: float) -> float:  # noqa: ARG002
        """When the next batch has left, or is back."""
        due = {"leaving": "left_s", "away": "away_s"}
        batches = [one.batch for one in self._rolling if one.batch and one.batch.stage in due]
        return min((getattr(batch, due[batch.stage]) for batch in batches), default=NEVER)

    def take(self, now: float) -> Iterator[Entry]:
        """Lets batches go away, come back, and the next ones follow."""
        for one in list(self._rolling):
            while self._moves(one, now):
                yield from self._go_on(one, now)
            if one.batch is None and not one.to_come:
                self._rolling.remove(one)
                yield Entry("rolled", (one.roll.group,))

    def _moves(self, one: Rolling, now: float) -> bool:
        batch = one.batch
        if batch is None:
            return bool(one.to_come)
        if batch.stage == "leaving":
            return batch.left_s <= now
        return batch.away_s <= now if batch.stage == "away" else self._in_use(one)

    def _in_use(self, one: Rolling) -> bool:
        """Whether every living front has a batch in use again."""
        assert one.batch is not None
        network = self.network
        group = [each.name for each in network.plan.target_groups].index(one.roll.group)
        pairs = np.isin(network.pairs.machine, one.batch.machines) & (network.pairs.group == group)
        # Who is taken away meanwhile is not waited for.
        pairs &= ~self.world.truth.front_dead[network.pairs.front] & self._there[network.pairs.machine]
        pairs &= ~self.drains.leaving[network.pairs.machine]
        return one.roll.wait_for == "restarted" or bool(self.targets.in_use[pairs].all())

    def _go_on(self, one: Rolling, now: float) -> Iterator[Entry]:
        batch, network = one.batch, self.network
        if batch is None:
            # Who leaves, or has gone, needs no restart.
            here = [each for each in one.to_come if self._there[each] and not self.drains.leaving[each]]
            mine, one.to_come = here[: one.roll.batch], here[one.roll.batch :]
            if not mine:
                return
            for machine in mine:
                self.drains.leave(machine, now)
            drains_s = float(self.drains.drain_s[np.isin(network.pairs.machine, mine)].max(initial=0.0))
            left_s = round(now + drains_s, DIGITS)
            one.batch = Batch(mine, left_s, round(left_s + one.roll.restart_s, DIGITS))
            yield Entry("roll", tuple(network.machines.names[machine] for machine in mine), {"group": one.roll.group})
        elif batch.stage == "leaving":
            batch.stage = "away"
            for machine in batch.machines:
                self.world.fail(Part(instance=network.machines.names[machine]))
        elif batch.stage == "away":
            batch.stage = "back"
            for machine in batch.machines:
                self.world.restore(Part(instance=network.machines.names[machine]))
                self.drains.come_back(machine)
                self.scaling.restarted(machine)
        else:
            one.batch = None
