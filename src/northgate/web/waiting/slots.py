"""Who may have something computed now: a few at once, each for so long."""

import threading
import time
from collections.abc import Callable, Hashable, Iterator
from contextlib import contextmanager

from northgate.engine.base import CannotRun
from northgate.plan import Problem
from northgate.work import COUNT, MOST_WAITING, Row


class Slots:
    """So many threads have something computed at once; the others wait in a row."""

    def __init__(self, count: int = COUNT, most_waiting: int = MOST_WAITING) -> None:
        self.row = Row(range(count), most_waiting)
        self._mine = threading.local()

    @contextmanager
    def taken(self, question: Hashable, watch: Callable[[], None]) -> Iterator[None]:
        """A place among those that compute, for as long as it is held; what this thread asks meanwhile needs none.
        `watch` is called while it waits, and ends that by what it raises. Raises Busy."""
        if getattr(self._mine, "held", False):
            yield
            return
        with self.row.taken(watch, question):
            self._mine.held = True
            try:
                yield
            finally:
                self._mine.held = False

    def before(self, question: Hashable) -> int | None:
        """How many are computed before a question, see `Row.before`."""
        return self.row.before(question)


class Deadline:
    """Until when a question may be computed."""

    def __init__(self, seconds: float) -> None:
        self.seconds, self._ends = seconds, time.monotonic() + seconds

    def check(self) -> None:
        """Raises CannotRun where it has taken too long."""
        if time.monotonic() > self._ends:
            told = f"it was given up after {self.seconds:g} s; ask for less, or on the command line"
            raise CannotRun([Problem("", told)])
