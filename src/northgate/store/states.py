"""What state a store is in, what is wrong with one, and how a new one begins: without what opens one, which takes a
good part of the time to start."""

import sqlite3
from collections.abc import Iterator, Mapping
from contextlib import closing, suppress
from pathlib import Path
from typing import Any

from msgspec import Struct

from northgate.plan.problems import PlanError
from northgate.store.head import Head, document_of, heads, source_of

MIGRATIONS = Path(__file__).parent / "migrations"
# What all migrations together make of nothing, see `store.newest`: a new store is made by it at once, since they are
# slow to load.
NEWEST = MIGRATIONS / "newest.sql"
# Every commit reaches the disk before it returns; readers and a writer do not block each other.
DURABLE = ("journal_mode = WAL", "synchronous = FULL", "foreign_keys = ON")


class StoreError(Exception):
    """The file is missing, is no store of plans, is not whole or cannot be written; the message says which."""


def known_migrations() -> set[str]:
    """The states that a store can be in, by their numbers."""
    return {path.stem.partition("_")[0] for path in (MIGRATIONS / "versions").glob("[0-9]*.py")}


class Seen(Struct, frozen=True):
    """What is seen of a store from outside: whether it is in its newest state, or not there yet, so that there is
    nothing to be told before it is opened; and its plan, where it keeps only one that is whole."""

    usual: bool
    only: "Only | None" = None


class Only(Struct, frozen=True):
    """A plan that is alone in its store: where it stands, its document, and the text that it was read from."""

    head: Head
    document: str
    source: str | None


def look(file: Path) -> Seen:
    """Looks at a store that nobody else holds, without what opens it."""
    if not file.exists():
        return Seen(usual=True)
    try:
        with closing(sqlite3.connect(f"{file.resolve().as_uri()}?mode=rw", uri=True)) as store:
            states = store.execute("SELECT version_num FROM alembic_version").fetchall()
            usual = states == [(max(known_migrations()),)]
            return Seen(usual, _only(store) if usual else None)
    except sqlite3.Error:
        return Seen(usual=False)


def _only(store: sqlite3.Connection) -> Only | None:
    def ask(query: str, values: Mapping[str, Any]) -> list[tuple[Any, ...]]:
        return store.execute(query, values).fetchall()

    found = heads(ask)
    if len(found) != 1:
        return None
    kept, head = found[0]
    with suppress(PlanError):
        document = document_of(ask, kept, head.revision)
        if document is not None:
            return Only(head, document, source_of(ask, kept, head.revision))
    return None


def begin(file: Path, name: str, document: str, source: str) -> None:
    """Makes a new store that keeps a plan, given as it is kept (`as_kept`), and the text that it was read from; all of
    it or nothing. Raises StoreError."""
    try:
        with closing(sqlite3.connect(file, isolation_level=None)) as store:
            for setting in DURABLE:
                store.execute(f"PRAGMA {setting}")
            store.execute("BEGIN IMMEDIATE")
            for statement in statements_of(NEWEST.read_text(encoding="utf-8")):
                store.execute(statement)
            plan = store.execute("INSERT INTO plan (key, current) VALUES (?, 1)", (name,)).lastrowid
            row = plan, document, source
            store.execute("INSERT INTO revision (plan_id, number, document, source) VALUES (?, 1, ?, ?)", row)
            store.execute("COMMIT")
    except sqlite3.Error as error:
        raise StoreError(f"{file} cannot be used: {error}") from error


def statements_of(script: str) -> Iterator[str]:
    """The statements of a script of SQL, each of which begins on a line of its own."""
    statement = ""
    for line in script.splitlines(keepends=True):
        statement += line
        if sqlite3.complete_statement(statement):
            yield statement
            statement = ""
