"""While a server opens its page is there; what is asked of the rest waits for it."""

import threading

import pytest
from starlette.applications import Starlette
from starlette.responses import JSONResponse
from starlette.routing import Route
from starlette.testclient import TestClient

from northgate.web.door.opening import THREADS, Opening
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


@pytest.fixture
def opening(built):
    """A server that opens once `end` is set."""
    end = threading.Event()

    def load():
        assert end.wait(WAIT_S)
        return answering("/{path:path}", "the rest")

    with TestClient(Opening([load]), base_url="http://127.0.0.1") as client:
        yield client, end
        end.set()


def test_the_page_is_there_before_all_else_is_loaded(opening):
    client, end = opening
    assert client.get("/plans/beckwater/board").text == "the page"
    assert client.get("/assets/own.js").text == "the script"
    assert client.get("/assets/other.js").status_code == 404
    answered = []
    asking = threading.Thread(target=lambda: answered.append(client.get("/api/plans").json()))
    asking.start()
    assert client.get("/").text == "the page"
    assert answered == []
    end.set()
    asking.join(WAIT_S)
    assert answered == [{"who": "the rest"}]
    # From then on it answers all.
    assert client.get("/").json() == {"who": "the rest"}


def test_the_guards_stand_from_the_first_moment(opening):
    client, _ = opening
    assert client.get("/", headers={"host": "elsewhere.example"}).status_code == 421
    assert client.get("/").headers["x-frame-options"] == "DENY"


def test_a_token_is_asked_for_from_the_first_moment(built):
    end = threading.Event()
    made = Opening([lambda: end.wait(WAIT_S)], "s3cret")
    with TestClient(made, base_url="http://127.0.0.1", follow_redirects=False) as client:
        assert client.get("/").status_code == 401
        assert client.get("/?token=s3cret").status_code == 303
        assert client.get("/").text == "the page"
    end.set()


def test_where_the_rest_cannot_be_loaded_who_asks_is_told(built):
    def load():
        raise ImportError("a part is missing")

    told = pytest.raises(ImportError, match="a part is missing")
    with TestClient(Opening([load]), base_url="http://127.0.0.1") as client, told:
        client.get("/api/plans")


def test_what_a_board_asks_first_is_answered_before_all_is_loaded(built, monkeypatch):
    monkeypatch.setattr("northgate.web.door.opening.UNASKED_S", WAIT_S)
    begun, end = threading.Event(), threading.Event()

    def rest():
        begun.set()
        assert end.wait(WAIT_S)
        return answering("/{path:path}", "all")

    made = Opening([lambda: answering("/api/plans/{key}", "the first"), rest])
    with TestClient(made, base_url="http://127.0.0.1") as client:
        assert client.get("/api/plans/one").json() == {"who": "the first"}
        assert not begun.is_set()
        answered = []
        asking = threading.Thread(target=lambda: answered.append(client.get("/api/other").json()))
        asking.start()
        # Who asks for more has it loaded, and keeps nobody waiting meanwhile.
        assert begun.wait(WAIT_S)
        assert client.get("/api/plans/two").json() == {"who": "the first"}
        assert client.get("/").text == "the page"
        assert answered == []
        end.set()
        asking.join(WAIT_S)
        assert answered == [{"who": "all"}]
        assert client.get("/api/plans/one").json() == {"who": "all"}


def test_all_is_loaded_though_nobody_asks_for_more(built, monkeypatch):
    monkeypatch.setattr("northgate.web.door.opening.UNASKED_S", 0.0)
    there = threading.Event()

    def rest():
        there.set()
        return answering("/{path:path}", "all")

    with TestClient(Opening([lambda: answering("/api/plans", "the first"), rest]), base_url="http://127.0.0.1"):
        assert there.wait(WAIT_S)


def test_where_all_cannot_be_loaded_the_first_still_answers(built, monkeypatch):
    def rest():
        raise ImportError("a part is missing")

    made = Opening([lambda: answering("/api/plans", "the first"), rest])
    with TestClient(made, base_url="http://127.0.0.1") as client:
        assert client.get("/api/plans").json() == {"who": "the first"}
        with pytest.raises(ImportError, match="a part is missing"):
            client.get("/api/other")


def test_there_is_room_for_many_who_wait(opening):
    from anyio import to_thread

    client, _ = opening

    async def room():
        return to_thread.current_default_thread_limiter().total_tokens

    assert client.portal.call(room) == THREADS


def test_a_front_end_that_is_not_built_is_told_of(client, monkeypatch, tmp_path):
    monkeypatch.setattr("northgate.web.door.pages.STATIC", tmp_path)
    refused = client.get("/plans")
    assert refused.status_code == 503
    assert "make setup" in refused.json()["detail"]
