"""The tables of the store."""

import datetime

from sqlalchemy import DateTime, ForeignKey, Index, Text, UniqueConstraint, func
from sqlalchemy.orm import DeclarativeBase, Mapped, mapped_column


class Base(DeclarativeBase):
    """Base of all tables."""


class PlanRow(Base):
    """A plan: its key in addresses, which of its revisions is current and which agreed, and whether it is deleted."""

    __tablename__ = "plan"

    id: Mapped[int] = mapped_column(primary_key=True)
    key: Mapped[str] = mapped_column(unique=True)
    current: Mapped[int]
    agreed: Mapped[int | None]
    deleted: Mapped[bool] = mapped_column(default=False, server_default="0")
    created_at: Mapped[datetime.datetime] = mapped_column(DateTime, server_default=func.now())


class RevisionRow(Base):
    """One revision of a plan: the whole document as JSON, and the revision that it was made from.

    `source` is the text that the plan was read from, on the revision that was read. Revisions are never changed; undo
    and redo only move the plan's `current` along their tree.
    """

    __tablename__ = "revision"
    __table_args__ = (
        UniqueConstraint("plan_id", "number"),
        # All that is asked of the whole tree: read from here, no document has to be passed over.
        Index("revision_tree", "plan_id", "number", "parent"),
    )

    id: Mapped[int] = mapped_column(primary_key=True)
    plan_id: Mapped[int] = mapped_column(ForeignKey("plan.id", ondelete="CASCADE"))
    number: Mapped[int]
    document: Mapped[str] = mapped_column(Text)
    source: Mapped[str | None] = mapped_column(Text)
    parent: Mapped[int | None]
    created_at: Mapped[datetime.datetime] = mapped_column(DateTime, server_default=func.now())
