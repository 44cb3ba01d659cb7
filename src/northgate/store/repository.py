"""The repository of plans and revisions.

UnknownPlan               there is no plan, or no revision, of that key
"""

from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from alembic import command
from alembic.config import Config
from sqlalchemy import Engine, create_engine, event, select
from sqlalchemy.orm import Session

from northgate.plan import Plan, plan_from_text
from northgate.store.tables import PlanRow, RevisionRow

MIGRATIONS = Path(__file__).parent / "migrations"


class UnknownPlan(LookupError):
    """There is no such plan or revision; `known` lists the keys there are."""

    def __init__(self, key: str, known: list[str]) -> None:
        self.key, self.known = key, known
        super().__init__(f"there is no plan {key!r}")


@dataclass(frozen=True)
class StoredPlan:
    """A plan at one revision; `source` is the text it was read from, when it was."""

    key: str
    revision: int
    agreed: int | None
    plan: Plan
    source: str | None


class Repository:
    """Plans in one SQLite file; safe to use from several threads, every accepted change is on disk when it returns."""

    def __init__(self, path: Path) -> None:
        path.parent.mkdir(parents=True, exist_ok=True)
        self._engine = create_engine(f"sqlite:///{path}", connect_args={"timeout": 30})
        event.listen(self._engine, "connect", _durable)
        _migrate(self._engine)

    def close(self) -> None:
        """Lets the file go."""
        self._engine.dispose()

    def list(self) -> list[StoredPlan]:
        """All plans at their current revision, oldest first."""
        with self._session() as session:
            rows = session.execute(
                select(PlanRow, RevisionRow)
                .join(RevisionRow, (RevisionRow.plan_id == PlanRow.id) & (RevisionRow.number == PlanRow.current))
                .order_by(PlanRow.id)
            ).all()
            return [_stored(plan, revision) for plan, revision in rows]

    def get(self, key: str, revision: int | None = None) -> StoredPlan:
        """A plan at a revision, by default its current one; raises UnknownPlan."""
        with self._session() as session:
            plan = self._plan_row(session, key)
            number = plan.current if revision is None else revision
            query = select(RevisionRow).where(RevisionRow.plan_id == plan.id, RevisionRow.number == number)
            found = session.execute(query).scalar_one_or_none()
            if found is None:
                raise UnknownPlan(f"{key}, revision {number}", [])
            return _stored(plan, found)

    def revision_of(self, key: str) -> int:
        """The number of a plan's current revision; raises UnknownPlan."""
        with self._session() as session:
            return self._plan_row(session, key).current

    def add(self, plan: Plan, source: str | None = None) -> StoredPlan:
        """Keeps a new plan under its name, with a number behind it when that is taken."""
        with self._session() as session:
            taken = set(session.execute(select(PlanRow.key)).scalars())
            row = PlanRow(key=_free_key(plan.name, taken), current=1, agreed=None)
            session.add(row)
            session.flush()
            revision = RevisionRow(plan_id=row.id, number=1, document=_as_text(plan), source=source)
            session.add(revision)
            session.flush()
            return _stored(row, revision)

    @contextmanager
    def _session(self) -> Iterator[Session]:
        with Session(self._engine, expire_on_commit=False) as session, session.begin():
            yield session

    def _plan_row(self, session: Session, key: str) -> PlanRow:
        row = session.execute(select(PlanRow).where(PlanRow.key == key)).scalar_one_or_none()
        if row is None:
            raise UnknownPlan(key, list(session.execute(select(PlanRow.key)).scalars()))
        return row


def _durable(connection: Any, _: Any) -> None:
    """Every commit reaches the disk before it returns; readers and a writer do not block each other."""
    cursor = connection.cursor()
    for setting in ("journal_mode = WAL", "synchronous = FULL", "foreign_keys = ON"):
        cursor.execute(f"PRAGMA {setting}")
    cursor.close()


def _migrate(engine: Engine) -> None:
    config = Config()
    config.set_main_option("script_location", str(MIGRATIONS))
    with engine.begin() as connection:
        config.attributes["connection"] = connection
        command.upgrade(config, "head")


def _free_key(name: str, taken: set[str]) -> str:
    number, key = 1, name
    while key in taken:
        number += 1
        key = f"{name}-{number}"
    return key


def _as_text(plan: Plan) -> str:
    return plan.model_dump_json(by_alias=True, exclude_unset=True)


def _stored(plan: PlanRow, revision: RevisionRow) -> StoredPlan:
    document = plan_from_text(revision.document, plan.key, is_json=True)
    return StoredPlan(plan.key, revision.number, plan.agreed, document, revision.source)
