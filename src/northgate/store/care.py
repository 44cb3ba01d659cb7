"""Looking after the file in which plans are kept: is it whole, a copy of it, and back from a copy.

Health                    what a look through it found
check, backup, restore
"""

import datetime
import os
import sqlite3
from collections.abc import Iterator
from contextlib import closing, contextmanager
from pathlib import Path
from tempfile import TemporaryDirectory

from msgspec import Struct

from northgate.plan import PlanError, plan_from_text
from northgate.store.holding import held
from northgate.store.splices import CHAIN, put_together
from northgate.store.states import StoreError, known_migrations

TABLES = {"plan", "revision", "alembic_version"}
# Of a broken file, this many faults are told.
TOLD = 20
# How long another that writes is waited for (s).
PATIENCE_S = 30


class Health(Struct, frozen=True):
    """How many plans and revisions there are, and what is wrong, a sentence each."""

    plans: int
    revisions: int
    problems: tuple[str, ...]


def check(path: Path) -> Health:
    """Looks through a store: whether the file is whole, its tables fit each other, and the current revision of every
    plan can be read. Changes nothing. Raises StoreError when it is no store at all."""
    with _opened(path) as store:
        problems = [
            f"the file is damaged: {said}" for (said,) in store.execute("PRAGMA integrity_check") if said != "ok"
        ]
        if not problems:
            problems = [*_dangling(store), *_unreadable(store)]
        plans, revisions = (_count(store, table) for table in ("plan", "revision"))
        return Health(plans, revisions, tuple(problems[:TOLD]))


def backup(path: Path, to: Path) -> Health:
    """Copies a store, also while it is served, into a new file, whole or not at all; raises StoreError when it is not
    whole or there is such a file already."""
    if to.exists():
        raise StoreError(f"{to} exists already; nothing was written")
    health = _whole(path)
    to.parent.mkdir(parents=True, exist_ok=True)
    with TemporaryDirectory(dir=to.parent, prefix=".northgate-") as beside:
        made = Path(beside) / to.name
        _copy(path, made)
        _to_disk(made)
        made.rename(to)
    return health


def restore(path: Path, of: Path, now: datetime.datetime) -> tuple[Health, Path | None]:
    """Puts a backup in the place of a store, in one transaction, and tells where the store was set aside before;
    raises StoreError, and changes nothing, when the backup is not whole, or the store is served."""
    with held(path.parent):
        return _restored(path, of, now)


def _restored(path: Path, of: Path, now: datetime.datetime) -> tuple[Health, Path | None]:
    health = _whole(of)
    aside = None
    if path.exists():
        aside = path.with_name(f"{path.stem}-before-{now:%Y%m%d-%H%M%S}{path.suffix}")
        if aside.exists():
            raise StoreError(f"{aside} exists already; nothing was changed")
        _set_aside(path, aside)
    path.parent.mkdir(parents=True, exist_ok=True)
    _copy(of, path)
    return health, aside


def _set_aside(path: Path, aside: Path) -> None:
    """Keeps what is there before a backup takes its place: also a store that is not whole, as far as it goes."""
    try:
        _copy(path, aside)
        _to_disk(aside)
    except StoreError:
        # What cannot be opened cannot be written into either: the whole file, with what was not yet folded in, goes.
        for name in (path.name, f"{path.name}-wal", f"{path.name}-shm"):
            if (found := path.with_name(name)).exists():
                found.rename(aside.with_name(aside.name + name.removeprefix(path.name)))


def _whole(path: Path) -> Health:
    health = check(path)
    if health.problems:
        raise StoreError(f"{path} is not whole: {health.problems[0]}")
    return health


def _copy(path: Path, to: Path) -> None:
    with _opened(path) as store, closing(sqlite3.connect(to, timeout=PATIENCE_S)) as other:
        try:
            store.backup(other)
        except sqlite3.Error as error:
            raise StoreError(f"{to} cannot be written: {error}") from error


def _to_disk(path: Path) -> None:
    """Makes a copy one file that is on the disk, and that opens also where nothing may be written."""
    with closing(sqlite3.connect(path)) as copy:
        copy.execute("PRAGMA journal_mode = DELETE")
    with path.open("rb") as file:
        os.fsync(file.fileno())


@contextmanager
def _opened(path: Path) -> Iterator[sqlite3.Connection]:
    if not path.is_file():
        raise StoreError(f"there is no store at {path}")
    with closing(sqlite3.connect(f"{path.resolve().as_uri()}?mode=ro", uri=True, timeout=PATIENCE_S)) as store:
        try:
            found = {name for (name,) in store.execute("SELECT name FROM sqlite_master WHERE type = 'table'")}
            if not found >= TABLES:
                raise StoreError(f"{path} is no store of plans: it lacks {', '.join(sorted(TABLES - found))}")
            for (version,) in store.execute("SELECT version_num FROM alembic_version"):
                if version not in known_migrations():
                    raise StoreError(f"{path} was written by a newer North Gate (state {version})")
            yield store
        except sqlite3.Error as error:
            raise StoreError(f"{path} cannot be read: {error}") from error


WHOLE = "SELECT 0, document FROM revision WHERE plan_id = :plan AND number = :number"


def _dangling(store: sqlite3.Connection) -> Iterator[str]:
    for table, row, parent, _ in store.execute("PRAGMA foreign_key_check"):
        yield f"row {row} of {table} belongs to a {parent} that is not there"


def _unreadable(store: sqlite3.Connection) -> Iterator[str]:
    # Before revisions were kept as splices all were whole.
    columns = {row[1] for row in store.execute("PRAGMA table_info(revision)")}
    chain = CHAIN if "splices" in columns else WHOLE
    for plan, key, number in store.execute("SELECT id, key, current FROM plan ORDER BY id").fetchall():
        rows = store.execute(chain, {"plan": plan, "number": number}).fetchall()
        if not rows:
            yield f"plan {key}: its current revision {number} is not there"
            continue
        try:
            plan_from_text(put_together(rows), key, is_json=True)
        except PlanError as error:
            yield f"plan {key}: its current revision {number} cannot be read: {error.problems[0].describe('')}"
        except (ValueError, TypeError) as error:
            yield f"plan {key}: its current revision {number} cannot be read: {error}"


def _count(store: sqlite3.Connection, table: str) -> int:
    number: int = store.execute(f"SELECT count(*) FROM {table}").fetchone()[0]
    return number
