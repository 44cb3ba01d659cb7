"""What is asked first is answered before the server is there: as it says itself, value by value."""

import json
import subprocess
import sys

import pytest

from northgate.store.examples import demo_as_kept, demo_plan_text
from northgate.store.repository import Repository
from northgate.store.states import look
from northgate.web.door.opening import prepared
from northgate.web.first import first_answers
from northgate.web.server import MOST_CHARACTERS, Serving
from tests.support.plans import base_plan

PLAN = "/api/plans/beckwater"


@pytest.fixture
def file(tmp_path):
    """A store that is not there yet."""
    return tmp_path / "northgate.sqlite"


def read(answers):
    return {at: json.loads(answer) for at, answer in answers.items()}


def asked(client, answers):
    return {(path, query): client.get(path, params=query).json() for path, query in answers}


def test_it_says_what_the_server_says(client, repository):
    (head,) = repository.list()
    answers = first_answers(head, repository.document(head.key, head.revision))
    assert list(answers) == [("/api/plans", ""), (PLAN, ""), (f"{PLAN}/state", "revision=1")]
    assert read(answers) == asked(client, answers)


def test_it_does_so_of_an_edited_plan(client, repository):
    patch = [{"op": "add", "path": "/title", "value": "Once edited"}]
    assert client.patch(PLAN, json=patch, headers={"if-match": '"1"'}).status_code == 200
    (head,) = repository.list()
    answers = first_answers(head, repository.document(head.key, head.revision))
    assert (f"{PLAN}/state", "revision=2") in answers
    assert read(answers) == asked(client, answers)


def test_the_tag_is_that_which_an_edit_must_name(client, repository):
    (head,) = repository.list()
    sent = []

    async def send(message):
        sent.append(message)

    stage = prepared({(PLAN, ""): b"{}"}, head.revision, None)
    scope = {"type": "http", "method": "GET", "path": PLAN, "query_string": b"", "headers": [(b"host", b"127.0.0.1")]}
    assert stage.answers(scope)
    assert not stage.answers({**scope, "query_string": b"revision=2"})
    assert not stage.answers({**scope, "method": "DELETE"})
    client.portal.call(stage.app, scope, None, send)
    assert dict(sent[0]["headers"])[b"etag"] == client.get(PLAN).headers["etag"].encode()


def prepared_for(file, *, with_demo=False):
    """What is asked first of a server over a store: whether it is answered ahead."""
    serving = Serving(file, with_demo=with_demo)
    serving._prepare()
    return serving.stages[0].exception() is None


def test_a_new_store_is_begun_with_the_demo_which_is_answered_for(file):
    assert prepared_for(file, with_demo=True)
    only = look(file).only
    assert (only.head.key, only.document, only.source) == (*demo_as_kept(), demo_plan_text())
    # The second time it is there.
    assert prepared_for(file, with_demo=True)
    assert prepared_for(file)
    store = Repository(file)
    assert [head.key for head in store.list()] == ["beckwater"]
    store.close()


def test_without_the_demo_no_store_is_begun(file):
    assert not prepared_for(file)
    assert not file.exists()


@pytest.mark.parametrize(
    ("plans", "ahead"), [([], False), ([base_plan()], True), ([base_plan(), base_plan(name="other")], False)]
)
def test_the_only_plan_is_answered_for(file, plans, ahead):
    store = Repository(file)
    for plan in plans:
        store.add(plan)
    store.close()
    assert prepared_for(file) == ahead


def test_where_the_demo_has_a_newer_text_the_list_waits_for_it(file):
    store = Repository(file)
    store.keep(*demo_as_kept(), "an older text")
    store.close()
    assert not prepared_for(file, with_demo=True)


@pytest.mark.parametrize("document", ["no plan", "x" * (MOST_CHARACTERS + 1)])
def test_of_what_cannot_be_read_or_takes_long_nothing_is_said(file, document):
    store = Repository(file)
    store.keep("one", document)
    store.close()
    assert not prepared_for(file)


def test_until_then_no_more_is_loaded_than_it_takes(file):
    """What opens a store and what answers all else take longer to load than the answers do."""
    asked = f"""
import sys
from pathlib import Path
from northgate.web.server import Serving
serving = Serving(Path({str(file)!r}), with_demo=True)
assert not [name for name in sys.modules if name.startswith(("numpy", "pydantic", "northgate.plan.models"))]
serving._prepare()
assert serving.stages[0].result()
assert not [name for name in sys.modules if name.startswith(("sqlalchemy", "fastapi"))]
"""
    subprocess.run([sys.executable, "-c", asked], check=True)
