"""The repository of plans and revisions.

UnknownPlan               there is no plan, or no revision, of that key
"""

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING, Any

from sqlalchemy import create_engine, event, func, select, text
from sqlalchemy.exc import DatabaseError
from sqlalchemy.orm import Session

from northgate.store.head import Ask, Head, Kept, as_kept, document_of, head_at, heads, source_of
from northgate.store.migrating import migrate
from northgate.store.splices import MOST_SPLICES, WORTH, splice
from northgate.store.states import DURABLE, StoreError
from northgate.store.tables import PlanRow, RevisionRow

# A store is open before plans can be read.
if TYPE_CHECKING:
    from northgate.plan import Plan


class UnknownPlan(LookupError):
    """There is no such plan or revision; `known` lists the keys there are."""

    def __init__(self, key: str, known: list[str]) -> None:
        self.key, self.known = key, known
        super().__init__(f"there is no plan {key!r}")


class StaleRevision(Exception):
    """An edit was made of a revision that is not the current one; `current` is."""

    def __init__(self, current: int) -> None:
        self.current = current
        super().__init__(f"the plan is at revision {current} by now")


class NothingToMoveTo(Exception):
    """There is nothing to undo, or to redo."""


class Repository:
    """Plans in one SQLite file; safe to use from several threads, every accepted change is on disk when it returns.

    Whatever is asked of it raises StoreError, and changes nothing, when the file is damaged or the disk full.
    """

    def __init__(self, path: Path) -> None:
        path.parent.mkdir(parents=True, exist_ok=True)
        self._path = path
        self._engine = create_engine(f"sqlite:///{path}", connect_args={"timeout": 30})
        event.listen(self._engine, "connect", _durable)
        with self._told():
            migrate(self._engine, path)

    def close(self) -> None:
        """Lets the file go."""
        self._engine.dispose()

    def list(self) -> list[Head]:
        """All plans at their current revision, oldest first; also those whose revision is not there."""
        with self.session() as session:
            return [head for _, head in heads(_ask(session))]

    def head(self, key: str, revision: int | None = None) -> Head:
        """Where a plan stands at a revision, by default its current one; raises UnknownPlan."""
        with self.session() as session:
            plan = self.plan_row(session, key)
            return self.head_of(session, plan, plan.current if revision is None else revision)

    def plan(self, key: str, revision: int) -> "Plan":
        """A plan's document at a revision; raises UnknownPlan."""
        from northgate.plan import plan_from_text

        with self.session() as session:
            return plan_from_text(self.text_of(session, self.plan_row(session, key), revision), key, is_json=True)

    def document(self, key: str, revision: int) -> str:
        """A revision as it is kept, whether or not it can be read; raises UnknownPlan."""
        with self.session() as session:
            return self.text_of(session, self.plan_row(session, key), revision)

    def parent(self, key: str, revision: int) -> int | None:
        """The revision of which another was made; None for the first. Raises UnknownPlan."""
        with self.session() as session:
            return self.revision_row(session, self.plan_row(session, key), revision).parent

    def source(self, key: str, revision: int) -> str | None:
        """The text that a revision, or the last before it that was read from one, was read from; None when it was made
        here from the first."""
        with self.session() as session:
            return source_of(_ask(session), _kept(self.plan_row(session, key)), revision)

    def is_as_read(self, key: str, revision: int) -> bool:
        """Whether a revision is what was read from a text, with no edit since."""
        with self.session() as session:
            return revision in _read_revisions(session, self.plan_row(session, key))

    def add(self, plan: "Plan", source: str | None = None) -> Head:
        """Keeps a new plan under its name, with a number behind it when that is taken."""
        return self.keep(plan.name, as_kept(plan), source)

    def keep(self, name: str, document: str, source: str | None = None) -> Head:
        """Keeps a new plan, given as it is kept (`as_kept`)."""
        with self.writing() as session:
            row = PlanRow(key=free_key(session, name), current=1, agreed=None)
            session.add(row)
            session.flush()
            session.add(RevisionRow(plan_id=row.id, number=1, document=document, source=source))
            session.flush()
            return self.head_of(session, row, 1)

    def edit(self, key: str, made_of: int, made: "Plan", source: str | None = None) -> Head:
        """Keeps what was made of the current revision, which must be `made_of`, or was read from a text; raises
        StaleRevision."""
        with self.writing() as session:
            plan = self.current(session, key, made_of)
            numbers = select(func.max(RevisionRow.number)).where(RevisionRow.plan_id == plan.id)
            number = session.execute(numbers).scalar_one() + 1
            parent, document = self.revision_row(session, plan, made_of), as_kept(made)
            row = RevisionRow(
                plan_id=plan.id, number=number, document=document, parent=made_of, source=source, depth=parent.depth + 1
            )
            if parent.splices < MOST_SPLICES:
                change = splice(self.text_of(session, plan, made_of), document)
                if len(change) < WORTH * len(document):
                    row.document, row.splices = change, parent.splices + 1
            session.add(row)
            plan.current = number
            session.flush()
            return self.head_of(session, plan, number)

    def undo(self, key: str, made_of: int) -> Head:
        """Goes back to what the current revision was made from; raises NothingToMoveTo and StaleRevision."""
        with self.writing() as session:
            plan = self.current(session, key, made_of)
            parent = self.revision_row(session, plan, made_of).parent
            if parent is None:
                raise NothingToMoveTo("there is nothing to undo")
            plan.current = parent
            return self.head_of(session, plan, parent)

    def redo(self, key: str, made_of: int) -> Head:
        """Goes on to the newest revision made from the current one; raises NothingToMoveTo and StaleRevision."""
        with self.writing() as session:
            plan = self.current(session, key, made_of)
            child = self._newest_child(session, plan, made_of)
            if child is None:
                raise NothingToMoveTo("there is nothing to redo")
            plan.current = child
            return self.head_of(session, plan, child)

    def set_deleted(self, key: str, *, deleted: bool) -> None:
        """Takes a plan off the list, or brings it back; nothing is lost either way."""
        with self.writing() as session:
            self.plan_row(session, key, even_deleted=True).deleted = deleted

    def head_of(self, session: Session, plan: PlanRow, number: int) -> Head:
        """Where a plan stands at a revision; raises UnknownPlan."""
        found = head_at(_ask(session), _kept(plan), number)
        if found is None:
            raise UnknownPlan(f"{plan.key}, revision {number}", [])
        return found

    def text_of(self, session: Session, plan: PlanRow, number: int) -> str:
        """A revision's document; raises UnknownPlan, and PlanError where it cannot be put together."""
        found = document_of(_ask(session), _kept(plan), number)
        if found is None:
            raise UnknownPlan(f"{plan.key}, revision {number}", [])
        return found

    def revision_row(self, session: Session, plan: PlanRow, number: int) -> RevisionRow:
        """A revision of a plan; raises UnknownPlan."""
        query = select(RevisionRow).where(RevisionRow.plan_id == plan.id, RevisionRow.number == number)
        found = session.execute(query).scalar_one_or_none()
        if found is None:
            raise UnknownPlan(f"{plan.key}, revision {number}", [])
        return found

    def current(self, session: Session, key: str, made_of: int) -> PlanRow:
        """The plan, when `made_of` is its current revision."""
        plan = self.plan_row(session, key)
        if plan.current != made_of:
            raise StaleRevision(plan.current)
        return plan

    def _newest_child(self, session: Session, plan: PlanRow, number: int) -> int | None:
        query = select(func.max(RevisionRow.number)).where(RevisionRow.plan_id == plan.id, RevisionRow.parent == number)
        return session.execute(query).scalar_one()

    @contextmanager
    def session(self) -> Iterator[Session]:
        """One transaction: kept when it ends well."""
        with self._told(), Session(self._engine, expire_on_commit=False) as session, session.begin():
            yield session

    @contextmanager
    def writing(self) -> Iterator[Session]:
        """One transaction in which nobody else writes: what is read in it, such as which keys are free, stays so."""
        with self.session() as session:
            session.execute(text("BEGIN IMMEDIATE"))
            yield session

    @contextmanager
    def _told(self) -> Iterator[None]:
        """Says of what the database refuses which file it is, and what SQLite says of it."""
        try:
            yield
        except DatabaseError as error:
            raise StoreError(f"{self._path} cannot be used: {error.orig}") from error

    def plan_row(self, session: Session, key: str, *, even_deleted: bool = False) -> PlanRow:
        """A plan; raises UnknownPlan."""
        row = session.execute(select(PlanRow).where(PlanRow.key == key)).scalar_one_or_none()
        if row is None or (row.deleted and not even_deleted):
            raise UnknownPlan(key, list(session.execute(select(PlanRow.key).where(~PlanRow.deleted)).scalars()))
        return row


def _ask(session: Session) -> Ask:
    return lambda query, values: session.execute(text(query), values).all()


def _kept(plan: PlanRow) -> Kept:
    return Kept(plan.id, plan.key, plan.agreed, plan.variant)


def _read_revisions(session: Session, plan: PlanRow) -> set[int]:
    read = select(RevisionRow.number).where(RevisionRow.plan_id == plan.id, RevisionRow.source.is_not(None))
    return set(session.execute(read).scalars())


def _durable(connection: Any, _: Any) -> None:
    cursor = connection.cursor()
    for setting in DURABLE:
        cursor.execute(f"PRAGMA {setting}")
    cursor.close()


def free_key(session: Session, name: str) -> str:
    """A name, or with a number behind it when it is taken."""
    taken = set(session.execute(select(PlanRow.key)).scalars())
    number, key = 1, name
    while key in taken:
        number += 1
        key = f"{name}-{number}"
    return key
