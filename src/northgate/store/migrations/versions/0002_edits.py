"""Revisions know what they were made from; plans can be deleted and brought back."""

import sqlalchemy as sa
from alembic import op

revision = "0002"
down_revision = "0001"


def upgrade() -> None:
    """Adds the columns."""
    op.add_column("revision", sa.Column("parent", sa.Integer))
    op.add_column("plan", sa.Column("deleted", sa.Boolean, nullable=False, server_default="0"))


def downgrade() -> None:
    """Drops the columns."""
    op.drop_column("revision", "parent")
    op.drop_column("plan", "deleted")
