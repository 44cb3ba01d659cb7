"""Plans and revisions."""

import sqlalchemy as sa
from alembic import op

revision = "0001"
down_revision = None


def upgrade() -> None:
    """Makes the tables."""
    op.create_table(
        "plan",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column("key", sa.String, nullable=False, unique=True),
        sa.Column("current", sa.Integer, nullable=False),
        sa.Column("agreed", sa.Integer),
        sa.Column("created_at", sa.DateTime, server_default=sa.func.now(), nullable=False),
    )
    op.create_table(
        "revision",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column("plan_id", sa.Integer, sa.ForeignKey("plan.id", ondelete="CASCADE"), nullable=False),
        sa.Column("number", sa.Integer, nullable=False),
        sa.Column("document", sa.Text, nullable=False),
        sa.Column("source", sa.Text),
        sa.Column("created_at", sa.DateTime, server_default=sa.func.now(), nullable=False),
        sa.UniqueConstraint("plan_id", "number"),
    )


def downgrade() -> None:
    """Drops the tables."""
    op.drop_table("revision")
    op.drop_table("plan")
