"""why a sequence was set aside"""

import sqlalchemy as sa
from alembic import op

revision = "0012"
down_revision = "0011"
branch_labels = None
depends_on = None


def upgrade() -> None:
    with op.batch_alter_table("sequence", schema=None) as batch_op:
        batch_op.add_column(sa.Column("set_aside_because", sa.String(), nullable=True))


def downgrade() -> None:
    with op.batch_alter_table("sequence", schema=None) as batch_op:
        batch_op.drop_column("set_aside_because")
