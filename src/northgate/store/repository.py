"""The repository of plans and revisions.

UnknownPlan               there is no plan, or no revision, of that key
"""

from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING, Any

from sqlalchemy import Row, create_engine, event, func, select, text
from sqlalchemy.exc import DatabaseError
from sqlalchemy.orm import Session, aliased

from northgate.plan.problems import PlanError, Problem
from northgate.store.head import Head, as_kept
from northgate.store.migrating import migrate
from northgate.store.splices import CHAIN, MOST_SPLICES, WORTH, put_together, splice
from northgate.store.states import StoreError
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


# The revision that comes so many before another.
ANCESTOR = """
WITH RECURSIVE way(number, back) AS (
    VALUES (:number, 0)
    UNION ALL
    SELECT revision.parent, way.back + 1 FROM way JOIN revision
    ON revision.plan_id = :plan AND revision.number = way.number WHERE way.back < :back
)
SELECT number FROM way WHERE back = :back
"""


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
        child = aliased(RevisionRow)
        made_of_it = select(child.id).where(child.plan_id == PlanRow.id, child.parent == PlanRow.current).exists()
        here = (RevisionRow.plan_id == PlanRow.id) & (RevisionRow.number == PlanRow.current)
        asked = select(PlanRow, RevisionRow.parent, RevisionRow.depth, made_of_it.label("can_redo"))
        asked = asked.outerjoin(RevisionRow, here).where(~PlanRow.deleted).order_by(PlanRow.id)
        with self.session() as session:
            return [
                self._head(session, row.PlanRow, row.PlanRow.current, row.parent, row.depth or 0, can_redo=row.can_redo)
                for row in session.execute(asked)
            ]

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
            plan = self.plan_row(session, key)
            read = _read_revisions(session, plan)
            way = [revision, *_ancestors(self._parents(session, plan), revision)]
            found = next((number for number in way if number in read), None)
            return None if found is None else self.revision_row(session, plan, found).source

    def is_as_read(self, key: str, revision: int) -> bool:
        """Whether a revision is what was read from a text, with no edit since."""
        with self.session() as session:
            return revision in _read_revisions(session, self.plan_row(session, key))

    def add(self, plan: "Plan", source: str | None = None) -> Head:
        """Keeps a new plan under its name, with a number behind it when that is taken."""
        return self.keep(plan.name, as_kept(plan), source)

    def keep(self, name: str, document: str, source: str | None = None) -> Head:
        """Keeps a new plan, given as it is kept (`as_kept`)."""
        with self.session() as session:
            row = PlanRow(key=free_key(session, name), current=1, agreed=None)
            session.add(row)
            session.flush()
            session.add(RevisionRow(plan_id=row.id, number=1, document=document, source=source))
            session.flush()
            return self.head_of(session, row, 1)

    def edit(self, key: str, made_of: int, made: "Plan", source: str | None = None) -> Head:
        """Keeps what was made of the current revision, which must be `made_of`, or was read from a text; raises
        StaleRevision."""
        with self.session() as session:
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
        with self.session() as session:
            plan = self.current(session, key, made_of)
            parent = self.revision_row(session, plan, made_of).parent
            if parent is None:
                raise NothingToMoveTo("there is nothing to undo")
            plan.current = parent
            return self.head_of(session, plan, parent)

    def redo(self, key: str, made_of: int) -> Head:
        """Goes on to the newest revision made from the current one; raises NothingToMoveTo and StaleRevision."""
        with self.session() as session:
            plan = self.current(session, key, made_of)
            child = self._newest_child(session, plan, made_of)
            if child is None:
                raise NothingToMoveTo("there is nothing to redo")
            plan.current = child
            return self.head_of(session, plan, child)

    def set_deleted(self, key: str, *, deleted: bool) -> None:
        """Takes a plan off the list, or brings it back; nothing is lost either way."""
        with self.session() as session:
            self.plan_row(session, key, even_deleted=True).deleted = deleted

    def head_of(self, session: Session, plan: PlanRow, number: int) -> Head:
        """Where a plan stands at a revision; raises UnknownPlan."""
        row = _place(session, plan, number)
        if row is None:
            raise UnknownPlan(f"{plan.key}, revision {number}", [])
        made_of_it = select(RevisionRow.number).where(RevisionRow.plan_id == plan.id, RevisionRow.parent == number)
        can_redo = session.execute(made_of_it.limit(1)).first() is not None
        return self._head(session, plan, number, row.parent, row.depth, can_redo=can_redo)

    def _head(
        self, session: Session, plan: PlanRow, number: int, parent: int | None, depth: int, *, can_redo: bool
    ) -> Head:
        return Head(
            key=plan.key,
            revision=number,
            agreed=plan.agreed,
            can_undo=parent is not None,
            can_redo=can_redo,
            edits=_edits(session, plan, number, depth),
            variant=plan.variant,
        )

    def text_of(self, session: Session, plan: PlanRow, number: int) -> str:
        """A revision's document; raises UnknownPlan, and PlanError where it cannot be put together."""
        chain = session.execute(text(CHAIN), {"plan": plan.id, "number": number}).all()
        if not chain:
            raise UnknownPlan(f"{plan.key}, revision {number}", [])
        try:
            return put_together([(row.splices, row.document) for row in chain])
        except (ValueError, TypeError) as error:
            raise PlanError(
                [Problem("", f"revision {number} of {plan.key} cannot be put together: {error}")]
            ) from error

    def _parents(self, session: Session, plan: PlanRow) -> dict[int, int | None]:
        query = select(RevisionRow.number, RevisionRow.parent).where(RevisionRow.plan_id == plan.id)
        return {row.number: row.parent for row in session.execute(query)}

    def revision_row(self, session: Session, plan: PlanRow, number: int) -> RevisionRow:
        """A revision of a plan; raises UnknownPlan."""
        query = select(RevisionRow).where(RevisionRow.plan_id == plan.id, RevisionRow.number == number)
        found = session.execute(query).scalar_one_or_none()
        if found is None:
            raise UnknownPlan(f"{plan.key}, revision {number}", [])
        return found

    def current(self, session: Session, key: str, made_of: int) -> PlanRow:
        """The plan, held for writing, when `made_of` is its current revision."""
        session.execute(text("BEGIN IMMEDIATE"))
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


def _place(session: Session, plan: PlanRow, number: int) -> Row[int | None, int] | None:
    """Of which revision one was made, and how many come before it."""
    query = select(RevisionRow.parent, RevisionRow.depth)
    return session.execute(query.where(RevisionRow.plan_id == plan.id, RevisionRow.number == number)).one_or_none()


def _edits(session: Session, plan: PlanRow, number: int, depth: int) -> int:
    """How many edits lie between a revision and the agreed one, or the first when that is not among its
    ancestors."""
    agreed = None if plan.agreed is None else _place(session, plan, plan.agreed)
    if agreed is None or agreed.depth > depth:
        return depth
    back = depth - agreed.depth
    found = session.execute(text(ANCESTOR), {"plan": plan.id, "number": number, "back": back}).scalar()
    return back if found == plan.agreed else depth


def _read_revisions(session: Session, plan: PlanRow) -> set[int]:
    read = select(RevisionRow.number).where(RevisionRow.plan_id == plan.id, RevisionRow.source.is_not(None))
    return set(session.execute(read).scalars())


def _durable(connection: Any, _: Any) -> None:
    """Every commit reaches the disk before it returns; readers and a writer do not block each other."""
    cursor = connection.cursor()
    for setting in ("journal_mode = WAL", "synchronous = FULL", "foreign_keys = ON"):
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


def _ancestors(parents: Mapping[int, int | None], number: int) -> Iterator[int]:
    parent = parents.get(number)
    while parent is not None:
        yield parent
        parent = parents.get(parent)
