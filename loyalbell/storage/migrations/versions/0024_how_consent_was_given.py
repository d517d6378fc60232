"""how consent was given: page, version of the form, language, when and from where"""

import sqlalchemy as sa
from alembic import op

revision = "0024"
down_revision = "0023"
branch_labels = None
depends_on = None


def upgrade() -> None:
    with op.batch_alter_table("consent_entry") as table:
        table.add_column(sa.Column("evidence", sa.JSON(), server_default="{}", nullable=False))


def downgrade() -> None:
    with op.batch_alter_table("consent_entry") as table:
        table.drop_column("evidence")
