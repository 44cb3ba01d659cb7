"""Of what there is only so much, a few have it, and the others wait in the order in which they came."""

import threading
import time

import pytest

from northgate.engine.base import go_on
from northgate.work import Busy, Row
from tests.support.waits import WAIT_S


class LeftError(Exception):
    """Who waits has left."""


def until(true):
    end = time.monotonic() + WAIT_S
    while not true():
        assert time.monotonic() < end
        time.sleep(0.005)


def test_what_was_used_last_is_used_next():
    """What it has ready is there still."""
    row = Row("abc")
    with row.taken(go_on) as first:
        assert row.in_use == 1
        with row.taken(go_on) as second:
            assert {first, second} < set("abc")
            assert row.in_use == 2
    assert row.in_use == 0
    with row.taken(go_on) as next_one:
        assert next_one == first


def test_it_is_given_back_whatever_happens():
    row = Row([1])
    with pytest.raises(LeftError), row.taken(go_on):
        raise LeftError
    with row.taken(go_on) as one:
        assert one == 1


def test_nobody_has_what_another_has():
    row, at_once, most, count = Row(range(3)), set(), [], 40
    lock = threading.Lock()

    def use():
        with row.taken(go_on) as mine:
            with lock:
                assert mine not in at_once
                at_once.add(mine)
                most.append(len(at_once))
            time.sleep(0.001)
            with lock:
                at_once.remove(mine)

    threads = [threading.Thread(target=use) for _ in range(count)]
    for one in threads:
        one.start()
    for one in threads:
        one.join(WAIT_S)
    assert len(most) == count
    assert max(most) <= 3
    assert row.in_use == 0


def test_who_comes_when_too_many_wait_is_told_how_many():
    row, left = Row([1], most_waiting=2), threading.Event()

    def watch():
        if left.is_set():
            raise LeftError

    def wait(name):
        with pytest.raises(LeftError), row.taken(watch, name):
            raise AssertionError("it was not free")

    with row.taken(go_on):
        waiting = [threading.Thread(target=wait, args=(name,)) for name in ("second", "third")]
        for number, one in enumerate(waiting, 1):
            one.start()
            until(lambda number=number: len(row._waiting) == number)
        assert [row.before(name) for name in ("first", "second", "third")] == [None, 1, 2]
        with pytest.raises(Busy, match=r"^3 questions are computed before this one"), row.taken(go_on):
            raise AssertionError("it was not free")
        left.set()
        for one in waiting:
            one.join(WAIT_S)
        assert row.before("second") is None
