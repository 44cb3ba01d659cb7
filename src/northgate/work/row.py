"""Who has what there is only so much of: a few at once, and the others in a row."""

import threading
from collections.abc import Hashable, Iterable, Iterator
from contextlib import contextmanager
from typing import Generic, TypeVar

from northgate.engine.base import Watch

# Those that wait look so often whether anybody still waits for them (s).
LOOK_EVERY_S = 0.05
# So many wait for their turn; each is a thread of the server, of which there are more (`web/door/opening.py`).
MOST_WAITING = 150

Thing = TypeVar("Thing")


class Busy(Exception):
    """More wait already than may."""


class Row(Generic[Thing]):
    """Things that one has at a time; who waits for one goes in the order in which they came, and of those there are so
    many at most."""

    def __init__(self, things: Iterable[Thing], most_waiting: int = MOST_WAITING) -> None:
        self.all, self.most_waiting = tuple(things), most_waiting
        self._changed = threading.Condition()
        self._free = list(self.all)
        self._waiting: list[Hashable] = []

    @property
    def count(self) -> int:
        """How many have one at once."""
        return len(self.all)

    @property
    def in_use(self) -> int:
        """How many have one now."""
        return len(self.all) - len(self._free)

    @contextmanager
    def taken(self, watch: Watch, question: Hashable = None) -> Iterator[Thing]:
        """One of the things, for as long as it is held. `watch` is called while it waits, and ends that by what it
        raises; `question`: by which it is known meanwhile (`before`). Raises Busy."""
        thing = self._wait(object() if question is None else question, watch)
        try:
            yield thing
        finally:
            with self._changed:
                # The one that was used last is used next: what it has ready is there still.
                self._free.append(thing)
                self._changed.notify_all()

    def _wait(self, question: Hashable, watch: Watch) -> Thing:
        with self._changed:
            if len(self._waiting) >= self.most_waiting:
                before = self.in_use + len(self._waiting)
                raise Busy(f"{before} questions are computed before this one; ask again later")
            self._waiting.append(question)
        try:
            while True:
                with self._changed:
                    if self._waiting[0] == question and self._free:
                        return self._free.pop()
                    self._changed.wait(LOOK_EVERY_S)
                watch()
        finally:
            with self._changed:
                self._waiting.remove(question)
                self._changed.notify_all()

    def before(self, question: Hashable) -> int | None:
        """How many are answered before a question, those that are under way too; None where it does not wait."""
        with self._changed:
            return self.in_use + self._waiting.index(question) if question in self._waiting else None
