"""which sections of a message its person is shown"""

from alembic import op

revision = "0014"
down_revision = "0013"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.execute("ALTER TABLE delivery ADD COLUMN shown VARCHAR DEFAULT '' NOT NULL")


def downgrade() -> None:
    op.execute("ALTER TABLE delivery DROP COLUMN shown")
