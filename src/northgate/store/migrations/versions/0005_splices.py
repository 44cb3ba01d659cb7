"""Revisions may be kept as what differs from the one they were made of, and say how many come before them."""

import sqlalchemy as sa
from alembic import op

revision = "0005"
down_revision = "0004"


def upgrade() -> None:
    """Adds the columns; all that is kept so far is whole."""
    op.add_column("revision", sa.Column("splices", sa.Integer, server_default="0", nullable=False))
    op.add_column("revision", sa.Column("depth", sa.Integer, server_default="0", nullable=False))
    op.execute(
        "WITH RECURSIVE tree(id, plan_id, number, depth) AS ("
        " SELECT id, plan_id, number, 0 FROM revision WHERE parent IS NULL"
        " UNION ALL SELECT revision.id, revision.plan_id, revision.number, tree.depth + 1 FROM tree JOIN revision"
        " ON revision.plan_id = tree.plan_id AND revision.parent = tree.number)"
        " UPDATE revision SET depth = (SELECT depth FROM tree WHERE tree.id = revision.id)"
        " WHERE id IN (SELECT id FROM tree)"
    )
    op.create_index("revision_made_of", "revision", ["plan_id", "parent"])


def downgrade() -> None:
    """Not without loss: what is kept as a splice would have to be put together."""
    raise NotImplementedError
