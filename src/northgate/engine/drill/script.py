"""The steps of a drill: what they do to the world, in order."""

from collections.abc import Iterator, Sequence

from msgspec import Struct

from northgate.engine.base import NEVER, CannotRun, Reached, Watch
from northgate.engine.drill.by_hand import Records, Rolls
from northgate.engine.network import Network
from northgate.engine.processes import Autoscaling, Demand, Drains, Entry, World
from northgate.plan import Problem
from northgate.plan.models.drills import Drill, Step
from northgate.plan.models.faults import Part
from northgate.plan.problems import pointer

# So many events of a drill are computed unasked: some minutes.
MOST_EVENTS = 50_000
# Steps of these kinds change what is true.
CHANGES = ("fail", "restore", "remove", "expire", "roll")


def first_change_s(drill: Drill) -> float:
    """The second of the first step that changes truth; 0 when none does."""
    return min((step.at_s for step in drill.steps if step.kind in CHANGES), default=0.0)


def in_order(steps: Sequence[Step]) -> list[Step]:
    """Steps by time; those of one second as they are written."""
    return sorted(steps, key=lambda step: step.at_s)


def check_restores(network: Network, drill: Drill) -> None:
    """Raises CannotRun when a step restores what has not failed, or what has been terminated."""
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


def check_events(network: Network, drill: Drill) -> None:
    """Raises CannotRun, with what makes the most of them, where more is sure to happen than is computed unasked: steps,
    changes of clients' rates, and decisions of autoscalers."""
    plan = network.plan
    number = [other.name for other in plan.drills].index(drill.name) if drill in plan.drills else 0
    counts: list[tuple[int, tuple[str | int, ...], str]] = [(len(drill.steps), ("drills", number, "steps"), "steps")]
    counts += [
        (sum(at_s <= drill.lasts_s for at_s, _ in client.profile), ("clients", at, "profile"), "changes of its rate")
        for at, client in enumerate(plan.clients)
    ]
    counts += [
        (int(drill.lasts_s / fleet.scale.every_s), ("fleets", at, "scale", "every_s"), "decisions")
        for at, fleet in enumerate(plan.fleets) if fleet.scale
    ]  # fmt: skip
    whole = sum(count for count, _, _ in counts)
    if whole > MOST_EVENTS:
        most, where, words = max(counts, key=lambda one: one[0])
        told = f"the drill would have {whole:,} events or more, {most:,} of them {words} here"
        most_words = f"{MOST_EVENTS:,} are computed unless `northgate drill --anyway` asks for more"
        raise CannotRun([Problem(pointer(where), f"{told}; {most_words}")])


def counted(watch: Watch, lasts_s: float) -> tuple[Watch, Reached]:
    """What stops a run in which more happens than is computed unasked."""
    events, now = 0, 0.0

    def count() -> None:
        nonlocal events
        watch()
        events += 1
        if events > MOST_EVENTS:
            told = f"{MOST_EVENTS:,} events have come by second {now:g} of {lasts_s:g}"
            raise CannotRun([Problem("", f"{told}; more are computed where `northgate drill --anyway` asks for it")])

    def reached(second: float) -> None:
        nonlocal now
        now = second

    return count, reached


class Hands(Struct):
    """What steps act on."""

    world: World
    demand: Demand
    drains: Drains
    scaling: Autoscaling
    records: Records
    rolls: Rolls


class Script:
    """The steps that have not been taken yet."""

    def __init__(self, drill: Drill, hands: Hands) -> None:
        self._steps, self.hands = in_order(drill.steps), hands

    def next_s(self, now: float) -> float:  # noqa: ARG002
        """The second of the next step."""
        return self._steps[0].at_s if self._steps else NEVER

    def take(self, now: float) -> Iterator[Entry]:
        """Takes the steps that are due."""
        while self._steps and self._steps[0].at_s <= now:
            step = self._steps.pop(0)
            told = self._of_truth(step) or self._by_hand(step, now)
            if told:
                yield told

    def _of_truth(self, step: Step) -> Entry | None:
        world, network = self.hands.world, self.hands.world.network
        if step.fail:
            world.fail(step.fail)
            return Entry("fail", (step.fail.words,))
        if step.restore:
            world.restore(step.restore)
            return Entry("restore", (step.restore.words,))
        if step.remove:
            machine = network.machines.index(step.remove.instance)
            world.fail(Part(instance=step.remove.instance))
            self.hands.scaling.end(machine)
            self.hands.rolls.end(machine)
            return Entry("remove", (step.remove.instance,))
        if step.expire:
            world.expire(step.expire.certificate)
            return Entry("expire", (step.expire.certificate,))
        return None

    def _by_hand(self, step: Step, now: float) -> Entry | None:
        hands = self.hands
        if step.surge:
            hands.demand.surge(step.surge.clients, step.surge.factor)
            return Entry("surge", (step.surge.clients,), {"factor": step.surge.factor})
        if step.scale:
            # What follows is told when it is launched, or drains.
            hands.scaling.scale(step.scale.fleet, step.scale.count)
            return None
        if step.change_answers or step.withdraw:
            return hands.records.change(step)
        if step.roll:
            hands.rolls.begin(step.roll)
            return None
        name = (step.drain or step.undrain).instance  # type: ignore[union-attr]
        machine = hands.world.network.machines.index(name)
        if step.drain:
            hands.drains.leave(machine, now)
        else:
            hands.drains.come_back(machine)
        return Entry(step.kind, (name,))
