"""by what number and link a parcel is followed, and the care sheet of an item"""

from alembic import op

revision = "0019"
down_revision = "0018"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.execute("ALTER TABLE orders ADD COLUMN tracking_code VARCHAR")
    op.execute("ALTER TABLE orders ADD COLUMN tracking_url VARCHAR")
    op.execute("ALTER TABLE item ADD COLUMN care_sheet_id INTEGER REFERENCES attached_file (id)")


def downgrade() -> None:
    op.execute("ALTER TABLE item DROP COLUMN care_sheet_id")
    op.execute("ALTER TABLE orders DROP COLUMN tracking_url")
    op.execute("ALTER TABLE orders DROP COLUMN tracking_code")
