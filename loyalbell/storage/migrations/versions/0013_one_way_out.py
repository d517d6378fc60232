"""places wait for their message; how channels stand; fencing number; patience counts from the first try"""

import sqlalchemy as sa
from alembic import op

revision = "0013"
down_revision = "0012"
branch_labels = None
depends_on = None

ALLOWED = {
    "planned": ("in_flight", "held", "paused", "withheld", "bounced", "failed"),
    "held": ("planned", "withheld"),
    "paused": ("planned", "withheld"),
    "in_flight": ("sent", "bounced", "unsure", "failed", "planned"),
    "unsure": ("sent", "bounced", "planned"),
    "sent": ("bounced",),
    "failed": ("planned", "bounced", "withheld"),
    "bounced": (),
    "withheld": (),
}
TRIGGER = (
    "CREATE TRIGGER delivery_transition BEFORE UPDATE OF state ON delivery"
    " WHEN NEW.state <> OLD.state AND (OLD.state, NEW.state) NOT IN (VALUES {})"
    " BEGIN SELECT RAISE(ABORT, 'a delivery cannot go from this state to that one'); END"
)


def _allow(allowed: dict[str, tuple[str, ...]]) -> None:
    pairs = ", ".join(f"('{before}', '{after}')" for before, afters in allowed.items() for after in afters)
    op.execute("DROP TRIGGER IF EXISTS delivery_transition")
    op.execute(TRIGGER.format(pairs))


def upgrade() -> None:
    op.execute("ALTER TABLE delivery ADD COLUMN first_due_at BIGINT")
    op.execute("ALTER TABLE enrolment ADD COLUMN awaits VARCHAR DEFAULT '' NOT NULL")
    op.execute("CREATE INDEX ix_enrolment_on_its_way ON enrolment (sequence_id) WHERE awaits = 'on its way'")
    op.execute("ALTER TABLE leader_lease ADD COLUMN number INTEGER DEFAULT 0 NOT NULL")
    op.execute("ALTER TABLE sequence ADD COLUMN by_weekday TEXT DEFAULT '[]' NOT NULL")
    op.execute("ALTER TABLE sequence ADD COLUMN let_in TEXT DEFAULT '{}' NOT NULL")
    op.execute("ALTER TABLE held_batch ADD COLUMN is_usual BOOLEAN DEFAULT 0 NOT NULL")
    op.execute("ALTER TABLE offer_code ADD COLUMN run VARCHAR DEFAULT '' NOT NULL")
    op.create_table(
        "channel_circuit",
        sa.Column("channel", sa.String(), nullable=False),
        sa.Column("since", sa.BigInteger(), nullable=True),
        sa.Column("words", sa.String(), server_default="", nullable=False),
        sa.Column("try_at", sa.BigInteger(), nullable=True),
        sa.Column("failures", sa.Integer(), server_default="0", nullable=False),
        sa.Column("most", sa.Integer(), nullable=True),
        sa.Column("shape", sa.String(), server_default="", nullable=False),
        sa.Column("believed", sa.String(), server_default="", nullable=False),
        sa.PrimaryKeyConstraint("channel"),
    )
    _allow(ALLOWED)


def downgrade() -> None:
    _allow({**ALLOWED, "planned": ALLOWED["planned"][:-1], "failed": ALLOWED["failed"][:-1]})
    op.drop_table("channel_circuit")
    op.execute("ALTER TABLE held_batch DROP COLUMN is_usual")
    op.execute("ALTER TABLE sequence DROP COLUMN let_in")
    op.execute("ALTER TABLE sequence DROP COLUMN by_weekday")
    op.execute("ALTER TABLE offer_code DROP COLUMN run")
    op.execute("ALTER TABLE leader_lease DROP COLUMN number")
    op.execute("DROP INDEX ix_enrolment_on_its_way")
    op.execute("ALTER TABLE enrolment DROP COLUMN awaits")
    op.execute("ALTER TABLE delivery DROP COLUMN first_due_at")
