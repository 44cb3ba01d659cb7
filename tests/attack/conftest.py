"""A server that is attacked: as a process of its own, or asked in this one."""

import contextlib
import subprocess
import sys

import httpx2
import pytest
from starlette.testclient import TestClient

from northgate.store.repository import Repository
from northgate.web.app import make_app
from tests.support.plans import plan_data
from tests.support.waits import WAIT_S


@pytest.fixture
def asked(tmp_path):
    """A server that answers what goes wrong within, too, and the key of a small plan with a drill."""
    repository = Repository(tmp_path / "plans.sqlite")
    with TestClient(make_app(repository), base_url="http://127.0.0.1", raise_server_exceptions=False) as client:
        drill = {"name": "lose", "lasts_s": 60, "steps": [{"at_s": 10, "fail": {"zone": "fells-1"}}]}
        key = client.post("/api/plans", json=plan_data(drills=[drill])).json()["key"]
        yield client, key
    repository.close()


@contextlib.contextmanager
def served(folder):
    """A process that serves a folder, and who asks it."""
    command = [sys.executable, "-m", "northgate", "serve", "--port", "0", "--no-browser", "--data", str(folder)]
    with subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True) as process:
        with httpx2.Client(base_url=process.stdout.readline().split()[4], timeout=WAIT_S) as client:
            yield process, client
        process.terminate()
        said = process.stderr.read()
    # Nothing that was asked has ended in a traceback.
    assert "Traceback" not in said
