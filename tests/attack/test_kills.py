"""Processes that are killed in the middle of what they do to a store: what was acknowledged is there, and is whole.

NORTHGATE_EXPLORE=1 (`make attack`) kills many more.
"""

import os
import random
import signal
import sqlite3
import subprocess
import sys
import threading
import time

import httpx2

from northgate.store.care import backup, check
from northgate.store.repository import Repository
from tests.attack.conftest import served
from tests.store.test_holding import as_of
from tests.support.exploring import EXPLORING
from tests.support.plans import base_plan, plan_data
from tests.support.tally import count
from tests.support.waits import WAIT_S

ROUNDS = 70 if EXPLORING else 2
REVISIONS = 400
CHILD = """
import datetime, sys
from pathlib import Path
from northgate.store.care import backup, restore
from northgate.store.states import known_migrations
from northgate.store.repository import Repository
import alembic.command, alembic.config
what, path, other = sys.argv[1], Path(sys.argv[2]), Path(sys.argv[3])
print("ready", flush=True)
sys.stdin.readline()
if what == "migrate":
    Repository(path).close()
elif what == "backup":
    backup(path, other)
else:
    restore(path, other, datetime.datetime(2026, 3, 1))
print("done", flush=True)
"""


def killed_after(what, path, other, seconds):
    """Has a process do something to a store, and kills it then; how long it took if it was done before (s)."""
    command = [sys.executable, "-c", CHILD, what, str(path), str(other)]
    with subprocess.Popen(command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True) as child:
        assert child.stdout.readline() == "ready\n"
        begun = time.monotonic()
        killer = threading.Timer(seconds, child.kill)
        child.stdin.write("\n")
        child.stdin.flush()
        killer.start()
        done = child.stdout.readline() == "done\n"
        took = time.monotonic() - begun
        killer.cancel()
    count("kills", kills=1, in_the_middle=int(not done))
    return took if done else None


def moments(what, make):
    """Folders as they are before, each with when to kill: spread over as long as it takes undisturbed."""
    chance = random.Random(what)
    took = killed_after(what, *make("whole"), WAIT_S)
    return [(make(f"round-{number}"), chance.uniform(0, 1.1) * took) for number in range(ROUNDS)]


def older(folder):
    """A store of an older North Gate, with many revisions."""
    folder.mkdir()
    path = folder / "northgate.sqlite"
    as_of(path, "0003")
    with sqlite3.connect(path) as store:
        store.executemany(
            "INSERT INTO revision (plan_id, number, parent, document)"
            " SELECT 1, ?, ?, document FROM revision WHERE number = 1",
            [(number, number - 1) for number in range(2, REVISIONS + 1)],
        )
    store.close()
    return path


def whole(path):
    """A store that is opened, looked through, and has all its revisions."""
    repository = Repository(path)
    plans = [repository.plan("small", number) for number in (1, REVISIONS)]
    repository.close()
    assert plans == [base_plan()] * 2
    assert not check(path).problems


def test_a_migration_that_is_killed_is_made_by_the_next(tmp_path):
    def make(name):
        return older(tmp_path / name), tmp_path / "nothing"

    for (path, _), seconds in moments("migrate", make):
        killed_after("migrate", path, path, seconds)
        whole(path)


def test_a_backup_that_is_killed_is_there_whole_or_not_at_all(tmp_path):
    def make(name):
        path = older(tmp_path / name)
        Repository(path).close()
        return path, tmp_path / name / "kept.sqlite"

    for (path, kept), seconds in moments("backup", make):
        killed_after("backup", path, kept, seconds)
        whole(path)
        if kept.exists():
            whole(kept)
        else:
            backup(path, kept)


def test_a_store_that_is_killed_while_it_is_brought_back_is_the_old_or_the_new(tmp_path):
    def make(name):
        path = older(tmp_path / name)
        Repository(path).close()
        backup(path, tmp_path / name / "kept.sqlite")
        repository = Repository(path)
        repository.set_deleted("small", deleted=True)
        repository.close()
        return path, tmp_path / name / "kept.sqlite"

    for (path, kept), seconds in moments("restore", make):
        killed_after("restore", path, kept, seconds)
        repository = Repository(path)
        assert len(repository.list()) in (0, 1)
        repository.set_deleted("small", deleted=False)
        repository.close()
        whole(path)


def edited(client, plan, revision):
    """An edit of a plan, acknowledged: the revision that it has made; None where the server is gone."""
    patch = [{"op": "replace", "path": "/notes", "value": f"edit {revision + 1}"}]
    try:
        answer = client.patch(plan, json=patch, headers={"if-match": f'"{revision}"'})
    except httpx2.TransportError:
        return None
    assert answer.status_code == 200
    return answer.json()["head"]["revision"]


def test_a_killed_server_loses_no_acknowledged_edit(tmp_path):
    """Edits pour in while the process is killed: what was acknowledged is there, whole, when it starts again."""
    with served(tmp_path) as (_, client):
        plan = f"/api/plans/{client.post('/api/plans', json=plan_data()).json()['key']}"
    acknowledged = edits = 0
    for number in range(ROUNDS * 3 if EXPLORING else ROUNDS):
        with served(tmp_path) as (process, client):
            whole = client.get(plan).json()
            revision = whole["head"]["revision"]
            assert revision >= acknowledged
            assert whole["document"].get("notes", "") in ("", f"edit {revision}")
            revision = edited(client, plan, revision)
            killer = threading.Timer(0.1 + 0.2 * (number % 7), os.kill, (process.pid, signal.SIGKILL))
            killer.start()
            while revision:
                acknowledged, edits = revision, edits + 1
                revision = edited(client, plan, revision)
            killer.join()
    with served(tmp_path) as (_, client):
        assert client.get(plan).json()["head"]["revision"] >= acknowledged > 0
    count("kills during edits", kills=number + 1, acknowledged_edits=edits, lost_edits=0)
