"""Computed answers, kept by plan and revision: the engine is deterministic, so a kept answer cannot lie."""

from collections import OrderedDict
from collections.abc import Callable, Hashable
from threading import Lock
from typing import Any, TypeVar

from northgate.engine.drill import DrillRun, run_drill
from northgate.engine.flow import Flow
from northgate.engine.network import Network, compile_network
from northgate.engine.whatif import undisturbed
from northgate.plan.problems import did_you_mean
from northgate.store.repository import Repository, StoredPlan, UnknownPlan

KEPT = 64

Answer = TypeVar("Answer")


class Computer:
    """Compiles plans and runs drills, once per revision."""

    def __init__(self, repository: Repository) -> None:
        self.repository = repository
        self._kept: OrderedDict[Hashable, Any] = OrderedDict()
        self._lock = Lock()

    def stored(self, key: str, revision: int | None) -> StoredPlan:
        """A plan at a revision, read once."""
        number = self.repository.revision_of(key) if revision is None else revision
        return self._once(("plan", key, number), lambda: self.repository.get(key, number))

    def network(self, key: str, revision: int | None) -> Network:
        """The compiled plan; raises CannotRun."""
        stored = self.stored(key, revision)
        return self._once(("network", key, stored.revision), lambda: compile_network(stored.plan))

    def run(self, key: str, revision: int | None, drill: str) -> DrillRun:
        """A drill, run; raises UnknownPlan when the plan has no such drill."""
        stored = self.stored(key, revision)
        found = next((one for one in stored.plan.drills if one.name == drill), None)
        if found is None:
            known = [one.name for one in stored.plan.drills]
            raise UnknownPlan(f"{key}: drill {drill}{did_you_mean(drill, known)}", [])
        network = self.network(key, stored.revision)
        return self._once(("drill", key, stored.revision, drill), lambda: run_drill(network, found))

    def settled(self, key: str, revision: int | None) -> Flow:
        """The flow now, with no fault."""
        network = self.network(key, revision)
        return self._once(("now", key, self.stored(key, revision).revision), lambda: undisturbed(network))

    def _once(self, question: Hashable, answer: Callable[[], Answer]) -> Answer:
        with self._lock:
            if question in self._kept:
                self._kept.move_to_end(question)
                found: Answer = self._kept[question]
                return found
        made = answer()
        with self._lock:
            self._kept[question] = made
            while len(self._kept) > KEPT:
                self._kept.popitem(last=False)
        return made
