"""How a plan came to be what it is: its revisions, why they were made, who looked them over and who agreed.

Entry, Standing           a line of the log, and what somebody said of it
history                   the log, the newest line first
give_reason, stand, go_to what is written into it, and back to any line of it
"""

import datetime
from collections.abc import Iterator

from msgspec import Struct
from sqlalchemy import select
from sqlalchemy.orm import Session

from northgate.store.head import Head
from northgate.store.repository import Repository
from northgate.store.tables import PlanRow, RevisionRow, StandingRow


class Standing(Struct, frozen=True):
    """Somebody has looked a revision over, or agreed on it."""

    agreed: bool
    who: str
    why: str
    at: datetime.datetime


class Entry(Struct, frozen=True):
    """One revision: of which it was made, when and why; whether it is on the way to the current one, or was undone; and
    what has been said of it."""

    revision: int
    parent: int | None
    at: datetime.datetime
    reason: str
    from_file: bool
    on_the_way: bool
    standings: tuple[Standing, ...]


def history(repository: Repository, key: str) -> list[Entry]:
    """Every revision of a plan, the newest first; raises UnknownPlan."""
    with repository.session() as session:
        plan = repository.plan_row(session, key)
        asked = select(
            RevisionRow.number, RevisionRow.parent, RevisionRow.created_at, RevisionRow.reason,
            RevisionRow.source.is_not(None).label("read"),
        ).where(RevisionRow.plan_id == plan.id)  # fmt: skip
        rows = {row.number: row for row in session.execute(asked)}
        way = set(_way({number: row.parent for number, row in rows.items()}, plan.current))
        said = _standings(session, plan)
        return [
            Entry(
                number, row.parent, _utc(row.created_at), row.reason or "", bool(row.read), number in way,
                tuple(said.get(number, ())),
            )
            for number, row in sorted(rows.items(), reverse=True)
        ]  # fmt: skip


def _way(parents: dict[int, int | None], number: int | None) -> Iterator[int]:
    while number is not None:
        yield number
        number = parents.get(number)


def _standings(session: Session, plan: PlanRow) -> dict[int, list[Standing]]:
    made: dict[int, list[Standing]] = {}
    asked = select(StandingRow).where(StandingRow.plan_id == plan.id).order_by(StandingRow.id)
    for row in session.execute(asked).scalars():
        made.setdefault(row.number, []).append(Standing(row.agreed, row.who, row.why, _utc(row.created_at)))
    return made


def give_reason(repository: Repository, key: str, revision: int, reason: str) -> None:
    """Says why a revision was made; raises UnknownPlan."""
    with repository.writing() as session:
        repository.revision_row(session, repository.plan_row(session, key), revision).reason = reason


def stand(repository: Repository, key: str, made_of: int, who: str = "", why: str = "", *, agreed: bool = True) -> Head:
    """Somebody has looked the current revision over, or agrees on it: it is the agreed one then. Raises
    StaleRevision."""
    with repository.writing() as session:
        plan = repository.current(session, key, made_of)
        session.add(StandingRow(plan_id=plan.id, number=made_of, agreed=agreed, who=who, why=why))
        if agreed:
            plan.agreed = made_of
        return repository.head_of(session, plan, made_of)


def go_to(repository: Repository, key: str, made_of: int, revision: int) -> Head:
    """Goes to any revision, which is current from then on; the others stay. Raises UnknownPlan and StaleRevision."""
    with repository.writing() as session:
        plan = repository.current(session, key, made_of)
        repository.revision_row(session, plan, revision)
        plan.current = revision
        return repository.head_of(session, plan, revision)


def _utc(kept: datetime.datetime) -> datetime.datetime:
    """A time as the store keeps it, which is in UTC and does not say so."""
    return kept.replace(tzinfo=datetime.UTC)
