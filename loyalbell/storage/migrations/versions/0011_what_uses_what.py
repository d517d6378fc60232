"""what uses what; filled when the book is opened"""

import sqlalchemy as sa
from alembic import op

revision = "0011"
down_revision = "0010"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "reference",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("user_kind", sa.String(), nullable=False),
        sa.Column("user_id", sa.Integer(), nullable=False),
        sa.Column("used_kind", sa.String(), nullable=False),
        sa.Column("used_key", sa.String(), nullable=False),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_reference")),
        sa.UniqueConstraint(
            "user_kind",
            "user_id",
            "used_kind",
            "used_key",
            name=op.f("uq_reference_user_kind_user_id_used_kind_used_key"),
        ),
    )
    op.create_index("ix_reference_used", "reference", ["used_kind", "used_key"])


def downgrade() -> None:
    op.drop_table("reference")
