"""Who may compute now: a few at once, so that everything else is answered meanwhile; the others wait in a row."""

import os
import threading
import time
from collections.abc import Callable, Hashable, Iterator
from contextlib import contextmanager

# Two at the least: a long one does not keep a short one waiting.
AT_ONCE = max(2, os.cpu_count() or 1)
# Those that wait look so often whether anybody still waits for them (s).
LOOK_EVERY_S = 0.1

# So many wait for their turn; each is a thread of the server, of which there are more (`web/server.py`).
MOST_WAITING = 150


class Busy(Exception):
    """More wait already than may."""


class Slots:
    """So many threads compute at once; who waits goes in the order in which they came, and of those there are so many
    at most."""

    def __init__(self, count: int = AT_ONCE, most_waiting: int = MOST_WAITING) -> None:
        self.count, self.most_waiting = count, most_waiting
        self._changed = threading.Condition()
        self._computing = 0
        self._row: list[Hashable] = []
        self._mine = threading.local()

    @contextmanager
    def taken(self, question: Hashable, watch: Callable[[], None]) -> Iterator[None]:
        """A place among those that compute, for as long as it is held; what this thread asks meanwhile needs none.
        `watch` is called while it waits, and ends that by what it raises. Raises Busy."""
        if getattr(self._mine, "held", False):
            yield
            return
        self._wait(question, watch)
        self._mine.held = True
        try:
            yield
        finally:
            self._mine.held = False
            with self._changed:
                self._computing -= 1
                self._changed.notify_all()

    def _wait(self, question: Hashable, watch: Callable[[], None]) -> None:
        with self._changed:
            if len(self._row) >= self.most_waiting:
                raise Busy(
                    f"{self._computing + len(self._row)} questions are computed before this one; ask again later"
                )
            self._row.append(question)
        try:
            while True:
                with self._changed:
                    if self._row[0] == question and self._computing < self.count:
                        self._computing += 1
                        return
                    self._changed.wait(LOOK_EVERY_S)
                watch()
        finally:
            with self._changed:
                self._row.remove(question)
                self._changed.notify_all()

    def before(self, question: Hashable) -> int | None:
        """How many are to be computed before a question, those that are under way too; None where it does not wait."""
        with self._changed:
            return self._computing + self._row.index(question) if question in self._row else None


class Deadline:
    """Until when a question may be computed."""

    def __init__(self, seconds: float) -> None:
        self.seconds, self._ends = seconds, time.monotonic() + seconds

    def passed(self) -> bool:
        """Whether it has taken too long."""
        return time.monotonic() > self._ends
