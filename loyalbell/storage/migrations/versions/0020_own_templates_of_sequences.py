"""sequences that others may be started from"""

from alembic import op

revision = "0020"
down_revision = "0019"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.execute("ALTER TABLE sequence ADD COLUMN is_template BOOLEAN DEFAULT '0' NOT NULL")


def downgrade() -> None:
    op.execute("ALTER TABLE sequence DROP COLUMN is_template")
