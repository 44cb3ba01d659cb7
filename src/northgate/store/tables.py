"""The tables of the store."""

import datetime

from sqlalchemy import DateTime, ForeignKey, Text, UniqueConstraint, func
from sqlalchemy.orm import DeclarativeBase, Mapped, mapped_column


class Base(DeclarativeBase):
    """Base of all tables."""


class PlanRow(Base):
    """A plan: its key in addresses, and which of its revisions is current and which agreed."""

    __tablename__ = "plan"

    id: Mapped[int] = mapped_column(primary_key=True)
    key: Mapped[str] = mapped_column(unique=True)
    current: Mapped[int]
    agreed: Mapped[int | None]
    created_at: Mapped[datetime.datetime] = mapped_column(DateTime, server_default=func.now())


class RevisionRow(Base):
    """One revision of a plan: the whole document as JSON, and the text it was read from, if it was."""

    __tablename__ = "revision"
    __table_args__ = (UniqueConstraint("plan_id", "number"),)

    id: Mapped[int] = mapped_column(primary_key=True)
    plan_id: Mapped[int] = mapped_column(ForeignKey("plan.id", ondelete="CASCADE"))
    number: Mapped[int]
    document: Mapped[str] = mapped_column(Text)
    source: Mapped[str | None] = mapped_column(Text)
    created_at: Mapped[datetime.datetime] = mapped_column(DateTime, server_default=func.now())
