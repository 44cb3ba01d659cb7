"""Computed answers, kept by plan and revision: the engine is deterministic, so a kept answer cannot lie."""

from collections import OrderedDict
from collections.abc import Callable, Hashable
from concurrent.futures import Future
from threading import Lock
from typing import Any, TypeVar

from northgate.engine.drill import DrillRun, run_drill, undisturbed
from northgate.engine.flow import Flow
from northgate.engine.network import Network, compile_network
from northgate.engine.whatif import ZoneLoss, zone_losses
from northgate.plan import Plan
from northgate.plan.problems import did_you_mean
from northgate.store.repository import Head, Repository, StaleRevision, UnknownPlan

KEPT = 64

Answer = TypeVar("Answer")


class Computer:
    """Compiles plans and runs drills, once per revision."""

    def __init__(self, repository: Repository) -> None:
        self.repository = repository
        self._kept: OrderedDict[Hashable, Any] = OrderedDict()
        self._lock = Lock()

    def plan(self, key: str, revision: int | None = None) -> Plan:
        """A plan's document at a revision, read once."""
        number = self.number(key, revision)
        return self._once(("plan", key, number), lambda: self.repository.plan(key, number))

    def edit(self, key: str, made_of: int, change: Callable[[Plan], Plan]) -> Head:
        """Makes a revision of the current one; raises StaleRevision, and what `change` raises."""
        current = self.repository.head(key).revision
        if current != made_of:
            raise StaleRevision(current)
        made = change(self.plan(key, made_of))
        head = self.repository.edit(key, made_of, made)
        self._once(("plan", key, head.revision), lambda: made)
        return head

    def number(self, key: str, revision: int | None) -> int:
        """The revision that is asked for: by default the current one."""
        return self.repository.head(key).revision if revision is None else revision

    def network(self, key: str, revision: int | None) -> Network:
        """The compiled plan; raises CannotRun."""
        number = self.number(key, revision)
        return self._once(("network", key, number), lambda: compile_network(self.plan(key, number)))

    def run(self, key: str, revision: int | None, drill: str) -> DrillRun:
        """A drill, run; raises UnknownPlan when the plan has no such drill."""
        number = self.number(key, revision)
        drills = self.plan(key, number).drills
        found = next((one for one in drills if one.name == drill), None)
        if found is None:
            known = [one.name for one in drills]
            raise UnknownPlan(f"{key}: drill {drill}{did_you_mean(drill, known)}", [])
        network = self.network(key, number)
        return self._once(("drill", key, number, drill), lambda: run_drill(network, found))

    def settled(self, key: str, revision: int | None) -> Flow:
        """The flow now, with no fault."""
        number = self.number(key, revision)
        return self._once(("now", key, number), lambda: undisturbed(self.network(key, number)))

    def zone_losses(self, key: str, revision: int | None) -> list[ZoneLoss]:
        """What each zone's loss leaves."""
        number = self.number(key, revision)
        return self._once(("zone losses", key, number), lambda: zone_losses(self.network(key, number)))

    def _once(self, question: Hashable, answer: Callable[[], Answer]) -> Answer:
        """The kept answer, or the one being computed by another thread, or a new one; errors are not kept."""
        with self._lock:
            found: Future[Answer] | None = self._kept.get(question)
            mine = found is None
            if found is None:
                found = self._kept[question] = Future()
            self._kept.move_to_end(question)
            while len(self._kept) > KEPT:
                self._kept.popitem(last=False)
        if mine:
            try:
                found.set_result(answer())
            except BaseException as error:
                with self._lock:
                    self._kept.pop(question, None)
                found.set_exception(error)
        return found.result()
