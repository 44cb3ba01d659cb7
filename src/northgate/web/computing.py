"""Computed answers, kept by what they were computed from: the engine is deterministic, so a kept answer cannot lie."""

import hashlib
from collections.abc import Callable, Hashable, Sequence
from contextlib import suppress
from threading import Lock, Timer
from typing import get_args

from northgate.engine.base import CannotRun
from northgate.engine.drill import DrillRun, undisturbed
from northgate.engine.network import Network, check_runnable, compile_network
from northgate.engine.processes import Phases
from northgate.engine.reports import Change, LeverAnswer, ZoneLoss
from northgate.engine.solver import Flow
from northgate.engine.trace import Question
from northgate.plan import Plan
from northgate.plan.models.drills import Drill
from northgate.plan.models.faults import Part
from northgate.plan.problems import did_you_mean
from northgate.store.head import Head
from northgate.store.repository import Repository, StaleRevision, UnknownPlan
from northgate.web import tasks
from northgate.web.tasks import ProbeAsked
from northgate.web.waiting.answers import Answers
from northgate.web.waiting.leaving import Abandoned
from northgate.work import Busy, sent

# A plan of so many machines is compiled and solved by another process; with fewer that takes less than 0.3 s, and to
# send what it makes would take half of that.
MANY = 5_000


# Who sees a board looks at it for so long before he asks what if (s): until then the processor is left to others.
FORESEE_AFTER_S = 0.3


def content_of(plan: Plan) -> bytes:
    """A digest of all of a plan that answers come from but its drills: an edit of these, of notes and of reasons
    computes nothing else, nor does a copy, whatever it is called. Of a plan that cannot be run there are no answers,
    whatever is kept of others: raises CannotRun."""
    check_runnable(plan)
    text = plan.model_dump_json(by_alias=True, exclude={"name", "title", "drills", "notes", "accepted"})
    return hashlib.sha256(text.encode()).digest()


def whole_of(plan: Plan) -> bytes:
    """A digest of all of a plan."""
    return hashlib.sha256(plan.model_dump_json(by_alias=True).encode()).digest()


class Computer(Answers):
    """Compiles plans and runs drills, once per revision."""

    def __init__(self, repository: Repository) -> None:
        super().__init__()
        self.repository = repository
        # The second to which each drill that is being run has come.
        self._reached: dict[Hashable, float] = {}
        self._reading = Lock()
        # The revision that was last looked at.
        self._looked_at: tuple[str, int] | None = None

    def plan(self, key: str, revision: int | None = None) -> Plan:
        """A plan's document at a revision, read once."""
        number = self.number(key, revision)
        return self.once(("plan", key, number), lambda: self.repository.plan(key, number))

    def edit(self, key: str, made_of: int, change: Callable[[Plan], Plan], source: str | None = None) -> Head:
        """Makes a revision of the current one, or of a text; raises StaleRevision, and what `change` raises."""
        current = self.repository.head(key).revision
        if current != made_of:
            raise StaleRevision(current)
        made = change(self.plan(key, made_of))
        head = self.repository.edit(key, made_of, made, source)
        self.once(("plan", key, head.revision), lambda: made)
        return head

    def number(self, key: str, revision: int | None) -> int:
        """The revision that is asked for: by default the current one."""
        return self.repository.head(key).revision if revision is None else revision

    def network(self, key: str, revision: int | None) -> Network:
        """The compiled plan; raises CannotRun."""
        number = self.number(key, revision)
        return self._network(self.plan(key, number), self.content(key, number))

    def _network(self, plan: Plan, content: bytes) -> Network:
        """The compiled plan, which can be run: it has a `content`."""
        question = ("network", content)
        if len(plan.machines) < MANY:
            return self.once(question, lambda: compile_network(plan, checked=True))
        return self.alone(question, tasks.compiled, plan, short=True)

    def content(self, key: str, number: int) -> bytes:
        """The digest of a revision, see `content_of`; raises CannotRun."""
        return self.once(("content", key, number), lambda: content_of(self.plan(key, number)))

    def whole(self, key: str, number: int) -> bytes:
        """The digest of all of a revision."""
        return self.once(("whole", key, number), lambda: whole_of(self.plan(key, number)))

    def run(self, key: str, revision: int | None, drill: str, phases: Phases | None = None) -> DrillRun:
        """A drill, run, at will with its probes elsewhere in their cycles; raises UnknownPlan where there is none."""
        # One after the other: many at once would keep everyone else from the interpreter, and be no sooner done.
        with self._reading:
            number = self.number(key, revision)
            found, plan = self._drill(key, number, drill), self.plan(key, number)
            wanted = found if phases in (None, found.phases) else found.model_copy(update={"phases": phases})
            question = self._drill_question(key, number, wanted)

        def told(reached_s: float) -> None:
            self._reached[question] = reached_s

        try:
            return self.alone(question, tasks.drill, plan, wanted, told=told, shared=lambda: self.network(key, number))
        finally:
            self._reached.pop(question, None)

    def _drill(self, key: str, number: int, drill: str) -> Drill:
        drills = self.plan(key, number).drills
        found = next((one for one in drills if one.name == drill), None)
        if found is None:
            known = [one.name for one in drills]
            raise UnknownPlan(f"{key}: drill {drill}{did_you_mean(drill, known)}", [])
        return found

    def _drill_question(self, key: str, number: int, drill: Drill) -> Hashable:
        return ("drill", self.content(key, number), drill.model_dump_json(by_alias=True))

    def drill_progress(self, key: str, revision: int | None, drill: str) -> tuple[float | None, int | None]:
        """The second to which a drill has been run (None while nobody runs it), and how many questions are computed
        before it (None where it does not wait)."""
        number = self.number(key, revision)
        found = self._drill(key, number, drill)
        asked = (found.model_copy(update={"phases": phases}) for phases in get_args(Phases))
        running = (self._reached.get(self._drill_question(key, number, one)) for one in asked)
        reached = next((at for at in running if at is not None), None)
        return reached, self.slots.before(self._drill_question(key, number, found))

    def levers(self, key: str, revision: int | None, drill: str) -> list[LeverAnswer]:
        """What would have helped a drill most; raises UnknownPlan when the plan has no such drill."""
        number = self.number(key, revision)
        self.run(key, number, drill)
        question = ("levers", self._drill_question(key, number, self._drill(key, number, drill)))
        return self.alone(question, tasks.levers_of, self.plan(key, number), drill)

    def settled(self, key: str, revision: int | None) -> Flow:
        """The flow now, with no fault; raises CannotRun."""
        number = self.number(key, revision)
        flow = self._settled(self.plan(key, number), self.content(key, number))
        if self.warmed.is_set() and self._looked_at != (key, number):
            self._looked_at = key, number
            self._foresee_soon(key, number)
        return flow

    def _foresee_soon(self, key: str, number: int) -> None:
        later = Timer(FORESEE_AFTER_S, self._foresee, (key, number))
        later.daemon = True
        later.start()

    def _foresee(self, key: str, number: int) -> None:
        """Who looks at a plan will ask what if: the process that answers has the plan ready by then. Who goes on
        editing will ask it of another."""
        with suppress(Abandoned, Busy, CannotRun, UnknownPlan):
            if self.repository.head(key).revision == number:
                question, plan = ("foreseen", self.content(key, number)), self.plan(key, number)
                self.once(question, lambda: self.quickly(tasks.foresee, plan))

    def settled_of(self, plan: Plan) -> Flow:
        """The flow of a plan that is no revision, or not yet; raises CannotRun."""
        return self._settled(plan, content_of(plan))

    def _settled(self, plan: Plan, content: bytes) -> Flow:
        question = ("now", content)
        if len(plan.machines) < MANY:
            return self.once(question, lambda: undisturbed(self._network(plan, content)))
        return self.alone(question, tasks.settled, plan, shared=lambda: self._network(plan, content), short=True)

    def traced(
        self, key: str, revision: int | None, drill: str | None, second: float, asked: Question | ProbeAsked
    ) -> str:
        """What a request, or a probe, meets now, or at a second of a drill: a TraceAnswer as JSON."""
        if not drill:
            return self.quickly(tasks.traced, self.plan(key, revision), asked, None, 0.0)
        run = self.run(key, revision, drill)
        # What the other process has itself is not sent.
        moment = sent((run.flow_at(second), run.story), run.network)
        return self.quickly(tasks.traced, run.network.plan, asked, moment, second)

    def zone_losses(self, key: str, revision: int | None) -> list[ZoneLoss]:
        """What each zone's loss leaves."""
        number = self.number(key, revision)
        question = ("zone losses", self.content(key, number))
        return self.alone(question, tasks.losses_of_zones, self.plan(key, number))

    def what_if(
        self, key: str, revision: int | None, parts: Sequence[Part], groups: Sequence[str] | None, change: Change
    ) -> str:
        """The board at the three moments of a loss or an addition: a WhatIfAnswer as JSON; not kept, for each is asked
        once."""
        return self.quickly(tasks.lost, self.plan(key, revision), parts, groups, change)
