"""Plans and revisions on disk."""

import sqlite3

import pytest

from northgate.store.repository import Repository, UnknownPlan
from tests.plans import base_plan


@pytest.fixture
def path(tmp_path):
    return tmp_path / "deep" / "plans.sqlite"


def test_a_plan_is_there_after_the_file_was_closed(path):
    first = Repository(path)
    first.add(base_plan(), "the text")
    first.close()
    second = Repository(path)
    stored = second.get("small")
    assert (stored.plan, stored.source, stored.revision) == (base_plan(), "the text", 1)
    second.close()


def test_unknown_plans_and_revisions_are_refused(path):
    repository = Repository(path)
    repository.add(base_plan())
    with pytest.raises(UnknownPlan) as caught:
        repository.get("smal")
    assert caught.value.known == ["small"]
    with pytest.raises(UnknownPlan, match="revision 2"):
        repository.get("small", 2)
    repository.close()


def test_every_commit_is_on_disk_before_it_returns(path):
    repository = Repository(path)
    repository.add(base_plan())
    with repository._engine.connect() as connection:
        modes = [connection.exec_driver_sql(f"PRAGMA {name}").scalar() for name in ("journal_mode", "synchronous")]
    assert modes == ["wal", 2]
    repository.close()


def test_the_migrations_make_the_tables_of_the_models(path):
    Repository(path).close()
    with sqlite3.connect(path) as connection:
        tables = {row[0] for row in connection.execute("select name from sqlite_master where type = 'table'")}
        columns = [row[1] for row in connection.execute("pragma table_info(revision)")]
    connection.close()
    assert {"plan", "revision", "alembic_version"} <= tables
    assert columns == ["id", "plan_id", "number", "document", "source", "created_at"]
