"""The tree of a plan's revisions is read without its documents."""

from alembic import op

revision = "0003"
down_revision = "0002"


def upgrade() -> None:
    """Adds the index."""
    op.create_index("revision_tree", "revision", ["plan_id", "number", "parent"])


def downgrade() -> None:
    """Drops the index."""
    op.drop_index("revision_tree", "revision")
