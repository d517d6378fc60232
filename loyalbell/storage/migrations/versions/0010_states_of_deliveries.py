"""states of deliveries: in_flight in the place of handing, and no other step than those allowed"""

from alembic import op

revision = "0010"
down_revision = "0009"
branch_labels = None
depends_on = None

ALLOWED = {
    "planned": ("in_flight", "held", "paused", "withheld", "bounced"),
    "held": ("planned", "withheld"),
    "paused": ("planned", "withheld"),
    "in_flight": ("sent", "bounced", "unsure", "failed", "planned"),
    "unsure": ("sent", "bounced", "planned"),
    "sent": ("bounced",),
    "failed": ("planned", "bounced"),
    "bounced": (),
    "withheld": (),
}


def upgrade() -> None:
    op.execute("UPDATE delivery SET state = 'in_flight' WHERE state = 'handing'")
    pairs = ", ".join(f"('{before}', '{after}')" for before, allowed in ALLOWED.items() for after in allowed)
    op.execute(
        "CREATE TRIGGER delivery_transition BEFORE UPDATE OF state ON delivery"
        " WHEN NEW.state <> OLD.state AND (OLD.state, NEW.state) NOT IN (VALUES " + pairs + ")"
        " BEGIN SELECT RAISE(ABORT, 'a delivery cannot go from this state to that one'); END"
    )
    states = ", ".join(f"'{state}'" for state in ALLOWED)
    op.execute(
        f"CREATE TRIGGER delivery_state BEFORE INSERT ON delivery WHEN NEW.state NOT IN ({states})"
        " BEGIN SELECT RAISE(ABORT, 'there is no such state of a delivery'); END"
    )


def downgrade() -> None:
    op.execute("DROP TRIGGER delivery_transition")
    op.execute("DROP TRIGGER delivery_state")
    op.execute("UPDATE delivery SET state = 'handing' WHERE state = 'in_flight'")
