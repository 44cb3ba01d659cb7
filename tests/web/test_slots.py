"""A few compute at once, the others wait in a row, and everything else is answered meanwhile."""

import contextlib
import signal
import subprocess
import sys
import threading
import time

import httpx2
import pytest

from northgate.engine.base import CannotRun
from northgate.store.repository import Repository
from northgate.web.computing import Computer
from northgate.web.waiting import answers
from northgate.web.waiting.leaving import Abandoned
from northgate.web.waiting.slots import Slots
from tests.support.plans import base_plan
from tests.support.waits import WAIT_S


def until(true):
    end = time.monotonic() + WAIT_S
    while not true():
        assert time.monotonic() < end
        time.sleep(0.005)


def start(work, *given):
    made = threading.Thread(target=work, args=given, daemon=True)
    made.start()
    return made


def nothing():
    pass


def test_no_more_than_so_many_compute_at_once_and_in_their_order():
    slots, end, begun, most = Slots(2), threading.Event(), [], []

    def work(number):
        with slots.taken(number, nothing):
            begun.append(number)
            most.append(slots.row.in_use)
            end.wait(WAIT_S)

    threads = []
    for number in range(6):
        threads.append(start(work, number))
        until(lambda number=number: number in begun or slots.before(number) is not None)
    assert begun == [0, 1]
    assert [slots.before(number) for number in range(6)] == [None, None, 2, 3, 4, 5]
    end.set()
    for one in threads:
        one.join(WAIT_S)
    assert sorted(begun) == list(range(6))
    assert max(most) == 2
    assert slots.row.in_use == 0


def test_who_has_a_place_needs_no_other():
    slots = Slots(1)
    with slots.taken("one", nothing), slots.taken("two", nothing):
        assert slots.row.in_use == 1
    assert slots.row.in_use == 0


def test_no_more_than_so_many_wait(client):
    """Who comes then is told so at once, and everything else is answered."""
    slots, end = client.app.state.computer.slots, threading.Event()
    slots.row.most_waiting = 3

    def hold(number):
        with slots.taken(number, nothing):
            end.wait(WAIT_S)

    held = [start(hold, number) for number in range(slots.row.count + 3)]
    until(lambda: len(slots.row._waiting) == 3)
    drill = "/api/plans/beckwater/drills/tiles-8-crashes"
    refused = client.get(drill)
    assert refused.status_code == 503
    assert refused.json()["detail"] == f"{slots.row.count + 3} questions are computed before this one; ask again later"
    assert client.get("/api/plans/beckwater/state").status_code == 200
    end.set()
    for one in held:
        one.join(WAIT_S)
    assert client.get(drill).status_code == 200


def test_who_leaves_while_he_waits_makes_room():
    slots, end, left, told = Slots(1), threading.Event(), threading.Event(), []

    def hold():
        with slots.taken("first", nothing):
            end.wait(WAIT_S)

    def watch():
        if left.is_set():
            raise Abandoned

    def wait():
        try:
            with slots.taken("second", watch):
                told.append("computed")
        except Abandoned:
            told.append("left")

    first = start(hold)
    until(lambda: slots.row.in_use == 1)
    second = start(wait)
    until(lambda: slots.before("second") == 1)
    left.set()
    second.join(WAIT_S)
    assert told == ["left"]
    assert slots.before("second") is None
    end.set()
    first.join(WAIT_S)


@pytest.fixture
def computer(tmp_path):
    made = Computer(Repository(tmp_path / "plans.sqlite"))
    yield made
    made.repository.close()


def test_what_takes_too_long_is_given_up_with_a_reason(computer, monkeypatch):
    monkeypatch.setattr(answers, "MOST_S", 0.0)
    drill = {"name": "lose", "lasts_s": 60, "steps": [{"at_s": 10, "fail": {"zone": "fells-1"}}]}
    key = computer.repository.add(base_plan(drills=[drill])).key
    with pytest.raises(CannotRun, match="given up after 0 s"):
        computer.run(key, None, "lose")
    monkeypatch.setattr(answers, "MOST_S", 900.0)
    run = computer.run(key, None, "lose")
    assert run.readings.requests > 0
    # The plan as it is compiled is there once, not once more with each drill.
    assert run.network is computer.network(key, None)
    assert run.flow_at(30).network is run.network


def test_what_takes_too_much_memory_here_is_told_and_asked_anew_later(computer):
    found = iter([MemoryError(), "there"])

    def answer():
        one = next(found)
        if isinstance(one, Exception):
            raise one
        return one

    with pytest.raises(CannotRun, match="more memory than there is"):
        computer.once("question", answer)
    assert computer.once("question", answer) == "there"


def test_while_all_places_are_taken_others_are_answered(client):
    """The list, an edit and a what-if wait for nobody; a drill says how many are before it."""
    slots, end = client.app.state.computer.slots, threading.Event()

    def hold(number):
        with slots.taken(number, nothing):
            end.wait(WAIT_S)

    held = [start(hold, number) for number in range(slots.row.count)]
    until(lambda: slots.row.in_use == slots.row.count)
    asked = []
    waiting = start(lambda: asked.append(client.get("/api/plans/beckwater/drills/tiles-8-crashes").status_code))
    progress = "/api/plans/beckwater/drills/tiles-8-crashes/progress"
    until(lambda: client.get(progress).json()["waits"] == slots.row.count)
    assert client.get("/api/plans").status_code == 200
    patch = [{"op": "replace", "path": "/notes", "value": "meanwhile"}]
    assert client.patch("/api/plans/beckwater", json=patch, headers={"if-match": '"1"'}).status_code == 200
    assert client.post("/api/plans/beckwater/what-if", json={"faults": [{"zone": "fells-1"}]}).status_code == 200
    assert asked == []
    end.set()
    for one in (*held, waiting):
        one.join(WAIT_S)
    assert asked == [200]
    assert client.get(progress).json() == {"reached_s": None, "waits": None}


def test_a_server_that_is_stopped_gives_up_what_it_computes(tmp_path):
    """With more drills under way and waiting than there are places; nothing is told but where it was."""
    command = [sys.executable, "-m", "northgate", "demo", "--port", "0", "--no-browser", "--data", str(tmp_path)]
    server = subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True)
    address = server.stdout.readline().split()[4]
    with httpx2.Client(base_url=address, timeout=WAIT_S) as client:
        plan = client.get("api/plans/beckwater").json()["document"]
        for number in range(6):
            # A page that flaps for days: it is not known by its rounds, as clients ask for more from minute to minute.
            plan["clients"][0] |= {"profile": [[60 * n, 1 + n % 7] for n in range(1000)], "rps": 900 + number}
            plan["drills"] = [plan["drills"][-1] | {"name": "long", "lasts_s": 60_000, "expect": []}]
            key = client.post("api/plans", json=plan | {"name": f"long-{number}"}).json()["key"]
            start(ask, f"{address}api/plans/{key}/drills/long")
        until(lambda: client.get(f"api/plans/{key}/drills/long/progress").json()["waits"])
    server.send_signal(signal.SIGINT)
    # As the shell has it: where it does not let interrupts through, there is nothing to end by.
    assert server.wait(WAIT_S) in (0, 128 + signal.SIGINT)
    assert server.stderr.read() == ""
    server.stdout.close()
    server.stderr.close()


def ask(address):
    with contextlib.suppress(httpx2.HTTPError):
        httpx2.get(address, timeout=WAIT_S)
