"""Work that is shared out comes back in order, whoever does it, and survives a worker that is killed."""

import multiprocessing
import os
import signal
import threading
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import pytest

from northgate import work
from northgate.engine.base import CannotRun
from northgate.engine.network import compile_network
from northgate.plan import plan_from_data
from tests.support.plans import plan_data

pytestmark = pytest.mark.no_cover
PLAN = plan_from_data(plan_data())


def name_and_item(network, item):
    return network.plan.name, item


def killed_once(network, mark):
    """The first who comes here is killed."""
    folder, number = mark
    path = Path(folder) / "been-here"
    if number == 5 and not path.exists():
        path.touch()
        os.kill(os.getpid(), signal.SIGKILL)
    return number


def killed(network, number):
    """Whoever comes to the seventh is killed."""
    if number == 7:
        assert multiprocessing.parent_process() is not None
        os.kill(os.getpid(), signal.SIGKILL)
    return number


def whose(network, item):
    return threading.get_ident(), id(network)


def failing(network, item):
    if item == 3:
        raise ValueError(item)
    return item


@pytest.mark.parametrize("count", [0, 3, 20])
def test_what_is_made_comes_in_the_order_of_what_was_asked(count):
    told = []
    made = work.spread(name_and_item, compile_network, PLAN, range(count), lambda done, of: told.append((done, of)))
    assert made == [("small", item) for item in range(count)]
    assert told == [(done, count) for done in range(count + 1)]


def test_a_worker_that_is_killed_loses_nothing(tmp_path):
    items = [(str(tmp_path), number) for number in range(12)]
    assert work.spread(killed_once, compile_network, PLAN, items) == list(range(12))
    assert (tmp_path / "been-here").exists()


def test_what_kills_every_worker_never_runs_here():
    with pytest.raises(CannotRun, match=r"killed 3 times; .* of 12 parts of the work were done"):
        work.spread(killed, compile_network, PLAN, range(12))


def test_threads_of_a_worker_share_nothing_that_computes():
    text = PLAN.model_dump_json(by_alias=True)
    with ThreadPoolExecutor(2) as threads:
        together = threading.Barrier(2)
        asked = [threads.submit(lambda: (together.wait(), work._do(whose, compile_network, text, 0))[1]) for _ in "ab"]
        found = {one.result() for one in asked}
    assert len({thread for thread, _ in found}) == len({network for _, network in found}) == 2


def test_what_goes_wrong_in_a_worker_is_told():
    with pytest.raises(ValueError, match="3"):
        work.spread(failing, compile_network, PLAN, range(20))


def test_work_that_is_stopped_stops():
    class Stopped(Exception):
        pass

    def told(done, of):
        if done == 2:
            raise Stopped

    with pytest.raises(Stopped):
        work.spread(name_and_item, compile_network, PLAN, range(40), told)
