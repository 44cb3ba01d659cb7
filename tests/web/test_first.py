"""What is asked first is answered ahead, by another process: what the server says itself, value by value."""

import json

import pytest

from northgate.web.door.opening import prepared
from northgate.web.first import Ahead, answers_for
from northgate.web.server import _Serving
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
        answers = ahead.ask(*kept)
    assert list(answers) == [("/api/plans", ""), (PLAN, ""), (f"{PLAN}/state", "revision=1")]
    assert read(answers) == asked(client, answers)


def test_it_does_so_of_an_edited_plan(client, repository):
    patch = [{"op": "add", "path": "/title", "value": "Once edited"}]
    assert client.patch(PLAN, json=patch, headers={"if-match": '"1"'}).status_code == 200
    (head,) = repository.list()
    answers = answers_for(head, repository.document(head.key, head.revision))
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


def test_of_what_cannot_be_read_it_says_nothing(kept):
    with Ahead() as ahead, pytest.raises(EOFError):
        ahead.ask(kept[0], "no plan")


@pytest.mark.parametrize(("plans", "why"), [(0, ValueError), (2, ValueError), (1, None)])
def test_it_answers_for_the_only_plan_and_ends_whatever_there_is(repository, plans, why):
    for number in range(plans):
        repository.add(base_plan(name=f"plan-{number}"))
    ahead = Ahead()
    serving = _Serving(repository, None, ahead, bounded=False)
    serving._prepare()
    stage = serving.stages[0]
    assert why is None if stage.exception(WAIT_S) is None else isinstance(stage.exception(), why)
    assert ahead._process.poll() is not None
