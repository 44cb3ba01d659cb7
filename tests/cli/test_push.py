"""Handing a plan file to a North Gate that is running."""

import json
import subprocess
import sys
from contextlib import contextmanager

import pytest
from typer.testing import CliRunner

from northgate.cli import app
from northgate.plan import PlanError
from tests.support.plans import plan_data


@contextmanager
def served(data, *options):
    """A server over a folder: its address, as it is told."""
    command = [sys.executable, "-m", "northgate", "serve", "--port", "0", "--no-browser", "--data", str(data), *options]
    process = subprocess.Popen(command, stdout=subprocess.PIPE, text=True)
    yield process.stdout.readline().split()[4]
    process.terminate()
    process.wait()
    process.stdout.close()


@pytest.fixture(scope="module")
def server(tmp_path_factory):
    with served(tmp_path_factory.mktemp("data")) as address:
        yield address


def test_a_private_server_takes_plans_of_who_has_its_token(tmp_path):
    path = tmp_path / "small.plan.json"
    path.write_text(json.dumps(plan_data()))
    with served(tmp_path / "data", "--private") as told:
        address, token = told.split("?token=")
        refused = push(path, address)
        assert isinstance(refused.exception, PlanError)
        assert "Only for who has its token" in str(refused.exception)
        assert "new, revision 1" in push(path, address, "--token", token).output
        assert "updated" in CliRunner().invoke(
            app, ["push", str(path), "--to", address], env={"NORTHGATE_TOKEN": token}
        ).output  # fmt: skip


def push(path, server, *options):
    return CliRunner().invoke(app, ["push", str(path), "--to", server, *options])


def test_a_plan_is_new_the_first_time_and_updated_the_second(tmp_path, server):
    path = tmp_path / "small.plan.json"
    path.write_text(json.dumps(plan_data()))
    assert push(path, server).output == "small: new, revision 1\n"
    data = plan_data()
    data["probes"][0]["interval_s"] = 20
    path.write_text(json.dumps(data))
    told = json.loads(push(path, f"{server}plans/small/board", "--json").output)
    assert told == {"key": "small", "revision": 2, "created": False, "changes": ["probe ready: every 20 s, was 10 s"]}


@pytest.mark.parametrize(
    ("address", "words"),
    [("127.0.0.1:1", "is not the URL of a server"), ("http://127.0.0.1:1", "nothing answers as North Gate")],
)
def test_where_there_is_no_server_that_is_told(tmp_path, address, words):
    path = tmp_path / "small.plan.json"
    path.write_text(json.dumps(plan_data()))
    told = push(path, address)
    assert isinstance(told.exception, PlanError)
    assert words in str(told.exception)
