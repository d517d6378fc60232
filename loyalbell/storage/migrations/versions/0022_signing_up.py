"""a wish to sign up is confirmed before anything is on file"""

import sqlalchemy as sa
from alembic import op

revision = "0022"
down_revision = "0021"
branch_labels = None
depends_on = None


def upgrade() -> None:
    with op.batch_alter_table("sign_up") as table:
        table.add_column(sa.Column("mailbox", sa.String(), server_default="", nullable=False))
        table.add_column(sa.Column("ask_at", sa.DateTime(), nullable=True))
        table.create_index("ix_sign_up_mailbox", ["mailbox"])
        table.create_index("ix_sign_up_ask_at", ["ask_at"])
    op.execute("UPDATE sign_up SET mailbox = lower(email)")


def downgrade() -> None:
    with op.batch_alter_table("sign_up") as table:
        table.drop_index("ix_sign_up_ask_at")
        table.drop_index("ix_sign_up_mailbox")
        table.drop_column("ask_at")
        table.drop_column("mailbox")
