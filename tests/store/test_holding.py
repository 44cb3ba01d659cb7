"""One at a time on a folder of plans, and a copy before its tables change."""

import sqlite3
import subprocess
import sys

import pytest
from sqlalchemy import create_engine

from northgate.store.care import backup, restore
from northgate.store.head import as_kept
from northgate.store.holding import held
from northgate.store.log import stand
from northgate.store.migrating import migrate
from northgate.store.repository import Repository
from northgate.store.states import MIGRATIONS, Only, Seen, StoreError, begin, known_migrations, look
from tests.store.test_care import NOW
from tests.support.plans import base_plan


def test_who_comes_second_is_told_who_holds_the_folder(tmp_path):
    with held(tmp_path) as tell:
        tell("http://127.0.0.1:8420/")
        with (
            pytest.raises(StoreError, match=r"in use by process \d+, which serves http://127\.0\.0\.1:8420/"),
            held(tmp_path),
        ):
            pass
    with held(tmp_path):
        pass


def test_a_second_server_on_a_folder_gives_up_in_words(tmp_path):
    command = [sys.executable, "-m", "northgate", "serve", "--no-browser", "--port", "0", "--data", str(tmp_path)]
    with subprocess.Popen(command, stdout=subprocess.PIPE, text=True) as first:
        address = first.stdout.readline().split()[4]
        second = subprocess.run(command, check=False, capture_output=True, text=True)
        first.kill()
    assert second.returncode == 2
    assert second.stderr == f"{tmp_path} is in use by process {first.pid}, which serves {address}\n"
    # Whoever is killed holds nothing any more.
    with held(tmp_path):
        pass


def test_a_store_that_is_served_is_not_replaced(tmp_path):
    path, copy = tmp_path / "data" / "northgate.sqlite", tmp_path / "copy"
    Repository(path).close()
    backup(path, copy)
    with held(path.parent), pytest.raises(StoreError, match="in use by process"):
        restore(path, copy, NOW)
    restore(path, copy, NOW)


def as_of(path, state):
    """A store with one plan as an older North Gate has made it."""
    from alembic import command
    from alembic.config import Config

    config, engine = Config(), create_engine(f"sqlite:///{path}")
    config.set_main_option("script_location", str(MIGRATIONS))
    with engine.begin() as connection:
        config.attributes["connection"] = connection
        command.upgrade(config, state)
    engine.dispose()
    document = base_plan().model_dump_json(by_alias=True, exclude_defaults=True)
    with sqlite3.connect(path) as store:
        store.execute("INSERT INTO plan (id, key, current, deleted) VALUES (1, 'small', 1, 0)")
        store.execute("INSERT INTO revision (plan_id, number, document) VALUES (1, 1, ?)", [document])
    store.close()


def test_how_many_come_before_each_revision_is_counted_when_a_store_is_brought_forward(tmp_path):
    path = tmp_path / "northgate.sqlite"
    as_of(path, "0004")
    with sqlite3.connect(path) as store:
        for number, parent in ((2, 1), (3, 2), (4, 2)):
            store.execute(
                "INSERT INTO revision (plan_id, number, parent, document)"
                " SELECT 1, ?, ?, document FROM revision WHERE number = 1", [number, parent],
            )  # fmt: skip
    store.close()
    repository = Repository(path)
    assert [repository.head("small", number).edits for number in (1, 2, 3, 4)] == [0, 1, 2, 2]
    assert repository.plan("small", 4) == base_plan()
    repository.close()


def test_an_older_store_is_brought_forward_and_kept_as_it_was(tmp_path):
    path = tmp_path / "northgate.sqlite"
    as_of(path, "0003")
    repository = Repository(path)
    assert repository.plan("small", 1) == base_plan()
    repository.close()
    kept = tmp_path / f"northgate-before-{max(known_migrations())}.sqlite"
    with sqlite3.connect(kept) as store:
        assert store.execute("SELECT version_num FROM alembic_version").fetchone() == ("0003",)
        assert store.execute("SELECT count(*) FROM revision").fetchone() == (1,)
    store.close()


def test_without_a_copy_nothing_is_changed(tmp_path, monkeypatch):
    path = tmp_path / "northgate.sqlite"
    as_of(path, "0003")
    (tmp_path / f"northgate-before-{max(known_migrations())}.sqlite").mkdir()
    with pytest.raises(StoreError, match="nothing was changed"):
        Repository(path)
    with sqlite3.connect(path) as store:
        assert store.execute("SELECT version_num FROM alembic_version").fetchone() == ("0003",)
    store.close()
    assert [one.name for one in tmp_path.glob(".northgate*")] == []


def test_a_store_of_a_newer_north_gate_is_left_alone(tmp_path):
    path = tmp_path / "northgate.sqlite"
    Repository(path).close()
    with sqlite3.connect(path) as store:
        store.execute("UPDATE alembic_version SET version_num = '9999'")
    store.close()
    engine = create_engine(f"sqlite:///{path}")
    with pytest.raises(StoreError, match=r"newer North Gate \(state 9999\)"):
        migrate(engine, path)
    engine.dispose()


def test_a_migration_that_is_broken_off_has_changed_nothing(tmp_path, monkeypatch):
    """After every one of its statements in turn: the next to open the store brings it forward."""
    from alembic.ddl.impl import DefaultImpl

    class BrokenOffError(Exception):
        pass

    def breaking(number):
        left = iter(range(number))
        execute = DefaultImpl._exec

        def counted(self, *given, **more):
            if next(left, None) is None:
                raise BrokenOffError
            return execute(self, *given, **more)

        return counted

    number, done = 0, False
    while not done:
        path = tmp_path / f"after-{number}.sqlite"
        as_of(path, "0003")
        with monkeypatch.context() as patched:
            patched.setattr(DefaultImpl, "_exec", breaking(number))
            try:
                Repository(path).close()
                done = True
            except BrokenOffError:
                pass
        repository = Repository(path)
        assert repository.plan("small", 1) == base_plan()
        repository.close()
        number += 1
    assert number > 5


def test_a_store_is_looked_at_before_it_is_opened(tmp_path):
    path = tmp_path / "northgate.sqlite"
    assert look(path) == Seen(usual=True)
    store = Repository(path)
    assert look(path) == Seen(usual=True)
    store.add(base_plan(name="one"), "its text")
    for title in ("A", "B", "C"):
        head = store.head("one")
        store.edit("one", head.revision, base_plan(name="one", title=title))
        if title == "A":
            stand(store, "one", 2)
    head = store.undo("one", 4)
    assert (head.can_undo, head.can_redo, head.edits) == (True, True, 1)
    seen = look(path)
    assert seen == Seen(usual=True, only=Only(head, store.document("one", 3), "its text"))
    store.close()
    assert look(path) == seen
    Repository(path).add(base_plan(name="two"))
    assert look(path) == Seen(usual=True)
    Repository(path).set_deleted("two", deleted=True)
    assert look(path) == seen
    with sqlite3.connect(path) as damaged:
        damaged.execute("UPDATE revision SET document = 'no splice' WHERE number = 3")
    damaged.close()
    assert look(path) == Seen(usual=True)
    path.write_text("no store")
    assert look(path) == Seen(usual=False)


def test_a_store_that_is_begun_with_a_plan_is_as_one_that_is_opened_and_given_it(tmp_path):
    begun, opened, plan = tmp_path / "begun.sqlite", tmp_path / "opened.sqlite", base_plan(name="one")
    begin(begun, plan.name, as_kept(plan), "the text")
    store = Repository(opened)
    store.add(plan, "the text")
    store.close()
    assert Repository(begun).list() == Repository(opened).list()
    assert look(begun) == look(opened)
    assert all_but_dates(begun) == all_but_dates(opened)


def all_but_dates(path):
    """What a store holds, as SQL."""
    with sqlite3.connect(path) as store:
        store.execute("UPDATE plan SET created_at = ''")
        store.execute("UPDATE revision SET created_at = ''")
        held_in_it = list(store.iterdump())
    store.close()
    return held_in_it


def test_where_no_store_can_be_begun_it_is_told_and_nothing_is_left(tmp_path):
    (tmp_path / "begun.sqlite").mkdir()
    with pytest.raises(StoreError, match=r"begun\.sqlite cannot be used"):
        begin(tmp_path / "begun.sqlite", "one", "{}", "the text")
    half = tmp_path / "half.sqlite"
    with pytest.raises(StoreError, match="NOT NULL"):
        begin(half, "one", None, "the text")
    Repository(half).close()
    assert look(half) == Seen(usual=True)


@pytest.mark.parametrize("state", ["0001", "9999"])
def test_of_a_store_in_another_state_there_is_something_to_tell(tmp_path, state):
    path = tmp_path / "northgate.sqlite"
    Repository(path).close()
    with sqlite3.connect(path) as store:
        store.execute("UPDATE alembic_version SET version_num = ?", (state,))
    store.close()
    assert not look(path).usual
