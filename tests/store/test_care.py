"""Looking after the store: checked, copied, brought back."""

import datetime
import sqlite3

import pytest

from northgate.store.care import backup, check, restore
from northgate.store.holding import LOCK
from northgate.store.repository import Repository
from northgate.store.states import StoreError
from tests.support.plans import base_plan

NOW = datetime.datetime(2026, 3, 1, 12, 30, 5)


@pytest.fixture
def path(tmp_path):
    made = tmp_path / "data" / "northgate.sqlite"
    repository = Repository(made)
    repository.add(base_plan(), "the text")
    repository.edit("small", 1, base_plan())
    repository.close()
    return made


def changed(path, statement):
    with sqlite3.connect(path) as store:
        store.execute(statement)
    store.close()


def keys(path):
    repository = Repository(path)
    try:
        return [head.key for head in repository.list()]
    finally:
        repository.close()


def test_a_whole_store_has_no_problems(path):
    health = check(path)
    assert (health.plans, health.revisions, health.problems) == (1, 2, ())


def test_a_ruined_store_is_not_opened(path):
    path.write_bytes(b"ruined" * 1000)
    with pytest.raises(StoreError, match=r"northgate\.sqlite cannot be used: file is not a database"):
        Repository(path)


def test_what_is_wrong_is_told_by_plan(path):
    changed(path, "UPDATE revision SET document = '{\"northgate\": 1' WHERE number = 2")
    (said,) = check(path).problems
    assert said.startswith("plan small: its current revision 2 cannot be read")
    changed(path, "UPDATE plan SET current = 7")
    assert check(path).problems == ("plan small: its current revision 7 is not there",)


def test_a_revision_of_no_plan_is_told(path):
    changed(path, "DELETE FROM plan")
    assert len(check(path).problems) == 2
    assert "belongs to a plan that is not there" in check(path).problems[0]


def test_a_damaged_file_is_told(path):
    content = bytearray(path.read_bytes())
    content[4096 * 2 : 4096 * 3] = b"\xff" * 4096
    path.write_bytes(content)
    with pytest.raises(StoreError):
        backup(path, path.with_name("copy"))
    assert not path.with_name("copy").exists()


@pytest.mark.parametrize("content", [b"", b"no database, but some words" * 40])
def test_what_is_no_store_is_refused(path, content):
    path.write_bytes(content)
    with pytest.raises(StoreError, match=r"no store of plans|cannot be read"):
        check(path)


def test_a_missing_store_is_not_made(tmp_path):
    with pytest.raises(StoreError, match="there is no store at"):
        check(tmp_path / "northgate.sqlite")
    assert list(tmp_path.iterdir()) == []


def test_a_store_of_a_newer_north_gate_is_refused(path):
    changed(path, "UPDATE alembic_version SET version_num = '9999'")
    with pytest.raises(StoreError, match="newer North Gate"):
        check(path)


def test_a_backup_is_made_while_the_store_is_used_and_is_one_file(path, tmp_path):
    repository = Repository(path)
    repository.add(base_plan())
    copy = tmp_path / "copies" / "monday"
    health = backup(path, copy)
    repository.add(base_plan())
    repository.close()
    assert health.plans == 2
    assert [found.name for found in copy.parent.iterdir()] == ["monday"]
    assert keys(copy) == ["small", "small-2"]


def test_a_backup_writes_over_nothing(path, tmp_path):
    there = tmp_path / "there"
    there.write_text("letters", encoding="utf-8")
    with pytest.raises(StoreError, match="exists already"):
        backup(path, there)
    assert there.read_text(encoding="utf-8") == "letters"


def test_a_backup_comes_back_and_what_was_there_is_kept(path, tmp_path):
    copy = tmp_path / "copy"
    backup(path, copy)
    repository = Repository(path)
    repository.add(base_plan())
    repository.close()
    _, aside = restore(path, copy, NOW)
    assert aside == path.with_name("northgate-before-20260301-123005.sqlite")
    assert (keys(path), keys(aside)) == (["small"], ["small", "small-2"])


def test_a_store_that_is_open_elsewhere_comes_back_whole(path, tmp_path):
    copy = tmp_path / "copy"
    backup(path, copy)
    repository = Repository(path)
    repository.add(base_plan())
    restore(path, copy, NOW)
    assert [head.key for head in repository.list()] == ["small"]
    repository.add(base_plan())
    repository.close()
    assert check(path).problems == ()
    assert keys(path) == ["small", "small-2"]


def test_a_store_comes_back_where_there_is_none_and_where_it_is_ruined(path, tmp_path):
    copy, elsewhere = tmp_path / "copy", tmp_path / "new" / "northgate.sqlite"
    backup(path, copy)
    assert restore(elsewhere, copy, NOW)[1] is None
    assert keys(elsewhere) == ["small"]
    path.write_bytes(b"ruined" * 1000)
    _, aside = restore(path, copy, NOW)
    assert keys(path) == ["small"]
    assert aside.read_bytes() == b"ruined" * 1000


def test_a_bad_backup_changes_nothing(path, tmp_path):
    bad = tmp_path / "bad"
    bad.write_bytes(b"nothing of ours")
    before = path.read_bytes()
    with pytest.raises(StoreError):
        restore(path, bad, NOW)
    assert path.read_bytes() == before
    assert [found.name for found in path.parent.iterdir() if found.name != LOCK] == ["northgate.sqlite"]
