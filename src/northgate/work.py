"""Long work in many parts, shared out among processes: losses, pairs, sizing and sweeps.

Every part is a function of a plan and an item, and both travel as plain data. A process pool does the work, or this
process itself where there is little of it; a Dask cluster (the extra `cluster`) where NORTHGATE_SCHEDULER names its
scheduler. What a worker that dies had in hand is done again by another.
"""

import os
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import Executor, Future, ProcessPoolExecutor, as_completed
from concurrent.futures.process import BrokenProcessPool
from contextlib import contextmanager
from functools import lru_cache
from multiprocessing import get_context
from typing import TypeVar

from northgate.engine.network import Network, compile_network
from northgate.plan import Plan

SCHEDULER = "NORTHGATE_SCHEDULER"
# Fewer parts than this are done at once, here.
FEW = 4
# A part that has brought down so many workers is not tried again.
ATTEMPTS = 3

Item = TypeVar("Item")
Made = TypeVar("Made")
Task = Callable[[Network, Item], Made]


def spread(
    task: Task[Item, Made], plan: Plan, items: Sequence[Item], told: Callable[[int, int], None] = lambda *_: None
) -> list[Made]:
    """The task done for each item, in their order. `told` is called with how many are done, of how many; what it raises
    stops the work."""
    told(0, len(items))
    if len(items) < FEW and SCHEDULER not in os.environ:
        return list(_here(task, plan, items, told))
    text = plan.model_dump_json(by_alias=True)
    made: dict[int, Made] = {}
    for _ in range(ATTEMPTS):
        with _executor() as executor:
            try:
                _share_out(executor, task, text, items, made, told)
            except BrokenProcessPool:
                # A worker was killed: what is missing is done anew.
                continue
        break
    missing = [place for place in range(len(items)) if place not in made]
    for place in missing:
        made[place] = _do(task, text, items[place])
        told(len(made), len(items))
    return [made[place] for place in range(len(items))]


def _here(
    task: Task[Item, Made], plan: Plan, items: Sequence[Item], told: Callable[[int, int], None]
) -> Iterator[Made]:
    network = compile_network(plan)
    for number, item in enumerate(items, 1):
        yield task(network, item)
        told(number, len(items))


def _share_out(
    executor: Executor, task: Task[Item, Made], text: str, items: Sequence[Item], made: dict[int, Made],
    told: Callable[[int, int], None],
) -> None:  # fmt: skip
    waiting: dict[Future[Made], int] = {
        executor.submit(_do, task, text, item): place for place, item in enumerate(items) if place not in made
    }
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
        return
    # Not forked: a server has threads, and what they hold would be held for ever.
    context = get_context("spawn")
    executor = ProcessPoolExecutor(max_workers=os.cpu_count() or 1, mp_context=context)
    try:
        yield executor
    finally:
        executor.shutdown(wait=False, cancel_futures=True)


def _do(task: Task[Item, Made], text: str, item: Item) -> Made:
    """One part of the work, in whatever process."""
    return task(_network(text), item)


@lru_cache(maxsize=4)
def _network(text: str) -> Network:
    """The compiled plan, once a process."""
    return compile_network(Plan.model_validate_json(text))
