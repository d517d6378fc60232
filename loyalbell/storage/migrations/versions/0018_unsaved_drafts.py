"""what somebody is writing and has not saved"""

from alembic import op

revision = "0018"
down_revision = "0017"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.execute(
        """
        CREATE TABLE unsaved_draft (
            id INTEGER NOT NULL,
            user_id INTEGER NOT NULL,
            kind VARCHAR NOT NULL,
            about VARCHAR NOT NULL,
            base VARCHAR NOT NULL,
            content JSON,
            at BIGINT NOT NULL,
            PRIMARY KEY (id),
            CONSTRAINT uq_unsaved_draft_user_id_kind_about UNIQUE (user_id, kind, about),
            FOREIGN KEY(user_id) REFERENCES user (id) ON DELETE CASCADE
        )
        """
    )


def downgrade() -> None:
    op.execute("DROP TABLE unsaved_draft")
