"""since when an import writes"""

from alembic import op

revision = "0016"
down_revision = "0015"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.execute("ALTER TABLE import_run ADD COLUMN writes_since BIGINT")


def downgrade() -> None:
    op.execute("ALTER TABLE import_run DROP COLUMN writes_since")
