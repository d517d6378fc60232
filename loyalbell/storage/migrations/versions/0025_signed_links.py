"""links that messages left with before they were signed go on working"""

import sqlalchemy as sa
from alembic import op

revision = "0025"
down_revision = "0024"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.execute(
        sa.text(
            "INSERT INTO setting (name, value) SELECT 'signed links',"
            " json_object('after', coalesce((SELECT max(id) FROM delivery), 0))"
            " WHERE EXISTS (SELECT 1 FROM delivery)"
        )
    )


def downgrade() -> None:
    op.execute("DELETE FROM setting WHERE name = 'signed links'")
