"""A server over an empty store, asked in process."""

import pytest
from starlette.testclient import TestClient

from northgate.store.examples import load_demo
from northgate.store.repository import Repository
from northgate.web.app import make_app


@pytest.fixture
def repository(tmp_path):
    kept = Repository(tmp_path / "plans.sqlite")
    yield kept
    kept.close()


@pytest.fixture
def client(repository):
    load_demo(repository)
    with TestClient(make_app(repository), base_url="http://127.0.0.1") as asked:
        yield asked
