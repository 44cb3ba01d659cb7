"""Work in many parts, shared out among processes: losses, pairs, sizing and sweeps.

Every part is a function of a plan and an item, and both travel as plain data. A process pool does the work, or this
process itself where there is little of it; a Dask cluster (the extra `cluster`) where NORTHGATE_SCHEDULER names its
scheduler. What a worker that dies had in hand is done again by another.
"""

import os
import threading
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import FIRST_COMPLETED, Executor, Future, ProcessPoolExecutor, ThreadPoolExecutor, wait
from concurrent.futures.process import BrokenProcessPool
from contextlib import contextmanager
from functools import lru_cache
from multiprocessing import get_context
from typing import Any, TypeVar

from northgate.engine.base import CannotRun
from northgate.plan import Plan, Problem
from northgate.work.processes import COUNT, WorkerKilled, ask_one
from northgate.work.worker import Stopped, Teller, is_worker

SCHEDULER = "NORTHGATE_SCHEDULER"
# Fewer parts than this are done at once, here.
FEW = 4
# Workers are replaced so many times; what brings them down is never done in this process.
ATTEMPTS = 3
# Who asked is looked after so often (s).
LOOK_EVERY_S = 0.2

Given = TypeVar("Given")
Item = TypeVar("Item")
Made = TypeVar("Made")
Task = Callable[[Given, Item], Made]
Prepare = Callable[[Plan], Given]
Told = Callable[[int, int], None]


def untold(_: int, __: int) -> None:
    """Nobody asks how far the work has come."""


def as_it_is(plan: Plan) -> Plan:
    """The plan, for what makes others of it."""
    return plan


def spread(
    task: Task[Given, Item, Made], prepare: Prepare[Given], plan: Plan, items: Sequence[Item], told: Told = untold
) -> list[Made]:
    """The task done for each item, in their order, with what is made of the plan once in each process. `told` is called
    with how many are done, of how many, again and again; what it raises stops the work. Raises CannotRun when workers
    are killed again and again, as where memory does not suffice."""
    if is_worker() or (len(items) < FEW and _forks() and SCHEDULER not in os.environ):
        told(0, len(items))
        return list(_here(task, prepare(plan), items, told))
    text = plan.model_dump_json(by_alias=True)
    made: dict[int, Made] = {}

    def ask(executor: Executor, item: Item) -> Future[Made]:
        return executor.submit(_do, task, prepare, text, item)

    for _ in range(ATTEMPTS):
        told(len(made), len(items))
        try:
            with _executor() as executor:
                _share_out(executor, ask, items, made, told)
            return [made[place] for place in range(len(items))]
        except (BrokenProcessPool, WorkerKilled):
            # A worker was killed: what is missing is done anew.
            continue
    done = f"{len(made)} of {len(items)} parts of the work were done"
    raise CannotRun([Problem("", f"the processes that compute were killed {ATTEMPTS} times; {done}")])


def _here(task: Task[Given, Item, Made], given: Given, items: Sequence[Item], told: Told) -> Iterator[Made]:
    for number, item in enumerate(items, 1):
        yield task(given, item)
        told(number, len(items))


def _share_out(
    executor: Executor, ask: Callable[[Executor, Item], Future[Made]], items: Sequence[Item], made: dict[int, Made],
    told: Told,
) -> None:  # fmt: skip
    places = {ask(executor, item): place for place, item in enumerate(items) if place not in made}
    left = set(places)
    try:
        while left:
            done, left = wait(left, LOOK_EVERY_S, FIRST_COMPLETED)
            for one in done:
                made[places[one]] = one.result()
                told(len(made), len(items))
            if not done:
                # What it raises stops parts that take their time, too.
                told(len(made), len(items))
    finally:
        for one in left:
            one.cancel()


@contextmanager
def _executor() -> Iterator[Executor]:
    """Who does the work: the cluster that is named, or processes on this machine."""
    address = os.environ.get(SCHEDULER)
    if address:
        from distributed import Client

        with Client(address) as client:
            yield client.get_executor(retries=ATTEMPTS)
    elif _forks():
        with _forked() as executor:
            yield executor
    else:
        with _Asking() as executor:
            yield executor


def _forks() -> bool:
    """Whether this process may fork: where nothing else runs in it."""
    return threading.active_count() == 1


@contextmanager
def _forked() -> Iterator[Executor]:
    """Forked: what is loaded is there at once."""
    executor = ProcessPoolExecutor(max_workers=os.cpu_count() or 1, mp_context=get_context("fork"))
    finished = False
    try:
        yield executor
        finished = True
    finally:
        # Work that is given up is not waited for. After all is done the pool's own thread goes, too: the next may fork.
        executor.shutdown(wait=finished, cancel_futures=True)


class _Asking(ThreadPoolExecutor):
    """Threads of a server, each of which asks one of its processes at a time; what is given up is stopped there."""

    def __init__(self) -> None:
        super().__init__(max_workers=COUNT)
        self._given_up = threading.Event()

    def submit(self, fn: Callable[..., Made], /, *args: Any, **_none: Any) -> Future[Made]:
        """The answer to come of a function of plain data."""
        return super().submit(ask_one, _without_telling, fn, args, watch=self._watch)

    def _watch(self) -> None:
        if self._given_up.is_set():
            raise Stopped

    def __exit__(self, *_error: object) -> None:
        self._given_up.set()
        self.shutdown(wait=False, cancel_futures=True)


def _without_telling(function: Callable[..., Made], given: tuple[Any, ...], _told: Teller) -> Made:
    return function(*given)


def _do(task: Task[Given, Item, Made], prepare: Prepare[Given], text: str, item: Item) -> Made:
    """One part of the work, in whatever process."""
    return task(prepared(prepare, text), item)


def prepared(prepare: Prepare[Given], text: str) -> Given:
    """What is made of a plan (JSON), once a process and thread."""
    made: Given = _prepared(prepare, text, threading.get_ident())
    return made


@lru_cache(maxsize=4)
def _prepared(prepare: Prepare[Given], text: str, thread: int) -> Given:  # noqa: ARG001
    """What is made of a plan, once a process and thread: solvers are not shared among those of a cluster's worker."""
    return prepare(Plan.model_validate_json(text))
