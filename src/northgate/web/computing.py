"""Computed answers, kept by what they were computed from: the engine is deterministic, so a kept answer cannot lie."""

import hashlib
from collections.abc import Callable, Hashable, Sequence
from concurrent.futures import Future
from threading import Event, Lock
from typing import TypeVar, get_args

from northgate import work
from northgate.engine.base import CannotRun
from northgate.engine.drill import DrillRun, Losing, run_drill, undisturbed
from northgate.engine.network import Network, check_runnable, compile_network
from northgate.engine.processes import Phases
from northgate.engine.reports import Change, LeverAnswer, WhatIfAnswer, ZoneLoss, levers, what_if, zone_losses
from northgate.engine.solver import Flow
from northgate.engine.trace import History
from northgate.plan import Plan, Problem
from northgate.plan.models.drills import Drill
from northgate.plan.models.faults import Part
from northgate.plan.problems import did_you_mean
from northgate.store.repository import Head, Repository, StaleRevision, UnknownPlan
from northgate.web.waiting.keeping import Kept, weight_of
from northgate.web.waiting.leaving import Abandoned, gone
from northgate.web.waiting.slots import Deadline, Slots

# So much of computed answers is kept, and apart from them of plans as they were read (bytes).
KEPT_BYTES, PLANS_BYTES = 400_000_000, 100_000_000
OF_PLANS = ("plan", "content")
# What takes its time: a few of these are computed at once, each for so long at most (s).
LONG = ("drill", "levers", "losses", "sizing", "zone losses", "compare", "change", "usual", "sweep", "export")
MOST_S = 900.0

Answer = TypeVar("Answer")


def content_of(plan: Plan) -> bytes:
    """A digest of all of a plan that answers come from but its drills: an edit of these, of notes and of reasons
    computes nothing else. Of a plan that cannot be run there are no answers, whatever is kept of others: raises
    CannotRun."""
    check_runnable(plan)
    text = plan.model_dump_json(by_alias=True, exclude={"drills", "notes", "accepted"})
    return hashlib.sha256(text.encode()).digest()


class Computer:
    """Compiles plans and runs drills, once per revision."""

    def __init__(self, repository: Repository) -> None:
        self.repository = repository
        self._waiting: dict[Hashable, list[Event]] = {}
        self._kept, self._plans = Kept(KEPT_BYTES), Kept(PLANS_BYTES)
        # The second to which each drill that is being run has come, and how much of other work is done, by question.
        self._reached: dict[Hashable, float] = {}
        self.done: dict[Hashable, tuple[int, int]] = {}
        self._lock, self._closing, self.slots = Lock(), Event(), Slots()
        self._deadlines: dict[Hashable, Deadline] = {}

    def close(self) -> None:
        """All that is computed, or waits for its turn, is given up: nobody is there any more who would be answered."""
        self._closing.set()
        work.stop()

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
        return self.once(("network", content), lambda: compile_network(plan))

    def content(self, key: str, number: int) -> bytes:
        """The digest of a revision, see `content_of`; raises CannotRun."""
        return self.once(("content", key, number), lambda: content_of(self.plan(key, number)))

    def run(self, key: str, revision: int | None, drill: str, phases: Phases | None = None) -> DrillRun:
        """A drill, run, at will with its probes elsewhere in their cycles; raises UnknownPlan where there is none."""
        number = self.number(key, revision)
        found = self._drill(key, number, drill)
        network = self.network(key, number)
        wanted = found if phases in (None, found.phases) else found.model_copy(update={"phases": phases})
        question = self._drill_question(key, number, wanted)

        def work() -> DrillRun:
            try:
                return run_drill(network, wanted, self.watch(question), lambda at: self._reached.update({question: at}))
            finally:
                self._reached.pop(question, None)

        return self.once(question, work)

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
        return self.once(question, lambda: levers(self.plan(key, number), drill, self.watch(question)))

    def settled(self, key: str, revision: int | None) -> Flow:
        """The flow now, with no fault; raises CannotRun."""
        number = self.number(key, revision)
        return self._settled(self.plan(key, number), self.content(key, number))

    def settled_of(self, plan: Plan) -> Flow:
        """The flow of a plan that is no revision, or not yet; raises CannotRun."""
        return self._settled(plan, content_of(plan))

    def _settled(self, plan: Plan, content: bytes) -> Flow:
        return self.once(("now", content), lambda: undisturbed(self._network(plan, content)))

    def moment(self, key: str, revision: int | None, drill: str | None, second: float) -> tuple[Flow, History]:
        """The flow now, or at a second of a drill, with what has happened until then."""
        if drill is None:
            flow = self.settled(key, revision)
            return flow, History(flow)
        run = self.run(key, revision, drill)
        flow = run.flow_at(second)
        return flow, History(flow, run, second)

    def zone_losses(self, key: str, revision: int | None) -> list[ZoneLoss]:
        """What each zone's loss leaves."""
        number = self.number(key, revision)
        question = ("zone losses", self.content(key, number))
        return self.once(question, lambda: zone_losses(self.losing(key, number), self.watch(question)))

    def what_if(
        self, key: str, revision: int | None, parts: Sequence[Part], groups: Sequence[str] | None, change: Change
    ) -> WhatIfAnswer:
        """The board at the three moments of a loss or an addition; not kept, for each is asked once."""
        losing, left = self.losing(key, revision), gone()
        return what_if(losing, parts, groups, lambda: _stop_if(left.is_set()), change)

    def losing(self, key: str, revision: int | None) -> Losing:
        """What loses parts of a plan; raises CannotRun."""
        number = self.number(key, revision)
        return self.once(("losing", self.content(key, number)), lambda: Losing(self.network(key, number)))

    def watch(self, question: Hashable) -> Callable[[], None]:
        """What long work calls at every step: it stops once all who asked have left."""

        def watch() -> None:
            with self._lock:
                waiting = self._waiting.get(question, [])
                deadline = self._deadlines.get(question)
                _stop_if(self._closing.is_set() or (bool(waiting) and all(one.is_set() for one in waiting)))
            if deadline and deadline.passed():
                told = f"it was given up after {deadline.seconds:g} s; ask for less, or on the command line"
                raise CannotRun([Problem("", told)])

        return watch

    def once(self, question: Hashable, answer: Callable[[], Answer]) -> Answer:
        """The kept answer, or the one being computed by another thread, or a new one; errors are not kept."""
        left = gone()
        while True:
            try:
                return self._found(question, answer, left)
            except Abandoned:
                if left.is_set() or self._closing.is_set():
                    raise

    def _found(self, question: Hashable, answer: Callable[[], Answer], left: Event) -> Answer:
        kept = self._plans if _is_of(question, OF_PLANS) else self._kept
        with self._lock:
            found: Future[Answer] | None = kept.get(question)
            if found is not None and found.done():
                return found.result()
            mine = found is None
            if found is None:
                found = kept.begin(question)
            waiting = self._waiting.setdefault(question, [])
            waiting.append(left)
        try:
            if mine:
                self._answer(kept, question, found, answer)
            return found.result()
        finally:
            with self._lock:
                waiting.remove(left)
                if not waiting and self._waiting.get(question) is waiting:
                    del self._waiting[question]

    def _answer(self, kept: Kept, question: Hashable, found: Future[Answer], answer: Callable[[], Answer]) -> None:
        try:
            made = self._computed(question, answer)
        except BaseException as error:
            with self._lock:
                kept.drop(question)
            found.set_exception(_told(error))
        else:
            weight = weight_of(made)
            with self._lock:
                kept.weigh(question, weight)
            found.set_result(made)

    def _computed(self, question: Hashable, answer: Callable[[], Answer]) -> Answer:
        """An answer; one that takes its time when it is its turn."""
        if not _is_of(question, LONG):
            return answer()
        with self.slots.taken(question, self.watch(question)):
            self._deadlines[question] = Deadline(MOST_S)
            try:
                return answer()
            finally:
                del self._deadlines[question]


def _told(error: BaseException) -> BaseException:
    """An error as who asked is told of it."""
    if not isinstance(error, MemoryError):
        return error
    return CannotRun([Problem("", "it takes more memory than there is; ask for less, or on a larger machine")])


def _is_of(question: Hashable, kinds: Sequence[str]) -> bool:
    return isinstance(question, tuple) and question[0] in kinds


def _stop_if(wanted: bool) -> None:
    if wanted:
        raise Abandoned
