"""The tables of a store brought to what they are today, after a copy of the file has been kept."""

import sqlite3
from contextlib import closing
from pathlib import Path

from sqlalchemy import Connection, Engine, create_engine, event, inspect, text

from northgate.store.states import MIGRATIONS, NEWEST, StoreError, known_migrations, statements_of

# Who finds the file in use waits so long (s).
PATIENCE_S = 30


def migrate(engine: Engine, path: Path) -> None:
    """Brings a store to its newest state; what it was is kept beside it. Raises StoreError where a newer North Gate
    wrote it, or the copy cannot be made."""
    state, newest = _state(engine), max(known_migrations())
    if state == newest:
        return
    if state is not None:
        if state not in known_migrations():
            raise StoreError(f"{path} was written by a newer North Gate (state {state}); nothing was changed")
        keep_copy(path, path.with_name(f"{path.stem}-before-{newest}{path.suffix}"))
    in_one = _in_one_transaction(engine)
    with in_one.begin() as connection:
        # Asked again: another may have made the tables meanwhile.
        if inspect(connection).get_table_names():
            upgrade(connection)
        else:
            for statement in statements_of(NEWEST.read_text(encoding="utf-8")):
                connection.exec_driver_sql(statement)
    in_one.dispose()


def upgrade(connection: Connection) -> None:
    """Takes a store through all migrations that it has not been through."""
    from alembic import command
    from alembic.config import Config

    config = Config()
    config.set_main_option("script_location", str(MIGRATIONS))
    config.attributes["connection"] = connection
    command.upgrade(config, "head")


def _in_one_transaction(engine: Engine) -> Engine:
    """The same file, where changes of tables belong to the transaction: whoever is killed in the middle has changed
    nothing. By itself the driver begins none before them."""
    made = create_engine(engine.url, connect_args={"timeout": PATIENCE_S})

    def by_hand(connection: sqlite3.Connection, _: object) -> None:
        connection.isolation_level = None

    def begin(connection: Connection) -> None:
        connection.exec_driver_sql("BEGIN IMMEDIATE")

    event.listen(made, "connect", by_hand)
    event.listen(made, "begin", begin)
    return made


def _state(engine: Engine) -> str | None:
    """The last migration that a file has been through: asked first, since the migrations are slow to load."""
    with engine.connect() as connection:
        if not inspect(connection).has_table("alembic_version"):
            return None
        return connection.execute(text("SELECT version_num FROM alembic_version")).scalar()


def keep_copy(path: Path, to: Path) -> None:
    """A copy of a store, whole or not at all, in the place of an older one; raises StoreError where it cannot be
    made."""
    beside = to.with_name(f".{to.name}.new")
    beside.unlink(missing_ok=True)
    try:
        with closing(sqlite3.connect(path)) as store, closing(sqlite3.connect(beside)) as copy:
            store.backup(copy)
            copy.execute("PRAGMA journal_mode = DELETE")
        beside.replace(to)
    except (sqlite3.Error, OSError) as error:
        beside.unlink(missing_ok=True)
        raise StoreError(f"{to} cannot be written: {error}; nothing was changed") from error
