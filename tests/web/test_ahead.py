"""The demo's first answers are made when North Gate is set up, and hold until something changes."""

import json
import os
import subprocess
import sys
from pathlib import Path

import pytest
from anyio.from_thread import start_blocking_portal

from northgate.store.examples import demo_as_kept, demo_plan_text
from northgate.store.repository import Repository
from northgate.store.states import look
from northgate.web.door import ahead
from northgate.web.first import first_answers
from northgate.web.server import Serving


@pytest.fixture(scope="module")
def made(tmp_path_factory):
    file = tmp_path_factory.mktemp("ahead") / "ahead.json"
    ahead.make(file)
    return file


@pytest.fixture
def demo_store(tmp_path):
    file = tmp_path / "northgate.sqlite"
    store = Repository(file)
    store.keep(*demo_as_kept(), demo_plan_text())
    store.close()
    return file


def test_they_are_those_that_a_server_of_the_demo_would_compute(made, demo_store, client):
    found, only = ahead.made_ahead(demo_plan_text(), made), look(demo_store).only
    assert (found.name, found.document) == demo_as_kept()
    answers = found.answers_for(only.head, only.document)
    assert answers.items() >= first_answers(only.head, only.document).items()
    asked = {(path, query): client.get(path, params=query).content for path, query in answers}
    assert answers == asked
    assert any("/drills/" in path for path, _ in answers)


def test_where_a_question_is_refused_nothing_is_made():
    async def refuse(scope, receive, send):
        await send({"type": "http.response.start", "status": 503})

    with start_blocking_portal() as elsewhere, pytest.raises(ValueError, match="/api/plans answers 503"):
        elsewhere.call(ahead._answer, refuse, "/api/plans")


def test_of_an_edited_plan_nothing_was_made(made, demo_store):
    only = look(demo_store).only
    store = Repository(demo_store)
    plan = store.plan(only.head.key, 1)
    store.edit(only.head.key, 1, plan.model_copy(update={"title": "Once edited"}))
    store.close()
    edited = look(demo_store).only
    found = ahead.made_ahead(demo_plan_text(), made)
    assert found.answers_for(edited.head, edited.document) is None
    assert found.answers_for(only.head, edited.document) is None


def test_they_hold_until_the_demo_changes(made):
    assert ahead.made_ahead(demo_plan_text() + "\n", made) is None


@pytest.mark.parametrize("change", ["touched", "longer", "new", "gone"])
def test_they_hold_until_a_module_changes(made, tmp_path, monkeypatch, change):
    package = tmp_path / "package"
    (package / "room" / "__pycache__").mkdir(parents=True)
    module, file = package / "room" / "module.py", tmp_path / "ahead.json"
    module.write_text("ONE = 1\n")
    monkeypatch.setattr(ahead, "PACKAGE", package)
    file.write_text(json.dumps(json.loads(made.read_bytes()) | {"modules": ahead._modules()}))
    assert ahead.made_ahead(demo_plan_text(), file)
    (package / "room" / "__pycache__" / "module.py").touch()
    assert ahead.made_ahead(demo_plan_text(), file)
    _change(module, change)
    assert ahead.made_ahead(demo_plan_text(), file) is None


def _change(module: Path, how: str) -> None:
    seen = module.stat()
    match how:
        case "touched":
            os.utime(module, ns=(seen.st_atime_ns, seen.st_mtime_ns + 1))
        case "longer":
            module.write_text("ONE = 10\n")
            os.utime(module, ns=(seen.st_atime_ns, seen.st_mtime_ns))
        case "new":
            module.with_name("another.py").touch()
        case "gone":
            module.unlink()


@pytest.mark.parametrize("text", ["", "[]", "{}", '{"modules": 1', "\0"])
def test_what_cannot_be_read_was_not_made(tmp_path, text):
    file = tmp_path / "ahead.json"
    file.write_text(text)
    assert ahead.made_ahead(demo_plan_text(), file) is None
    assert ahead.made_ahead(demo_plan_text(), tmp_path / "nowhere.json") is None


def test_what_lacks_something_was_not_made(made, tmp_path):
    whole = json.loads(made.read_bytes())
    for name in whole:
        file = tmp_path / f"{name}.json"
        file.write_text(json.dumps({key: value for key, value in whole.items() if key != name}))
        assert ahead.made_ahead(demo_plan_text(), file) is None


def test_a_new_server_of_the_demo_answers_with_them_before_it_loads_what_computes(made, tmp_path):
    """The store that it begins is the one that it begins without them."""
    code = f"""
import sys
from pathlib import Path
from northgate.web import server
found = server.made_ahead(server.demo_plan_text(), Path({str(made)!r}))
server.made_ahead = lambda _: found
serving = server.Serving(Path({str(tmp_path / "one.sqlite")!r}), with_demo=True)
serving._prepare()
assert serving.stages[0].result()
assert not [name for name in sys.modules if name.startswith(("numpy", "pydantic", "northgate.engine"))]
"""
    subprocess.run([sys.executable, "-c", code], check=True)
    begun = look(tmp_path / "one.sqlite")
    assert begun.usual
    assert (begun.only.head.key, begun.only.document, begun.only.source) == (*demo_as_kept(), demo_plan_text())


def test_without_them_it_computes(tmp_path, monkeypatch):
    monkeypatch.setattr("northgate.web.server.made_ahead", lambda _: None)
    serving = Serving(tmp_path / "one.sqlite", with_demo=True)
    serving._prepare()
    assert serving.stages[0].result()
    assert look(tmp_path / "one.sqlite").only.document == demo_as_kept()[1]
