"""Edits have reasons, agreements somebody who agreed, and plans variants."""

import sqlalchemy as sa
from alembic import op

revision = "0004"
down_revision = "0003"


def upgrade() -> None:
    """Adds the columns and the table."""
    op.add_column("revision", sa.Column("reason", sa.Text))
    op.add_column("plan", sa.Column("origin", sa.Integer))
    op.add_column("plan", sa.Column("variant", sa.Text))
    op.create_table(
        "standing",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column("plan_id", sa.Integer, sa.ForeignKey("plan.id", ondelete="CASCADE"), nullable=False, index=True),
        sa.Column("number", sa.Integer, nullable=False),
        sa.Column("agreed", sa.Boolean, nullable=False),
        sa.Column("who", sa.Text, nullable=False),
        sa.Column("why", sa.Text, nullable=False),
        sa.Column("created_at", sa.DateTime, server_default=sa.func.now(), nullable=False),
    )


def downgrade() -> None:
    """Drops them."""
    op.drop_table("standing")
    op.drop_column("plan", "variant")
    op.drop_column("plan", "origin")
    op.drop_column("revision", "reason")
