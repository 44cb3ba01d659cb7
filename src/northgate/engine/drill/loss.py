"""A loss: parts that fail and never return, followed until all has settled, or for an hour."""

from collections.abc import Sequence

import numpy as np
from msgspec import Struct

from northgate.engine.base import CannotRun, Watch, go_on, untold
from northgate.engine.drill.cycles import Round, Rounds
from northgate.engine.drill.result import DrillRun
from northgate.engine.drill.run import Run
from northgate.engine.network import Network, roomy
from northgate.plan import Plan
from northgate.plan.models.drills import Drill, Step
from northgate.plan.models.faults import Part
from northgate.plan.references import dangling, names_of, references

# Parts fail at this second, and are followed for so long (s).
LOST_AT_S, AT_MOST_S = 60.0, 3600.0
# What a loss that does not settle comes to is told by the mean over so long at its end (s), or over a round.
LATE_S = 600.0
# Of what is followed so many flows are kept.
KEPT = 16


class Loss(Struct, frozen=True):
    """What a loss has come to. `run` ends early where everything that follows is more of the same (`again`)."""

    run: DrillRun
    again: Round | None = None

    @property
    def ends_s(self) -> float:
        """Until when it was followed."""
        return self.run.ends_s

    def failed_by(self, seconds: float) -> float:
        """The requests that have failed so long after the loss (s); beyond an hour, as in its last stretch."""
        until = LOST_AT_S + seconds
        failed_by = self.run.failed_by
        if until <= self.ends_s:
            return failed_by(until)
        if self.again is None:
            return failed_by(self.ends_s) + (until - self.ends_s) * self.unserved_rps
        rounds, rest_s = divmod(until - self.ends_s, self.again.lasts_s)
        start_s = self.ends_s - self.again.lasts_s
        return failed_by(self.ends_s) + rounds * self.again.failed + failed_by(start_s + rest_s) - failed_by(start_s)

    @property
    def settled(self) -> bool:
        """Whether everything has come to rest within the hour."""
        return self.again is None and self.run.readings.settled

    @property
    def unserved_rps(self) -> float:
        """What fails at the end (requests/s): once all has settled, or else on the mean of the last stretch."""
        if self.settled:
            return float(self.run.last.cause_rps.sum())
        if self.again is not None:
            return self.again.failed / self.again.lasts_s
        return (self.run.failed_by(self.ends_s) - self.run.failed_by(self.ends_s - LATE_S)) / LATE_S

    @property
    def unserved_share(self) -> float:
        """The share of all that is asked that fails at the end."""
        asked = float(self.run.keyframes[-1].state.call_rps.sum())
        return self.unserved_rps / asked if asked > 0 else 0.0

    @property
    def busiest(self) -> tuple[str, float]:
        """The busiest target at the end, and its utilisation; where nothing settles, at its busiest."""
        used = self.run.last.queue.utilisation
        if not self.settled:
            last_s = self.ends_s - (self.again.lasts_s if self.again else LATE_S)
            frames = [frame for frame in self.run.keyframes if frame.t_s >= last_s]
            ends = [(frame.ends or frame).utilisation for frame in frames]
            used = np.max([used, *(frame.utilisation for frame in frames), *ends], axis=0, initial=0.0)
        if not len(used):
            return "", 0.0
        machine = int(used.argmax())
        return self.run.network.machines.names[machine], float(used[machine])


class Losing:
    """Loses parts of one plan again and again: what comes before a loss is the same for all, and computed once."""

    def __init__(self, network: Network) -> None:
        # The plan as it is, and with places for all that its autoscalers may launch.
        self.plain, self.network = network, roomy(network)
        drill = Drill(name="loss", lasts_s=LOST_AT_S + AT_MOST_S, phases="worst")
        self._before = Run(self.network, drill, change_s=LOST_AT_S)
        self._names = names_of(network.plan)

    def lose(self, parts: Sequence[Part], watch: Watch = go_on, *, to_cascade: bool = False) -> Loss:
        """Fails parts together at 60 s, with probes where they notice it last, and follows that; `to_cascade`: no
        further than until a target that they do not touch goes out through overload.

        Raises CannotRun when a part is not in the plan.
        """
        steps = [Step(at_s=LOST_AT_S, fail=part) for part in parts]
        drill = self._before.drill.model_copy(update={"steps": steps})
        self._check(drill)
        rounds, run = Rounds(), self._before.with_steps(steps)
        made = run.run(watch, untold, lambda run: rounds.found(run) or (to_cascade and run.journal.cascade is not None))
        return Loss(made, rounds.again)

    def follow(self, parts: Sequence[Part], watch: Watch = go_on) -> DrillRun:
        """Fails parts as `lose` does and follows that for an hour in any case, with the flows of its first moments;
        raises CannotRun when a part is not in the plan."""
        steps = [Step(at_s=LOST_AT_S, fail=part) for part in parts]
        self._check(self._before.drill.model_copy(update={"steps": steps}))
        run = self._before.with_steps(steps)
        run.keeps = KEPT
        return run.run(watch, untold)

    def _check(self, drill: Drill) -> None:
        """Raises CannotRun when a drill fails what is not in the plan."""
        # Whether it may be is cheap to see; what is wrong is told by the whole plan.
        alone = Plan.model_construct(northgate=1, name="loss", drills=[drill])
        if any(one.name not in self._names[one.kind] for one in references(alone)):
            raise CannotRun(dangling(self.network.plan.model_copy(update={"drills": [drill]})))


def run_loss(network: Network, parts: Sequence[Part], watch: Watch = go_on) -> Loss:
    """A single loss, see `Losing`."""
    return Losing(network).lose(parts, watch)
