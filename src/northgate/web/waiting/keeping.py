"""Answers that are kept, bounded by how much memory they hold; the longest unused go first."""

import sys
from collections import OrderedDict
from collections.abc import Hashable, Mapping
from concurrent.futures import Future
from typing import Any

import numpy as np
from msgspec import Struct
from pydantic import BaseModel

from northgate.engine.network import Network
from northgate.plan import Plan

# What of an answer is shared with others, and is weighed where it is an answer itself.
SHARED = (Network, Plan)
# A plan in memory, by what it lists: each of its objects, roughly (bytes). To walk through all of it would take longer
# than to read it.
OF_PLAN, OF_ITEM = 50_000, 5_000
# What an array takes besides its values (bytes): most are short, and come out of other processes' answers.
OF_ARRAY = 400
# So many objects of an answer are looked at; of what has more, the rest is taken to be like those.
LOOKED_AT = 50_000


class Kept:
    """Answers by question, being computed or there; those that are there hold `most` bytes together, or it is one."""

    def __init__(self, most: int) -> None:
        self.most, self.held = most, 0
        self._answers: OrderedDict[Hashable, Future[Any]] = OrderedDict()
        self._weights: dict[Hashable, int] = {}

    def __len__(self) -> int:
        return len(self._answers)

    def get(self, question: Hashable) -> Future[Any] | None:
        """The answer that is there, or will be; asked for just now."""
        found = self._answers.get(question)
        if found is not None:
            self._answers.move_to_end(question)
        return found

    def begin(self, question: Hashable) -> Future[Any]:
        """A new answer, of which nothing is known yet."""
        self._answers[question] = made = Future[Any]()
        return made

    def drop(self, question: Hashable) -> None:
        """An answer that did not come."""
        self._answers.pop(question, None)
        self.held -= self._weights.pop(question, 0)

    def weigh(self, question: Hashable, weight: int) -> None:
        """An answer has come, and holds so many bytes: others make room for it."""
        if question not in self._answers:
            return
        self.held += weight - self._weights.get(question, 0)
        self._weights[question] = weight
        for other in [one for one in self._answers if one in self._weights and one != question]:
            if self.held <= self.most:
                break
            self.drop(other)


def weight_of(answer: Any) -> int:
    """About how many bytes an answer holds, without what it shares with others."""
    if isinstance(answer, Plan):
        items = sum(len(value) for value in vars(answer).values() if isinstance(value, list))
        machines = sum(fleet.count for fleet in answer.fleets)
        return OF_PLAN + OF_ITEM * (items + machines)
    seen, held, waiting = set[int](), 0, [answer]
    while waiting and len(seen) < LOOKED_AT:
        one = waiting.pop()
        if id(one) in seen or (isinstance(one, SHARED) and one is not answer):
            continue
        seen.add(id(one))
        held += one.nbytes + OF_ARRAY if isinstance(one, np.ndarray) else _size_of(one)
        waiting += _parts(one)
    return int(held * (1 + len(waiting) / max(len(seen), 1)))


def _size_of(one: Any) -> int:
    """The bytes of an object itself, with the table of its attributes."""
    own = getattr(one, "__dict__", None)
    return sys.getsizeof(one, 64) + (sys.getsizeof(own) if own is not None else 0)


def _parts(one: Any) -> list[Any]:
    """What an object is made of."""
    if isinstance(one, list | tuple | set | frozenset):
        return list(one)
    if isinstance(one, Mapping):
        return [*one.keys(), *one.values()]
    if isinstance(one, Struct):
        return [getattr(one, name, None) for name in one.__struct_fields__]
    if isinstance(one, BaseModel):
        return list(vars(one).values())
    return []
