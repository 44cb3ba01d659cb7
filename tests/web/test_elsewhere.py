"""What-ifs and traces are answered by another process: the same answers, and its end is none of the server."""

import datetime
import os
import signal
import threading
import time

import pytest

from northgate.engine.base import CannotRun
from northgate.engine.drill import Losing, run_drill, undisturbed
from northgate.engine.network import compile_network
from northgate.engine.reports import what_if
from northgate.engine.trace import History, Question, trace, trace_probe
from northgate.plan import plan_from_text
from northgate.plan.models.faults import Part
from northgate.review import review
from northgate.store.examples import demo_plan_text
from northgate.web import computing, tasks
from northgate.web.computing import Computer
from northgate.web.deciding import tasks as tasks_of_judges
from northgate.web.waiting import answers
from northgate.web.waiting.leaving import Abandoned, _gone
from northgate.work import processes, spreading
from northgate.work.processes import Workers
from tests.support.waits import WAIT_S

URL = "https://www.beckwater.example/tiles/1"
WHAT_IF = "/api/plans/beckwater/what-if"
MIB = 2**20
FORESEE = Computer._foresee_soon


@pytest.fixture(scope="module")
def network():
    return compile_network(plan_from_text(demo_plan_text()))


@pytest.fixture(autouse=True)
def warmed(client, monkeypatch):
    """The processes that compute are there; nothing is foreseen that nobody asks for."""
    monkeypatch.setattr(Computer, "_foresee_soon", lambda *_: None)
    client.app.state.computer.warmed.set()


@pytest.fixture
def one(monkeypatch):
    """A process of its own for what is quick."""
    workers = Workers(1)
    monkeypatch.setattr(processes, "_SHORT", workers)
    yield workers
    workers.kill()


def until(true):
    end = time.monotonic() + WAIT_S
    while not true():
        assert time.monotonic() < end
        time.sleep(0.01)


def own_process(*given):
    return os.getpid()


def endless(told):
    while True:
        told()
        time.sleep(0.01)


def large(told):
    return sum(bytearray(1024 * MIB))


def has(text, told):
    """Whether a plan is ready here: to ask for it finds it."""
    before = spreading._prepared.cache_info().hits
    tasks.foresee(text, told)
    return spreading._prepared.cache_info().hits > before


def held(told):
    """How many plans are ready here."""
    return spreading._prepared.cache_info().currsize


def test_a_what_if_is_answered_as_the_engine_does(client, network):
    lost = {"faults": [{"zone": "fells-2"}], "groups": ["tiles"]}
    expected = what_if(Losing(network), [Part(zone="fells-2")], ["tiles"])
    assert client.post(WHAT_IF, json=lost).json() == expected.model_dump(mode="json", by_alias=True)
    added = what_if(Losing(network), [Part(instance="tiles-1")], ["tiles"], change="added")
    asked = {"faults": [{"instance": "tiles-1"}], "groups": ["tiles"], "change": "added"}
    assert client.post(WHAT_IF, json=asked).json() == added.model_dump(mode="json", by_alias=True)


@pytest.mark.parametrize("second", [65, 90, 400])
def test_a_trace_at_a_second_of_a_drill_knows_what_happened_before(client, network, second):
    drill = next(drill for drill in network.plan.drills if drill.name == "lose-fells-2")
    run = run_drill(network, drill)
    flow = run.flow_at(second)
    now = Question(url=URL, client="townsfolk", times=20, today=datetime.date.today())
    at = {"drill": drill.name, "at_s": second}
    asked = client.post("/api/plans/beckwater/trace", json={"url": URL, "client": "townsfolk", "times": 20, **at})
    expected = trace(flow, now, History(flow, run, second))
    assert asked.json() == expected.model_dump(mode="json", by_alias=True)
    probe = {"probe_group": "tiles", "probe_target": "tiles-5"}
    expected = trace_probe(flow, "tiles", "tiles-5", None, History(flow, run, second))
    asked = client.post("/api/plans/beckwater/trace", json={**probe, **at})
    assert asked.json() == expected.model_dump(mode="json", by_alias=True)


def test_a_plan_of_many_machines_is_compiled_and_solved_elsewhere(client, monkeypatch):
    here = client.get("/api/plans/beckwater/state").json()
    # Another content, of which nothing is kept.
    monkeypatch.setattr(computing, "MANY", 1)
    for broken in ("compile_network", "undisturbed"):
        monkeypatch.setattr(computing, broken, None)
    plan = client.get("/api/plans/beckwater").json()["document"]
    key = client.post("/api/plans", json=plan | {"name": "many"}).json()["key"]
    assert client.get(f"/api/plans/{key}/state").json() == here
    computer = client.app.state.computer
    # The plan as it is compiled is there once.
    assert computer.settled(key, None).network is computer.network(key, None)


def test_findings_are_judged_elsewhere(client, network, one):
    expected = review(network.plan, datetime.date.today(), None, lambda: undisturbed(network))
    found = client.get("/api/plans/beckwater/findings").json()
    assert found == expected.model_dump(mode="json", by_alias=True)
    assert found["findings"]
    assert one.row.all[0]._process is not None


def edited(client, url, revision, path, value):
    patch = [{"op": "replace", "path": path, "value": value}]
    assert client.patch(url, json=patch, headers={"if-match": f'"{revision}"'}).status_code == 200


def test_what_has_been_judged_is_judged_no_second_time(client, monkeypatch):
    """Neither a copy, nor what an edit makes what it was before."""
    judged, reviewed = [], tasks_of_judges.reviewed
    monkeypatch.setattr(tasks_of_judges, "reviewed", lambda *given: judged.append(given) or reviewed(*given))
    client.app.state.computer.warmed.clear()
    url = "/api/plans/beckwater"
    before, plan = client.get(f"{url}/findings").json(), client.get(url).json()["document"]
    copy = client.post("/api/plans", json=plan).json()["key"]
    assert client.get(f"/api/plans/{copy}/findings").json() == before
    assert len(judged) == 1
    edited(client, url, 1, "/probes/0/interval_s", 31)
    assert client.get(f"{url}/findings").json() != before
    edited(client, url, 2, "/probes/0/interval_s", plan["probes"][0]["interval_s"])
    assert client.get(f"{url}/findings").json() == before
    assert len(judged) == 2


def test_nothing_is_foreseen_of_what_has_been_edited_on(client, monkeypatch):
    foreseen, computer = [], client.app.state.computer
    monkeypatch.setattr(computer, "quickly", lambda _, plan: foreseen.append(plan.clients[0].rps))
    url = "/api/plans/beckwater"
    for revision, rps in ((1, 100), (2, 200)):
        edited(client, url, revision, "/clients/0/rps", rps)
    for number in (1, 2, 3, 3):
        computer._foresee("beckwater", number)
    computer._foresee("nothing", 1)
    assert foreseen == [200]


def test_a_part_that_is_not_in_the_plan_is_told_with_its_place(client):
    refused = client.post(WHAT_IF, json={"faults": [{"zone": "fels-2"}]})
    assert refused.status_code == 409
    assert "fells-2" in refused.json()["problems"][0]["message"]


def test_neither_is_computed_by_the_server(client, monkeypatch, one):
    """Where its own engine is broken, they are answered."""

    def broken(*_):
        raise AssertionError("computed here")

    monkeypatch.setattr(tasks, "what_if", broken)
    monkeypatch.setattr(tasks, "trace", broken)
    assert client.post(WHAT_IF, json={"faults": [{"zone": "fells-2"}]}).status_code == 200
    assert client.post("/api/plans/beckwater/trace", json={"url": URL}).status_code == 200


def test_before_there_are_other_processes_it_answers_itself(client, monkeypatch, one):
    """In the first seconds; and stops then, too, once it takes too long or who asked has left."""
    computer = client.app.state.computer
    computer.warmed.clear()
    assert computer.quickly(own_process) == os.getpid()
    assert client.post(WHAT_IF, json={"faults": [{"zone": "fells-2"}]}).status_code == 200
    monkeypatch.setattr(answers, "MOST_QUICK_S", 0.2)
    with pytest.raises(CannotRun, match=r"given up after 0\.2 s"):
        computer.quickly(endless)
    left = threading.Event()
    left.set()
    _gone.set(left)
    try:
        with pytest.raises(Abandoned):
            computer.quickly(endless)
    finally:
        _gone.set(None)


def test_what_takes_too_much_memory_is_told_and_the_next_is_answered(client, monkeypatch):
    computer = client.app.state.computer
    monkeypatch.setattr(processes, "most_bytes", lambda: 512 * MIB)
    few = Workers(1)
    monkeypatch.setattr(processes, "_SHORT", few)
    try:
        with pytest.raises(CannotRun, match=r"more than 0\.5 GiB of memory"):
            computer.quickly(large)
        assert client.post(WHAT_IF, json={"faults": [{"zone": "fells-2"}]}).status_code == 200
    finally:
        few.kill()


def test_what_is_not_quick_is_given_up(client, monkeypatch, one):
    monkeypatch.setattr(answers, "MOST_QUICK_S", 0.2)
    with pytest.raises(CannotRun, match=r"given up after 0\.2 s"):
        client.app.state.computer.quickly(endless)


def test_it_stops_once_who_asked_has_left(client, one):
    left = threading.Event()
    _gone.set(left)
    threading.Timer(0.2, left.set).start()
    try:
        with pytest.raises(Abandoned):
            client.app.state.computer.quickly(endless)
    finally:
        _gone.set(None)


def test_its_process_may_be_killed(client, one):
    computer = client.app.state.computer
    pid = computer.quickly(own_process)
    assert pid != os.getpid()
    killer = threading.Timer(0.2, os.kill, (pid, signal.SIGKILL))
    killer.start()
    with pytest.raises(CannotRun, match="was ended from outside"):
        computer.quickly(endless)
    assert client.post(WHAT_IF, json={"faults": [{"zone": "fells-2"}]}).status_code == 200
    assert computer.quickly(own_process) != pid


def test_no_more_than_so_many_wait_for_it(client, one):
    left, one.row.most_waiting = threading.Event(), 2

    def hold():
        _gone.set(left)
        with pytest.raises(Abandoned):
            client.app.state.computer.quickly(endless)

    held = [threading.Thread(target=hold) for _ in range(3)]
    for thread in held:
        thread.start()
    until(lambda: len(one.row._waiting) == 2)
    refused = client.post(WHAT_IF, json={"faults": [{"zone": "fells-2"}]})
    assert refused.status_code == 503
    assert refused.json()["detail"] == "3 questions are computed before this one; ask again later"
    left.set()
    for thread in held:
        thread.join(WAIT_S)
    assert client.post(WHAT_IF, json={"faults": [{"zone": "fells-2"}]}).status_code == 200


def test_who_looks_at_a_plan_finds_it_ready_for_what_he_asks_next(client, one, monkeypatch):
    monkeypatch.setattr(Computer, "_foresee_soon", FORESEE)
    computer = client.app.state.computer
    plan = client.get("/api/plans/beckwater").json()["document"]
    key = client.post("/api/plans", json=plan | {"name": "looked-at"}).json()["key"]
    text = computer.plan(key).model_dump_json(by_alias=True)
    assert client.get(f"/api/plans/{key}/state").status_code == 200
    until(lambda: computer.quickly(held) == 1)
    assert computer.quickly(has, text)
    assert not computer.quickly(has, text.replace("looked-at", "never-seen"))
