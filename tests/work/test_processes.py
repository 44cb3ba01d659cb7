"""A question that another process answers can be told of, stopped, too large or killed, and nothing else notices."""

import os
import signal
import sys
import threading
import time
from concurrent.futures import ThreadPoolExecutor

import numpy as np
import pytest

from northgate.engine.base import CannotRun, go_on
from northgate.plan import PlanError, Problem
from northgate.work import processes
from northgate.work.processes import Workers, nobody
from northgate.work.worker import is_worker
from tests.support.waits import WAIT_S

MIB = 2**20


class LeftError(Exception):
    """Who asked has left."""


def process(told):
    return os.getpid(), is_worker()


def counting(count, told):
    for number in range(count):
        told(number)
        time.sleep(0.01)
    return count


def deaf(told):
    """Looks at nothing, as where one solve takes very long."""
    told("begun")
    time.sleep(WAIT_S * 10)


def filling(size, told):
    return float(np.ones(size, dtype=np.uint8).sum())


def killed(told):
    os.kill(os.getpid(), signal.SIGKILL)


def refused(told):
    raise PlanError([Problem("/clients/0", "is wrong", 3, 4)], "file.yaml")


def not_run(told):
    raise CannotRun([Problem("/names/0", "leads nowhere")])


class WithoutError(Exception):
    """Cannot be sent: it wants what is not there."""

    def __init__(self, one, other):
        super().__init__(f"{one}{other}")


def unsent(told):
    raise WithoutError("a", "b")


@pytest.fixture(scope="module")
def workers():
    made = Workers(1)
    yield made
    made.kill()


def ask(workers, function, *given, watch=go_on, told=nobody):
    return workers.ask(function, given, watch, told)


def test_another_process_answers_and_is_kept(workers):
    first, second = ask(workers, process), ask(workers, process)
    assert first == second
    assert first[0] != os.getpid()
    assert first[1]
    assert not is_worker()


def test_it_tells_how_far_it_is(workers):
    told = []
    assert ask(workers, counting, 50, told=told.append) == 50
    assert told[0] == 0
    assert told == sorted(set(told))


def with_shared(many, told):
    told.shared = many
    return {"many": many, "again": [many], "other": list(many)}


def test_what_who_asks_has_himself_is_not_sent(workers):
    own = object()
    made = workers.ask(with_shared, ([1, 2, 3],), go_on, nobody, own)
    assert made["many"] is own
    assert made["again"][0] is own
    assert made["other"] == [1, 2, 3]


def test_errors_come_as_they_were_raised(workers):
    with pytest.raises(PlanError) as found:
        ask(workers, refused)
    assert found.value.problems == (Problem("/clients/0", "is wrong", 3, 4),)
    assert str(found.value) == "file.yaml:3:4: /clients/0: is wrong"
    with pytest.raises(CannotRun) as other:
        ask(workers, not_run)
    assert other.value.problems == (Problem("/names/0", "leads nowhere"),)
    with pytest.raises(RuntimeError, match="WithoutError: ab"):
        ask(workers, unsent)


def leave_when(begun):
    def watch():
        if begun.is_set():
            raise LeftError

    return watch


def test_what_nobody_waits_for_stops_by_itself(workers):
    before, begun = ask(workers, process), threading.Event()
    with pytest.raises(LeftError):
        ask(workers, counting, 10**9, watch=leave_when(begun), told=lambda _: begun.set())
    assert ask(workers, process) == before


def test_what_does_not_stop_is_ended(workers, monkeypatch):
    monkeypatch.setattr(processes, "GRACE_S", 0.1)
    before, begun = ask(workers, process), threading.Event()
    with pytest.raises(LeftError):
        ask(workers, deaf, watch=leave_when(begun), told=lambda _: begun.set())
    after = ask(workers, process)
    assert after[0] != before[0]
    with pytest.raises(ProcessLookupError):
        os.kill(before[0], 0)


def test_who_stops_too_late_does_not_stop_the_next(workers):
    """What is to stop has ended meanwhile: the process goes by the next question, not by that word."""
    pid = ask(workers, process)[0]
    workers.row.all[0]._pipe.send_bytes(processes.STOP)
    assert ask(workers, counting, 3) == 3
    assert ask(workers, process)[0] == pid


def test_a_question_has_so_much_memory_and_no_more(monkeypatch):
    monkeypatch.setattr(processes, "most_bytes", lambda: 512 * MIB)
    few = Workers(1)
    try:
        assert ask(few, filling, 64 * MIB) == 64 * MIB
        with pytest.raises(CannotRun, match=r"more than 0\.5 GiB of memory, which is what one question may take"):
            ask(few, filling, 1024 * MIB)
        assert ask(few, filling, 64 * MIB) == 64 * MIB
    finally:
        few.kill()


def test_a_process_that_is_killed_is_told_of_and_replaced():
    with pytest.raises(CannotRun, match="was ended from outside"):
        processes.alone(killed)
    assert processes.alone(counting, 2) == 2


def test_who_comes_while_all_are_busy_waits_in_their_order():
    one, begun = Workers(1), []
    try:
        one.warm([])
        with ThreadPoolExecutor(7) as threads:
            first = threads.submit(ask, one, counting, 10**9, watch=leave_when(left := threading.Event()))
            for number in range(6):
                end = time.monotonic() + WAIT_S
                threads.submit(ask, one, counting, 1, told=lambda _, number=number: begun.append(number))
                while len(one.row._waiting) <= number and time.monotonic() < end:
                    time.sleep(0.005)
            assert begun == []
            left.set()
            with pytest.raises(LeftError):
                first.result(WAIT_S)
        assert begun == list(range(6))
        assert one.row.in_use == 0
    finally:
        one.kill()


def test_who_leaves_while_he_waits_is_not_asked(workers):
    begun, left = threading.Event(), threading.Event()
    with ThreadPoolExecutor(2) as threads:
        first = threads.submit(ask, workers, counting, 10**9, watch=leave_when(left), told=lambda _: begun.set())
        assert begun.wait(WAIT_S)
        with pytest.raises(LeftError):
            ask(workers, counting, 1, watch=leave_when(begun))
        left.set()
        with pytest.raises(LeftError):
            first.result(WAIT_S)
    assert not workers.row._waiting


def test_short_questions_do_not_wait_for_long_ones():
    begun, left = threading.Semaphore(0), threading.Event()
    with ThreadPoolExecutor(processes.COUNT) as threads:
        held = [
            threads.submit(processes.alone, counting, 10**9, watch=leave_when(left), told=lambda _: begun.release())
            for _ in range(processes.COUNT)
        ]
        for _ in held:
            assert begun.acquire(timeout=WAIT_S)
        assert processes.alone(counting, 1, short=True) == 1
        left.set()
    assert all(isinstance(one.exception(), LeftError) for one in held)


def loaded(module, told):
    return module in sys.modules


def test_processes_are_there_with_what_they_will_need_before_they_are_needed():
    two = Workers(2)
    try:
        two.warm(["zipapp"])
        assert all(one._process.poll() is None for one in two.row.all)
        assert all(one.ask(loaded, ("zipapp",), go_on, nobody) for one in two.row.all)
        assert not two.row.all[0].ask(loaded, ("tabnanny",), go_on, nobody)
    finally:
        two.kill()


def niceness(told):
    return os.nice(0)


def test_what_takes_its_time_leaves_the_processor_to_what_does_not():
    own = os.nice(0)
    assert processes.alone(niceness, short=True) == own
    assert processes.alone(niceness) == min(own + 5, 19)
