"""Questions, each computed once at a time and kept; who waits for them, for how long, and where they are computed."""

from collections.abc import Callable, Hashable, Sequence
from concurrent.futures import Future
from threading import Event, Lock
from typing import Any, TypeVar

from northgate import work
from northgate.engine.base import CannotRun
from northgate.plan import Plan, Problem
from northgate.web.waiting.keeping import Kept, weight_of
from northgate.web.waiting.leaving import Abandoned, gone, stop_if
from northgate.web.waiting.slots import Deadline, Slots

# So much of computed answers is kept, and apart from them of plans as they were read (bytes).
KEPT_BYTES, PLANS_BYTES = 400_000_000, 100_000_000
OF_PLANS = ("plan", "content", "whole")
# What takes its time: a few of these are computed at once, each for so long at most (s).
LONG = ("drill", "levers", "losses", "sizing", "zone losses", "compare", "change", "usual", "sweep", "export")
MOST_S = 900.0
# What is quick is computed for so long at most (s).
MOST_QUICK_S = 120.0

Answer = TypeVar("Answer")


class Answers:
    """Answers by question."""

    def __init__(self) -> None:
        self._waiting: dict[Hashable, list[Event]] = {}
        self._kept, self._plans = Kept(KEPT_BYTES), Kept(PLANS_BYTES)
        # How much of what is being computed is done, by question.
        self.done: dict[Hashable, tuple[int, int]] = {}
        # Places for what takes its time.
        self._lock, self._closing, self.slots = Lock(), Event(), Slots()
        self._deadlines: dict[Hashable, Deadline] = {}
        # Is set once more is asked for than plans as they are; once the processes that compute are there.
        self.asked, self.warmed = Event(), Event()

    def close(self) -> None:
        """All that is computed, or waits for its turn, is given up: nobody is there any more who would be answered."""
        self._closing.set()
        work.stop()

    def alone(
        self, question: Hashable, task: Callable[..., Answer], *given: Any, told: Callable[..., None] = work.nobody,
        shared: Callable[[], object] = lambda: None, short: bool = False,
    ) -> Answer:  # fmt: skip
        """The kept answer to a question, or that of another process, to which plans go as JSON; see `work.alone`.
        `shared` is called once it is the question's turn."""

        def answer() -> Answer:
            watch = self.watch(question)
            return work.alone(task, *_plain(given), watch=watch, told=told, shared=shared(), short=short)

        return self.once(question, answer)

    def quickly(self, task: Callable[..., Answer], *given: Any) -> Answer:
        """The answer of another process to what is quick, and so not kept; of this one in the first seconds, as there
        is no other. Raises CannotRun where it is not quick."""
        left, deadline = gone(), Deadline(MOST_QUICK_S)

        def watch() -> None:
            stop_if(left.is_set() or self._closing.is_set())
            deadline.check()

        if self.warmed.is_set():
            return work.alone(task, *_plain(given), watch=watch, short=True)
        return task(*_plain(given), work.Here(watch))

    def watch(self, question: Hashable) -> Callable[[], None]:
        """What long work calls at every step: it stops once all who asked have left."""

        def watch() -> None:
            with self._lock:
                waiting = self._waiting.get(question, [])
                deadline = self._deadlines.get(question)
                stop_if(self._closing.is_set() or (bool(waiting) and all(one.is_set() for one in waiting)))
            if deadline:
                deadline.check()

        return watch

    def once(self, question: Hashable, answer: Callable[[], Answer]) -> Answer:
        """The kept answer, or the one being computed by another thread, or a new one; errors are not kept."""
        left = gone()
        if not _is_of(question, OF_PLANS):
            self.asked.set()
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


def _plain(given: Sequence[Any]) -> list[Any]:
    """What a task is given, as it is sent: plans as JSON."""
    return [one.model_dump_json(by_alias=True) if isinstance(one, Plan) else one for one in given]


def _told(error: BaseException) -> BaseException:
    """An error as who asked is told of it."""
    if not isinstance(error, MemoryError):
        return error
    return CannotRun([Problem("", "it takes more memory than there is; ask for less, or on a larger machine")])


def _is_of(question: Hashable, kinds: Sequence[str]) -> bool:
    return isinstance(question, tuple) and question[0] in kinds
