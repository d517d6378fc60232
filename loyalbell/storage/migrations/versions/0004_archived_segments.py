"""Segments can be put away"""

import sqlalchemy as sa
from alembic import op

revision = "0004"
down_revision = "0003"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("segment", sa.Column("archived_at", sa.BigInteger(), nullable=True))


def downgrade() -> None:
    raise NotImplementedError("A book goes back to an earlier version by its backup.")
