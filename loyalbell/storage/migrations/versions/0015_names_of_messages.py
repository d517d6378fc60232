"""names of messages of their own, which are not the tokens of links; when a person let a message go"""

from alembic import op

revision = "0015"
down_revision = "0014"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.execute("ALTER TABLE delivery ADD COLUMN decided_at BIGINT")
    op.execute("ALTER TABLE delivery ADD COLUMN message_key VARCHAR DEFAULT '' NOT NULL")
    # what has left, or is planned by a program of before, is known to the networks by its token
    op.execute("UPDATE delivery SET message_key = token")
    op.execute("CREATE INDEX ix_delivery_message_key ON delivery (message_key) WHERE message_key != ''")


def downgrade() -> None:
    op.execute("DROP INDEX ix_delivery_message_key")
    op.execute("ALTER TABLE delivery DROP COLUMN message_key")
    op.execute("ALTER TABLE delivery DROP COLUMN decided_at")
