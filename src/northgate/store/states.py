"""What state a store is in, and what is wrong with one, told without loading what reads one."""

import sqlite3
from contextlib import closing
from dataclasses import dataclass
from pathlib import Path

MIGRATIONS = Path(__file__).parent / "migrations"
PLANS = """
SELECT count(*), coalesce(max(length(document)), 0) FROM plan JOIN revision ON plan_id = plan.id AND number = 1
WHERE NOT deleted
"""


class StoreError(Exception):
    """The file is missing, is no store of plans, is not whole or cannot be written; the message says which."""


def known_migrations() -> set[str]:
    """The states that a store can be in, by their numbers."""
    return {path.stem.partition("_")[0] for path in (MIGRATIONS / "versions").glob("[0-9]*.py")}


@dataclass(frozen=True)
class Seen:
    """What is seen of a store from outside: whether it is in its newest state, or not there yet, so that there is
    nothing to be told before it is opened; how many plans it keeps, and how long the longest was when it was taken
    in (characters)."""

    usual: bool
    plans: int = 0
    characters: int = 0


def look(file: Path) -> Seen:
    """Looks at a store without opening it."""
    if not file.exists():
        return Seen(usual=True)
    try:
        with closing(sqlite3.connect(f"{file.resolve().as_uri()}?mode=ro", uri=True)) as asked:
            (state,) = asked.execute("SELECT max(version_num) FROM alembic_version").fetchone()
            return Seen(state == max(known_migrations()), *asked.execute(PLANS).fetchone())
    except sqlite3.Error:
        return Seen(usual=False)
