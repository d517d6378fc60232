"""the names of the trade: delivery, delivery_event, leader_lease, change_log"""

from alembic import op

revision = "0009"
down_revision = "0008"
branch_labels = None
depends_on = None

TABLES = (
    ("touch", "delivery"),
    ("touch_event", "delivery_event"),
    ("tick_lock", "leader_lease"),
    ("book_change", "change_log"),
)
COLUMNS = (
    ("delivery_event", "touch_id", "delivery_id"),
    ("offer_code", "touch_id", "delivery_id"),
    ("reply", "touch_id", "delivery_id"),
)
INDEXES = (
    ("ix_touch_state_due", "ix_delivery_state_due", "delivery", ["state", "due_at"]),
    ("ix_touch_person", "ix_delivery_person", "delivery", ["person_id", "id"]),
    ("ix_touch_event_touch_id", "ix_delivery_event_delivery_id", "delivery_event", ["delivery_id"]),
    ("ix_offer_code_touch_id", "ix_offer_code_delivery_id", "offer_code", ["delivery_id"]),
    ("ix_reply_touch_id", "ix_reply_delivery_id", "reply", ["delivery_id"]),
)
ONCE = ["origin_kind", "origin_id", "step", "occurrence", "person_id"]
# Merges keep the tables and columns of their steps by name, so that they can be parted again.
IN_MERGES = (
    ('"touch"', '"delivery"'),
    ('"touch_id"', '"delivery_id"'),
    ('"touch_event"', '"delivery_event"'),
)


def upgrade() -> None:
    for old, new in TABLES:
        op.rename_table(old, new)
    for table, old, new in COLUMNS:
        op.execute(f"ALTER TABLE {table} RENAME COLUMN {old} TO {new}")
    for old, new, table, columns in INDEXES:
        op.execute(f"DROP INDEX {old}")
        op.create_index(new, table, columns)
    _name_constraints("touch", "delivery")
    for old, new in IN_MERGES:
        op.execute(f"UPDATE merge SET snapshot = replace(snapshot, '{old}', '{new}')")


def _name_constraints(old: str, new: str) -> None:
    """SQLite renames no constraint: the table is copied into one that has them under the new names."""
    with op.batch_alter_table("delivery") as batch:
        for columns in (ONCE, ["token"]):
            batch.drop_constraint(f"uq_{old}_{'_'.join(columns)}", type_="unique")
            batch.create_unique_constraint(f"uq_{new}_{'_'.join(columns)}", columns)


def downgrade() -> None:
    _name_constraints("delivery", "touch")
    for old, new in IN_MERGES:
        op.execute(f"UPDATE merge SET snapshot = replace(snapshot, '{new}', '{old}')")
    for _old, new, _table, _columns in INDEXES:
        op.execute(f"DROP INDEX {new}")
    for table, old, new in COLUMNS:
        op.execute(f"ALTER TABLE {table} RENAME COLUMN {new} TO {old}")
    for old, new in TABLES:
        op.rename_table(new, old)
    for old, _new, table, columns in INDEXES:
        op.create_index(old, table, [column.replace("delivery_id", "touch_id") for column in columns])
