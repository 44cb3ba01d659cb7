"""While a server opens its page is there; what is asked of the rest waits for it."""

import queue
import threading
from concurrent.futures import Future
from threading import Thread

import pytest
from starlette.applications import Starlette
from starlette.responses import JSONResponse
from starlette.routing import Route
from starlette.testclient import TestClient

from northgate.web.door.opening import THREADS, Opening, part, prepared, whole
from tests.support.waits import WAIT_S


@pytest.fixture
def built(tmp_path, monkeypatch):
    """A front end."""
    (tmp_path / "assets").mkdir()
    (tmp_path / "index.html").write_text("the page")
    (tmp_path / "assets" / "own.js").write_text("the script")
    monkeypatch.setattr("northgate.web.door.pages.STATIC", tmp_path)


def answering(path, who):
    """An application that says who it is, at some paths."""
    return Starlette(routes=[Route(path, lambda _: JSONResponse({"who": who}))])


class Coming:
    """A server whose stages come when it is told: what is known already, a part, and the whole."""

    def __init__(self, token=None):
        self.stages = [Future() for _ in range(3)]
        self.wanted = threading.Event()
        self.app = Opening(self.stages, self.wanted, token)

    def known(self):
        answers = {("/api/plans/one", "revision=1"): b'{"who":"known"}'}
        self.stages[0].set_result(prepared(answers, 1, None))

    def some(self):
        self.stages[1].set_result(part(answering("/api/plans/{key}", "the part")))

    def all(self):
        app = Starlette(routes=[Route("/{path:path}", lambda _: JSONResponse({"who": "all"}), methods=["GET", "POST"])])
        self.stages[2].set_result(whole(app))


@pytest.fixture
def coming(built):
    return Coming()


@pytest.fixture
def client_of(coming):
    with TestClient(coming.app, base_url="http://127.0.0.1") as client:
        yield client
        if not coming.stages[2].done():
            coming.all()


@pytest.fixture
def ask(client_of):
    """Asks in the background: what is answered comes to a queue."""

    def asking(method, path):
        answers = queue.Queue()
        Thread(target=lambda: answers.put(client_of.request(method, path).json()), daemon=True).start()
        return answers

    return asking


def test_the_page_is_there_before_all_else_is_loaded(coming, client_of, ask):
    assert client_of.get("/plans/beckwater/board").text == "the page"
    assert client_of.get("/assets/own.js").text == "the script"
    assert client_of.get("/assets/other.js").status_code == 404
    answers = ask("GET", "/api/plans")
    assert client_of.get("/").text == "the page"
    assert answers.empty()
    coming.all()
    assert answers.get(timeout=WAIT_S) == {"who": "all"}
    # From then on it answers all that is asked.
    assert client_of.get("/api/more").json() == {"who": "all"}
    assert client_of.get("/").text == "the page"


def test_what_a_page_loads_is_read_once_and_for_ever(built, client_of, tmp_path):
    first = client_of.get("/assets/own.js")
    assert "immutable" in first.headers["cache-control"]
    (tmp_path / "assets" / "own.js").unlink()
    again = client_of.get("/assets/own.js")
    assert (again.text, again.headers["content-type"]) == ("the script", first.headers["content-type"])
    known = client_of.get("/assets/own.js", headers={"if-none-match": first.headers["etag"]})
    assert (known.status_code, known.text) == (304, "")
    assert client_of.post("/assets/own.js").status_code == 405
    assert client_of.get("/assets/../index.html").text == "the page"
    assert client_of.get("/assets/%2e%2e/index.html").status_code == 404


def test_the_page_itself_is_read_each_time(built, client_of, tmp_path):
    assert client_of.get("/plans").headers["cache-control"] == "no-cache"
    (tmp_path / "index.html").write_text("a newer page")
    assert client_of.get("/plans").text == "a newer page"
    assert client_of.get("/icon.svg").status_code == 503
    (tmp_path / "icon.svg").write_text("<svg/>")
    assert client_of.get("/icon.svg").headers["content-type"].startswith("image/svg+xml")


def test_what_is_asked_first_is_answered_as_soon_as_anybody_can(coming, client_of, ask):
    first, other = ask("GET", "/api/plans/one?revision=1"), ask("GET", "/api/plans/two")
    coming.known()
    assert first.get(timeout=WAIT_S) == {"who": "known"}
    assert client_of.get("/api/plans/one?revision=1").headers["etag"] == '"1"'
    assert other.empty()
    coming.some()
    assert other.get(timeout=WAIT_S) == {"who": "the part"}
    assert not coming.wanted.is_set()
    # Who asks for more has it loaded, and keeps nobody waiting meanwhile.
    more = ask("GET", "/api/more")
    assert coming.wanted.wait(WAIT_S)
    assert client_of.get("/api/plans/two").json() == {"who": "the part"}
    assert client_of.get("/").text == "the page"
    coming.all()
    assert more.get(timeout=WAIT_S) == {"who": "all"}


def test_after_a_change_only_who_knows_of_it_answers(coming, client_of, ask):
    coming.known()
    coming.some()
    changed = ask("POST", "/api/plans/one")
    assert coming.wanted.wait(WAIT_S)
    read = ask("GET", "/api/plans/one?revision=1")
    coming.all()
    assert changed.get(timeout=WAIT_S) == {"who": "all"}
    assert read.get(timeout=WAIT_S) == {"who": "all"}


def test_what_cannot_be_known_before_is_answered_by_those_who_come_after(coming, client_of, ask):
    answers = ask("GET", "/api/plans/one?revision=1")
    coming.stages[0].set_exception(EOFError())
    coming.some()
    assert answers.get(timeout=WAIT_S) == {"who": "the part"}


def test_the_guards_stand_from_the_first_moment(coming, client_of):
    coming.known()
    for path in ("/", "/api/plans/one?revision=1"):
        assert client_of.get(path, headers={"host": "elsewhere.example"}).status_code == 421
        assert client_of.get(path).headers["x-frame-options"] == "DENY"


def test_a_token_is_asked_for_from_the_first_moment(built):
    coming = Coming("s3cret")
    coming.stages[0].set_result(prepared({("/api/plans/one", ""): b"{}"}, 1, "s3cret"))
    with TestClient(coming.app, base_url="http://127.0.0.1", follow_redirects=False) as client:
        assert client.get("/").status_code == 401
        assert client.get("/api/plans/one").status_code == 401
        assert client.get("/?token=s3cret").status_code == 303
        assert client.get("/").text == "the page"
        assert client.get("/api/plans/one").json() == {}


def test_where_the_rest_cannot_be_loaded_who_asks_is_told(coming, client_of):
    coming.known()
    for stage in coming.stages[1:]:
        stage.set_exception(ImportError("a part is missing"))
    assert client_of.get("/api/plans/one?revision=1").json() == {"who": "known"}
    with pytest.raises(ImportError, match="a part is missing"):
        client_of.get("/api/plans")


def test_there_is_room_for_many_who_wait(client_of):
    from anyio import to_thread

    async def room():
        return to_thread.current_default_thread_limiter().total_tokens

    assert client_of.portal.call(room) == THREADS


def test_a_front_end_that_is_not_built_is_told_of(built, client_of, tmp_path):
    (tmp_path / "index.html").unlink()
    refused = client_of.get("/plans")
    assert refused.status_code == 503
    assert "make setup" in refused.json()["detail"]
