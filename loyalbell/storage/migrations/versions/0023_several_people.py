"""several people: roles, links, second factors, sessions by place, a chained log, approvals"""

import json

import sqlalchemy as sa
from alembic import op

from loyalbell.storage.log_chain import relink

revision = "0023"
down_revision = "0022"
branch_labels = None
depends_on = None

ONLY_ADDED = (
    "CREATE TRIGGER log_entry_stays BEFORE UPDATE ON log_entry"
    " BEGIN SELECT RAISE(ABORT, 'the log is never changed'); END",
    "CREATE TRIGGER log_entry_is_kept BEFORE DELETE ON log_entry"
    " WHEN NOT EXISTS (SELECT 1 FROM log_start WHERE up_to >= OLD.id)"
    " BEGIN SELECT RAISE(ABORT, 'the log is never cut'); END",
)


def upgrade() -> None:
    with op.batch_alter_table("user") as table:
        table.add_column(sa.Column("departments", sa.JSON(), server_default="[]", nullable=False))
        table.add_column(sa.Column("invited_at", sa.BigInteger(), nullable=True))
        table.add_column(sa.Column("ended_at", sa.BigInteger(), nullable=True))
        table.add_column(sa.Column("second_factor", sa.String(), server_default="", nullable=False))
        table.add_column(sa.Column("recovery", sa.JSON(), server_default="[]", nullable=False))
        table.add_column(sa.Column("last_code", sa.Integer(), server_default="0", nullable=False))
    op.execute("DELETE FROM session WHERE user_id IS NULL")
    with op.batch_alter_table("session") as table:
        table.add_column(sa.Column("made_at", sa.BigInteger(), nullable=True))
        table.add_column(sa.Column("source", sa.String(), server_default="", nullable=False))
        table.add_column(sa.Column("browser", sa.String(), server_default="", nullable=False))
        table.add_column(sa.Column("waits_for_code", sa.Boolean(), server_default=sa.false(), nullable=False))
    op.create_table(
        "account_link",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("user_id", sa.Integer(), nullable=False),
        sa.Column("purpose", sa.String(), nullable=False),
        sa.Column("token_hash", sa.String(), nullable=False),
        sa.Column("made_at", sa.BigInteger(), nullable=False),
        sa.Column("expires_at", sa.BigInteger(), nullable=False),
        sa.Column("used_at", sa.BigInteger(), nullable=True),
        sa.ForeignKeyConstraint(
            ["user_id"], ["user.id"], name="fk_account_link_user_id_user", ondelete="CASCADE"
        ),
        sa.PrimaryKeyConstraint("id", name="pk_account_link"),
        sa.UniqueConstraint("token_hash", name="uq_account_link_token_hash"),
    )
    op.create_index("ix_account_link_user_id", "account_link", ["user_id"])
    _log()
    op.create_table(
        "approval_request",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("kind", sa.String(), nullable=False),
        sa.Column("about_id", sa.Integer(), nullable=False),
        sa.Column("user_id", sa.Integer(), nullable=True),
        sa.Column("by", sa.String(), nullable=False),
        sa.Column("at", sa.BigInteger(), nullable=False),
        sa.Column("detail", sa.JSON(), nullable=False),
        sa.Column("closed_at", sa.BigInteger(), nullable=True),
        sa.Column("closed_by", sa.String(), nullable=False),
        sa.Column("outcome", sa.String(), nullable=False),
        sa.Column("words", sa.String(), nullable=False),
        sa.ForeignKeyConstraint(
            ["user_id"], ["user.id"], name="fk_approval_request_user_id_user", ondelete="SET NULL"
        ),
        sa.PrimaryKeyConstraint("id", name="pk_approval_request"),
    )


def _log() -> None:
    with op.batch_alter_table("log_entry") as table:
        table.add_column(sa.Column("source", sa.String(), server_default="", nullable=False))
        table.add_column(sa.Column("chain", sa.String(), server_default="", nullable=False))
        table.create_index("ix_log_entry_at", ["at"])
    op.create_table(
        "log_start",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("up_to", sa.Integer(), nullable=False),
        sa.Column("chain", sa.String(), nullable=False),
        sa.PrimaryKeyConstraint("id", name="pk_log_start"),
    )
    book = op.get_bind()
    rows = book.execute(sa.text('SELECT id, at, "by", act, detail FROM log_entry ORDER BY id')).all()
    hashes = relink((row.at, row.by, row.act, json.loads(row.detail)) for row in rows)
    for row, chain in zip(rows, hashes, strict=True):
        book.execute(
            sa.text("UPDATE log_entry SET chain = :chain WHERE id = :id"), {"chain": chain, "id": row.id}
        )
    for trigger in ONLY_ADDED:
        op.execute(trigger)


def downgrade() -> None:
    op.execute("DROP TRIGGER log_entry_stays")
    op.execute("DROP TRIGGER log_entry_is_kept")
    op.drop_table("approval_request")
    op.drop_table("log_start")
    op.drop_table("account_link")
    for name, columns in (
        ("log_entry", ("source", "chain")),
        ("session", ("made_at", "source", "browser", "waits_for_code")),
        ("user", ("departments", "invited_at", "ended_at", "second_factor", "recovery", "last_code")),
    ):
        with op.batch_alter_table(name) as table:
            if name == "log_entry":
                table.drop_index("ix_log_entry_at")
            for column in columns:
                table.drop_column(column)
