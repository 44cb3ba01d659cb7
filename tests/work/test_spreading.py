"""Work that is shared out comes back in order, whoever does it, and survives a worker that is killed."""

import multiprocessing
import os
import signal
import subprocess
import sys
import threading
import time
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import pytest

from northgate import work
from northgate.engine.base import CannotRun
from northgate.engine.network import compile_network
from northgate.plan import plan_from_data
from northgate.work import processes, spreading
from northgate.work.worker import is_worker
from tests.support.plans import plan_data
from tests.support.waits import WAIT_S

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
        assert multiprocessing.parent_process() is not None or is_worker()
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
    # Where it takes long it is told again how far it is.
    assert list(dict.fromkeys(told)) == [(done, count) for done in range(count + 1)]
    assert told == sorted(told)


def test_a_worker_that_is_killed_loses_nothing(tmp_path):
    items = [(str(tmp_path), number) for number in range(12)]
    assert work.spread(killed_once, compile_network, PLAN, items) == list(range(12))
    assert (tmp_path / "been-here").exists()


def test_what_kills_every_worker_never_runs_here():
    with pytest.raises(CannotRun, match=r"killed 3 times; .* of 12 parts of the work were done"):
        work.spread(killed, compile_network, PLAN, range(12))


def whose_process(network, item):
    return os.getpid()


def in_a_thread(work_of_it):
    """What a thread of a server finds: nothing may be forked there."""
    with ThreadPoolExecutor(1) as threads:
        return threads.submit(work_of_it).result()


def test_the_processes_of_a_server_are_kept():
    asked = [set(in_a_thread(lambda: work.spread(whose_process, compile_network, PLAN, range(40)))) for _ in range(2)]
    assert os.getpid() not in asked[0] | asked[1]
    assert len(asked[0] | asked[1]) <= (os.cpu_count() or 1)
    assert asked[0] & asked[1]


def test_processes_that_break_give_way_to_others(tmp_path):
    items = [(str(tmp_path), number) for number in range(12)]
    assert in_a_thread(lambda: work.spread(killed_once, compile_network, PLAN, items)) == list(range(12))
    assert len(set(in_a_thread(lambda: work.spread(whose_process, compile_network, PLAN, range(12))))) > 0


ALIVE = """
import sys, threading, time
from tests.work.test_spreading import PLAN, whose_process
from northgate import work
from northgate.work import processes, spreading
from northgate.work.worker import is_worker
from northgate.engine.network import compile_network
if __name__ == "__main__":
    done = []
    asks = threading.Thread(target=lambda: done.append(work.spread(whose_process, compile_network, PLAN, range(40))))
    asks.start(); asks.join()
    print(*set(done[0]), flush=True)
    time.sleep(600)
"""


def runs(process):
    """Whether a process runs; one that has ended and whose end nobody has asked for does not."""
    try:
        return Path(f"/proc/{process}/stat").read_text().rpartition(")")[2].split()[0] not in "ZX"
    except OSError:
        return False


def test_the_processes_of_a_server_go_with_it_however_it_went(tmp_path):
    script = tmp_path / "alive.py"
    script.write_text(ALIVE)
    environment = os.environ | {"PYTHONPATH": str(Path(__file__).parents[2])}
    server = subprocess.Popen([sys.executable, str(script)], stdout=subprocess.PIPE, text=True, env=environment)
    workers = [int(one) for one in server.stdout.readline().split()]
    assert workers
    server.kill()
    server.wait()
    server.stdout.close()
    end = time.monotonic() + WAIT_S
    while any(runs(one) for one in workers):
        assert time.monotonic() < end
        time.sleep(0.1)


def test_threads_of_a_worker_share_nothing_that_computes():
    text = PLAN.model_dump_json(by_alias=True)
    with ThreadPoolExecutor(2) as threads:
        together = threading.Barrier(2)
        asked = [
            threads.submit(lambda: (together.wait(), spreading._do(whose, compile_network, text, 0))[1]) for _ in "ab"
        ]
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


def lasting(network, item):
    time.sleep(WAIT_S * 10 if item else 0)


def test_parts_that_take_long_are_stopped_too(monkeypatch):
    class Stopped(Exception):
        pass

    def told(done, of):
        if done == 1:
            raise Stopped

    monkeypatch.setattr(processes, "GRACE_S", 0.1)
    with pytest.raises(Stopped):
        in_a_thread(lambda: work.spread(lasting, compile_network, PLAN, range(4), told))
    assert in_a_thread(lambda: work.spread(name_and_item, compile_network, PLAN, range(2))) == [
        ("small", 0),
        ("small", 1),
    ]


def spreading_again(network, item):
    return item, work.spread(whose_process, compile_network, PLAN, range(5))


def test_a_part_that_is_shared_out_again_is_done_where_it_is():
    found = in_a_thread(lambda: work.spread(spreading_again, compile_network, PLAN, range(2)))
    assert [item for item, _ in found] == [0, 1]
    assert all(len(set(made)) == 1 for _, made in found)
