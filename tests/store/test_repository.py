"""Plans and revisions on disk."""

import sqlite3
from concurrent.futures import ThreadPoolExecutor
from threading import Barrier

import pytest

from northgate.store.log import stand
from northgate.store.repository import NothingToMoveTo, Repository, StaleRevision, UnknownPlan
from northgate.store.variants import add_variant
from tests.support.plans import base_plan
from tests.support.waits import WAIT_S


@pytest.fixture
def path(tmp_path):
    return tmp_path / "deep" / "plans.sqlite"


def test_a_plan_is_there_after_the_file_was_closed(path):
    first = Repository(path)
    first.add(base_plan(), "the text")
    first.close()
    second = Repository(path)
    assert second.head("small").revision == 1
    assert second.plan("small", 1) == base_plan()
    assert second.source("small", 1) == "the text"
    second.close()


def test_who_keep_plans_at_once_get_keys_of_their_own(path):
    """As two copies of one plan, asked for together: what is free for one is not free for the other."""
    repository, together = Repository(path), Barrier(4)
    first = repository.add(base_plan())

    def keep(_):
        together.wait(WAIT_S)
        return [repository.add(base_plan()).key, add_variant(repository, first.key).key]

    with ThreadPoolExecutor(4) as pool:
        kept = [key for some in (*pool.map(keep, range(4)), *pool.map(keep, range(4))) for key in some]
    assert len({first.key, *kept}) == len(repository.list()) == 17
    repository.close()


def test_unknown_plans_and_revisions_are_refused(path):
    repository = Repository(path)
    repository.add(base_plan())
    with pytest.raises(UnknownPlan) as caught:
        repository.head("smal")
    assert caught.value.known == ["small"]
    with pytest.raises(UnknownPlan, match="revision 2"):
        repository.plan("small", 2)
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
        tree = "explain query plan select number, parent from revision where plan_id = 1"
        read = [row[3] for row in connection.execute(tree)]
    connection.close()
    assert {"plan", "revision", "alembic_version"} <= tables
    assert columns[:8] == ["id", "plan_id", "number", "document", "source", "created_at", "parent", "reason"]
    assert columns[8:] == ["splices", "depth"]
    assert read == ["SEARCH revision USING COVERING INDEX revision_tree (plan_id=?)"]


def retitled(title):
    return base_plan(title=title)


@pytest.fixture
def repository(path):
    kept = Repository(path)
    kept.add(base_plan(), "the text")
    yield kept
    kept.close()


def test_undo_and_redo_walk_the_whole_history(repository):
    for number, title in enumerate("abc", start=1):
        repository.edit("small", number, retitled(title))
    titles = []
    for number in (4, 3, 2):
        head = repository.undo("small", number)
        titles.append(repository.plan("small", head.revision).title)
    assert titles == ["b", "a", ""]
    with pytest.raises(NothingToMoveTo):
        repository.undo("small", 1)
    head = repository.redo("small", 1)
    assert (head.revision, head.can_undo, head.can_redo) == (2, True, True)


def test_an_edit_after_an_undo_keeps_what_was_undone(repository):
    repository.edit("small", 1, retitled("first"))
    repository.undo("small", 2)
    head = repository.edit("small", 1, retitled("second"))
    assert (head.revision, head.can_redo) == (3, False)
    assert repository.plan("small", 2).title == "first", "a link to it still works"
    repository.undo("small", 3)
    assert repository.redo("small", 1).revision == 3, "redo goes to the newest"


def test_an_edit_of_an_old_revision_is_refused_and_nothing_is_kept(repository):
    repository.edit("small", 1, retitled("first"))
    with pytest.raises(StaleRevision) as caught:
        repository.edit("small", 1, retitled("second"))
    assert caught.value.current == 2
    assert repository.head("small").revision == 2


def test_edits_are_counted_since_the_agreed_revision(repository):
    repository.edit("small", 1, retitled("a"))
    assert repository.head("small").edits == 1
    assert stand(repository, "small", 2).edits == 0
    assert repository.edit("small", 2, retitled("b")).edits == 1
    assert repository.source("small", 3) == "the text"


def test_a_deleted_plan_comes_back_whole(repository):
    repository.edit("small", 1, retitled("a"))
    repository.set_deleted("small", deleted=True)
    assert repository.list() == []
    with pytest.raises(UnknownPlan):
        repository.head("small")
    assert repository.add(base_plan()).key == "small-2", "its key is not given away"
    repository.set_deleted("small", deleted=False)
    assert repository.head("small").revision == 2
