"""What the API's own description lets ask for, asked of it: every answer is one that it documents, and looks like it.

NORTHGATE_EXPLORE=1 (`make attack`) asks many more.
"""

import pytest
from hypothesis import HealthCheck, Phase, given, settings
from starlette.testclient import TestClient

from northgate.store.repository import Repository
from northgate.web.app import make_app
from northgate.web.openapi import described
from tests.attack.test_questions import ALWAYS
from tests.support.exploring import examples
from tests.support.plans import plan_data
from tests.support.tally import answered

DRILL = {"name": "lose", "lasts_s": 60, "steps": [{"at_s": 10, "fail": {"zone": "fells-1"}}]}
# What parameters are called in the plan that is asked about.
REAL = {"drill": "lose", "kind": "json", "code": "empty", "name": "start"}


@pytest.fixture(scope="module")
def client(tmp_path_factory):
    repository = Repository(tmp_path_factory.mktemp("store") / "plans.sqlite")
    with TestClient(make_app(repository), base_url="http://127.0.0.1", raise_server_exceptions=False) as made:
        yield made
    repository.close()


def operations():
    """All that the description lets ask for. What reads it is loaded by whoever asks: that takes longer than all other
    tests to find."""
    import schemathesis

    return [one.ok() for one in schemathesis.openapi.from_dict(described()).get_all_operations()]


def test_what_is_described_is_answered_as_described(client, subtests):
    described_ones = operations()
    assert len(described_ones) > 60
    for operation in described_ones:
        with subtests.test(operation.label):
            answered("OpenAPI", ask(client, operation))
            assert client.get("/api/plans").status_code == 200


def ask(client, operation):
    """The answers to some questions of an operation; each is one that it documents, and looks like it."""
    import requests
    from schemathesis.core.transport import Response
    from schemathesis.specs.openapi.checks import response_schema_conformance

    real = REAL | {"key": client.post("/api/plans", json=plan_data(drills=[DRILL])).json()["key"]}
    documented = {int(one) for one in operation.definition.raw["responses"]} | ALWAYS
    answers = []

    @settings(max_examples=examples(3), database=None, suppress_health_check=list(HealthCheck), phases=[Phase.generate])
    @given(case=operation.as_strategy())
    def asked(case):
        # Where there is such a thing, of the one that is there: else nearly all would be refused as unknown.
        case.path_parameters = {name: real.get(name, given) for name, given in (case.path_parameters or {}).items()}
        sent = requests.Request(**case.as_transport_kwargs(base_url="http://127.0.0.1")).prepare()
        answer = client.request(sent.method, sent.url, headers=dict(sent.headers), content=sent.body)
        answers.append(answer)
        assert answer.status_code in documented, answer.text[:300]
        if answer.status_code < 300:
            case.validate_response(Response.from_any(answer), checks=[response_schema_conformance])

    asked()
    return answers
