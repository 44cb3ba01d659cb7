"""Writes what the migrations make of nothing, as SQL: `python -m northgate.store.newest FILE`."""

import sqlite3
import sys
from contextlib import closing
from pathlib import Path
from tempfile import TemporaryDirectory

from sqlalchemy import create_engine

from northgate.store.migrating import upgrade

# The transaction is that of who makes the tables.
AROUND = ("BEGIN TRANSACTION;", "COMMIT;")


def newest_tables() -> str:
    """The statements that make an empty store in its newest state."""
    with TemporaryDirectory() as folder:
        file = Path(folder) / "empty.sqlite"
        engine = create_engine(f"sqlite:///{file}")
        with engine.begin() as connection:
            upgrade(connection)
        engine.dispose()
        with closing(sqlite3.connect(file)) as made:
            return "\n".join(statement for statement in made.iterdump() if statement not in AROUND) + "\n"


if __name__ == "__main__":
    Path(sys.argv[1]).write_text(newest_tables(), encoding="utf-8")
