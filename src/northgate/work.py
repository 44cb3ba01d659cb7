"""Long work in many parts, shared out among processes: losses, pairs, sizing and sweeps.

Every part is a function of a plan and an item, and both travel as plain data. A process pool does the work, or this
process itself where there is little of it; a Dask cluster (the extra `cluster`) where NORTHGATE_SCHEDULER names its
scheduler. What a worker that dies had in hand is done again by another.
"""

import os
import signal
import threading
import time
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import Executor, Future, ProcessPoolExecutor, as_completed
from concurrent.futures.process import BrokenProcessPool
from contextlib import contextmanager
from functools import lru_cache
from multiprocessing import active_children, get_context
from typing import TypeVar

from northgate.engine.base import CannotRun
from northgate.plan import Plan, Problem

SCHEDULER = "NORTHGATE_SCHEDULER"
# Fewer parts than this are done at once, here.
FEW = 4
# Workers are replaced so many times; what brings them down is never done in this process.
ATTEMPTS = 3
# Workers look so often whether their server is still there (s).
LOOK_EVERY_S = 1.0

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
    with how many are done, of how many; what it raises stops the work. Raises CannotRun when workers are killed again
    and again, as where memory does not suffice."""
    if len(items) < FEW and SCHEDULER not in os.environ:
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
        except BrokenProcessPool:
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
    waiting = {ask(executor, item): place for place, item in enumerate(items) if place not in made}
    try:
        for done in as_completed(waiting):
            made[waiting[done]] = done.result()
            told(len(made), len(items))
    finally:
        for one in waiting:
            one.cancel()


@contextmanager
def _executor() -> Iterator[Executor]:
    """Who does the work: the cluster that is named, or processes on this machine."""
    address = os.environ.get(SCHEDULER)
    if address:
        from distributed import Client

        with Client(address) as client:  # type: ignore[no-untyped-call]
            yield client.get_executor(retries=ATTEMPTS)
    elif threading.active_count() == 1:
        with _forked() as executor:
            yield executor
    else:
        yield from _kept()


@contextmanager
def _forked() -> Iterator[Executor]:
    """Forked where nothing else runs here: what is loaded is there at once."""
    executor = ProcessPoolExecutor(max_workers=os.cpu_count() or 1, mp_context=get_context("fork"))
    finished = False
    try:
        yield executor
        finished = True
    finally:
        # Work that is given up is not waited for. After all is done the pool's own thread goes, too: the next may fork.
        executor.shutdown(wait=finished, cancel_futures=True)


class _Pool:
    """The processes of a server, which has threads, so that nothing may be forked: to start them takes its time, so
    that they are kept until they break."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._executor: ProcessPoolExecutor | None = None

    def get(self) -> ProcessPoolExecutor:
        """The processes that are there, or new ones."""
        with self._lock:
            if self._executor is None:
                self._executor = ProcessPoolExecutor(
                    max_workers=os.cpu_count() or 1, mp_context=get_context("spawn"), initializer=_attend
                )
            return self._executor

    def drop(self, executor: ProcessPoolExecutor) -> None:
        """They are broken: the next to ask gets others."""
        with self._lock:
            if self._executor is executor:
                self._executor = None
        executor.shutdown(wait=False, cancel_futures=True)


_POOL = _Pool()


def stop() -> None:
    """Ends the processes that compute for a server, whatever they are at."""
    for one in active_children():
        one.terminate()


def _kept() -> Iterator[Executor]:
    executor = _POOL.get()
    try:
        yield executor
    except BrokenProcessPool:
        _POOL.drop(executor)
        raise


def _attend() -> None:
    """A worker leaves it to its server to be interrupted, and goes when that is gone, however it went."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    parent = os.getppid()

    def look() -> None:
        while os.getppid() == parent:
            time.sleep(LOOK_EVERY_S)
        os._exit(0)

    threading.Thread(target=look, daemon=True).start()


def _do(task: Task[Given, Item, Made], prepare: Prepare[Given], text: str, item: Item) -> Made:
    """One part of the work, in whatever process."""
    return task(_prepared(prepare, text, threading.get_ident()), item)


@lru_cache(maxsize=8)
def _prepared(prepare: Prepare[Given], text: str, thread: int) -> Given:  # noqa: ARG001
    """What is made of a plan, once a process and thread: solvers are not shared among those of a cluster's worker."""
    return prepare(Plan.model_validate_json(text))
