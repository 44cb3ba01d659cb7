"""The tables of the store."""

import datetime

from sqlalchemy import DateTime, ForeignKey, Index, Text, UniqueConstraint, func
from sqlalchemy.orm import DeclarativeBase, Mapped, mapped_column


class Base(DeclarativeBase):
    """Base of all tables."""


class PlanRow(Base):
    """A plan: its key in addresses, which of its revisions is current and which agreed, and whether it is deleted; of a
    variant the plan that it is one of, and what it is called there."""

    __tablename__ = "plan"

    id: Mapped[int] = mapped_column(primary_key=True)
    key: Mapped[str] = mapped_column(unique=True)
    current: Mapped[int]
    agreed: Mapped[int | None]
    deleted: Mapped[bool] = mapped_column(default=False, server_default="0")
    created_at: Mapped[datetime.datetime] = mapped_column(DateTime, server_default=func.now())
    origin: Mapped[int | None] = mapped_column(ForeignKey("plan.id", ondelete="SET NULL"))
    variant: Mapped[str | None] = mapped_column(Text)


class RevisionRow(Base):
    """One revision of a plan: the document as JSON, the revision that it was made from, and why, if somebody said so.

    `splices`: 0 where the document is whole; else it is a splice of the parent's (see `store.splices`), and so many
    come since the last whole one. `depth`: how many revisions come before it.
    `source` is the text that the plan was read from, on the revision that was read. Revisions are never changed; undo
    and redo only move the plan's `current` along their tree.
    """

    __tablename__ = "revision"
    __table_args__ = (
        UniqueConstraint("plan_id", "number"),
        # All that is asked of the whole tree: read from here, no document has to be passed over.
        Index("revision_tree", "plan_id", "number", "parent"),
        Index("revision_made_of", "plan_id", "parent"),
    )

    id: Mapped[int] = mapped_column(primary_key=True)
    plan_id: Mapped[int] = mapped_column(ForeignKey("plan.id", ondelete="CASCADE"))
    number: Mapped[int]
    document: Mapped[str] = mapped_column(Text)
    source: Mapped[str | None] = mapped_column(Text)
    parent: Mapped[int | None]
    created_at: Mapped[datetime.datetime] = mapped_column(DateTime, server_default=func.now())
    reason: Mapped[str | None] = mapped_column(Text)
    splices: Mapped[int] = mapped_column(default=0, server_default="0")
    depth: Mapped[int] = mapped_column(default=0, server_default="0")


class StandingRow(Base):
    """That somebody has looked a revision over, or agreed on it: who and why, as they said it."""

    __tablename__ = "standing"

    id: Mapped[int] = mapped_column(primary_key=True)
    plan_id: Mapped[int] = mapped_column(ForeignKey("plan.id", ondelete="CASCADE"), index=True)
    number: Mapped[int]
    agreed: Mapped[bool]
    who: Mapped[str] = mapped_column(Text)
    why: Mapped[str] = mapped_column(Text)
    created_at: Mapped[datetime.datetime] = mapped_column(DateTime, server_default=func.now())
