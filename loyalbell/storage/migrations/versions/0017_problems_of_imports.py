"""problems of imports by cause, what a file holds in all, history that came as a sum, pictures of items"""

from alembic import op

revision = "0017"
down_revision = "0016"
branch_labels = None
depends_on = None
BEFORE = ("before_orders", "before_minor", "before_first_at", "before_last_at")


def upgrade() -> None:
    op.execute("ALTER TABLE import_run ADD COLUMN problems JSON NOT NULL DEFAULT '[]'")
    op.execute("ALTER TABLE import_run ADD COLUMN left_out INTEGER NOT NULL DEFAULT 0")
    op.execute("ALTER TABLE import_run ADD COLUMN found JSON NOT NULL DEFAULT '{}'")
    op.execute("ALTER TABLE item ADD COLUMN picture_id INTEGER REFERENCES gallery_picture(id)")
    for column in BEFORE:
        op.execute(f"ALTER TABLE person ADD COLUMN {column} BIGINT")


def downgrade() -> None:
    op.execute("ALTER TABLE item DROP COLUMN picture_id")
    for column in BEFORE:
        op.execute(f"ALTER TABLE person DROP COLUMN {column}")
    for column in ("problems", "left_out", "found"):
        op.execute(f"ALTER TABLE import_run DROP COLUMN {column}")
