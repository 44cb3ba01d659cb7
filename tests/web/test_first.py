"""What is asked first is answered ahead, by another process: what the server says itself, value by value."""

import json

import pytest

from northgate.store.examples import demo_as_kept, demo_plan_text
from northgate.store.head import Head
from northgate.store.states import Only, Seen, look
from northgate.web.door.opening import prepared
from northgate.web.first import MOST_CHARACTERS, Ahead, Known, ahead_of
from northgate.web.server import Serving
from tests.support.plans import base_plan
from tests.support.waits import WAIT_S

PLAN = "/api/plans/beckwater"


@pytest.fixture
def kept(client, repository):
    """The demo as it is kept."""
    (head,) = repository.list()
    return head, repository.document(head.key, head.revision)


def read(answers):
    return {at: json.loads(answer) for at, answer in answers.items()}


def asked(client, answers):
    return {(path, query): client.get(path, params=query).json() for path, query in answers}


def test_another_process_says_what_the_server_says(client, kept):
    with Ahead() as ahead:
        answers = ahead.answers(*kept)
    assert list(answers) == [("/api/plans", ""), (PLAN, ""), (f"{PLAN}/state", "revision=1")]
    assert read(answers) == asked(client, answers)


def test_it_does_so_of_an_edited_plan(client, repository):
    patch = [{"op": "add", "path": "/title", "value": "Once edited"}]
    assert client.patch(PLAN, json=patch, headers={"if-match": '"1"'}).status_code == 200
    (head,) = repository.list()
    answers = Known(head.key, repository.document(head.key, head.revision)).answers(head)
    assert (f"{PLAN}/state", "revision=2") in answers
    assert read(answers) == asked(client, answers)


def test_the_tag_is_that_which_an_edit_must_name(client, kept):
    head, _ = kept
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


def test_the_demo_is_read_ahead_and_answered_for_as_it_was_kept(client, kept):
    head, document = kept
    with Ahead(reads_demo=True) as ahead:
        assert ahead.demo() == demo_as_kept() == ("beckwater", document)
        answers = ahead.answers(head, document)
    assert read(answers) == asked(client, answers)


def test_where_another_plan_was_kept_it_answers_for_that(client, repository):
    repository.set_deleted("beckwater", deleted=True)
    other = repository.add(base_plan(name="another"))
    with Ahead(reads_demo=True) as ahead:
        ahead.demo()
        answers = ahead.answers(other, repository.document("another", 1))
    assert ("/api/plans/another/state", "revision=1") in answers
    assert read(answers) == asked(client, answers)


def test_of_what_cannot_be_read_it_says_nothing(kept):
    with Ahead() as ahead, pytest.raises(EOFError):
        ahead.answers(kept[0], "no plan")


def kept_alone(characters=9, source=None):
    """What is seen of a store with one plan."""
    head = Head("one", revision=1, agreed=None, can_undo=False, can_redo=False, edits=0)
    return Seen(usual=True, only=Only(head, "x" * characters, source))


@pytest.mark.parametrize(
    ("seen", "with_demo", "answers"),
    [
        (Seen(usual=True), False, False),
        (Seen(usual=True), True, False),
        (kept_alone(), False, True),
        (kept_alone(MOST_CHARACTERS + 1), False, False),
        # The demo has another text by now: it comes into the list.
        (kept_alone(source="an older text"), True, False),
        (kept_alone(source=demo_plan_text()), True, True),
    ],
)
def test_of_a_store_that_is_there_it_is_asked_where_it_can_answer_sooner(tmp_path, seen, with_demo, answers):
    (tmp_path / "northgate.sqlite").touch()
    with ahead_of(tmp_path / "northgate.sqlite", seen, with_demo=with_demo) as ahead:
        assert (ahead is not None) == answers
        assert ahead is None or not ahead.reads_demo


@pytest.mark.parametrize("with_demo", [False, True])
def test_a_store_that_is_not_there_yet_is_begun_with_the_demo_alone(tmp_path, with_demo):
    file = tmp_path / "northgate.sqlite"
    with ahead_of(file, look(file), with_demo=with_demo) as ahead:
        assert (ahead is not None) == with_demo
        serving = Serving(file, look(file), ahead, with_demo=with_demo)
        serving._prepare()
    if with_demo:
        assert serving.stages[0].exception() is None
        beckwater = Head("beckwater", revision=1, agreed=None, can_undo=False, can_redo=False, edits=0)
        assert look(file).only == Only(beckwater, demo_as_kept()[1], demo_plan_text())
    else:
        assert isinstance(serving.stages[0].exception(), LookupError)
        assert not file.exists()


def test_whoever_is_asked_ends_whatever_there_is(repository, tmp_path, kept):
    for wrong in ("no plan", kept[1]):
        ahead = Ahead()
        serving = Serving(tmp_path / "other.sqlite", Seen(usual=True, only=Only(kept[0], wrong, None)), ahead)
        serving._prepare()
        assert (serving.stages[0].exception(WAIT_S) is None) == (wrong == kept[1])
        assert ahead._process.poll() is not None
