"""Everything known about a person: history, fields, tags, merges, other programs, and a journal for the
ledger
"""

import sqlalchemy as sa
from alembic import op

revision = "0003"
down_revision = "0002"
branch_labels = None
depends_on = None


REFERENCED = "{column} INTEGER CONSTRAINT fk_{table}_{column}_{other} REFERENCES {other} (id)"
ADDED = (
    ("consent_entry", "import_id", "import_run"),
    ("item", "import_id", "import_run"),
    ("orders", "location_id", "location"),
    ("orders", "staff_id", "staff"),
    ("suppression", "import_id", "import_run"),
)

# What a person is found by. Changes of tags, ids and companions write the words of their person anew.
WORDS = """SELECT coalesce(first_name, '') || ' ' || coalesce(last_name, '') || ' ' || coalesce(email, '') || ' ' ||
  coalesce(substr(phone, 2) || ' ' || substr(phone, -10) || ' ' || substr(phone, -7) || ' ' || substr(phone, -4), '')
  || ' ' || coalesce(chat_handle, '') || ' ' ||
  coalesce((SELECT group_concat(value, ' ') FROM external_id WHERE person_id = person.id), '') || ' ' ||
  coalesce((SELECT group_concat(name, ' ') FROM companion WHERE person_id = person.id), '') || ' ' ||
  coalesce((SELECT group_concat(tag.name, ' ') FROM person_tag JOIN tag ON tag.id = tag_id
            WHERE person_id = person.id AND removed_at IS NULL), '')
  FROM person WHERE id = {id}"""
REWRITE = "UPDATE person_search SET words = ({words}) WHERE rowid = {id};"


def _find_more() -> None:
    for act in ("insert", "update"):
        op.execute(f"DROP TRIGGER person_search_{act}")
    op.execute(
        "CREATE TRIGGER person_search_insert AFTER INSERT ON person BEGIN "
        f"INSERT INTO person_search (rowid, words) VALUES (new.id, ({WORDS.format(id='new.id')})); END"
    )
    op.execute(
        "CREATE TRIGGER person_search_update AFTER UPDATE OF first_name, last_name, email, phone,"
        f" chat_handle ON person BEGIN {_rewrite('new.id')} END"
    )
    for table in ("external_id", "companion", "person_tag"):
        for act, row in (("INSERT", "new"), ("UPDATE", "new"), ("DELETE", "old")):
            also = _rewrite("old.person_id") if act == "UPDATE" else ""
            op.execute(
                f"CREATE TRIGGER person_search_{table}_{act.lower()} AFTER {act} ON {table} "
                f"BEGIN {_rewrite(row + '.person_id')} {also} END"
            )
    op.execute(f"UPDATE person_search SET words = ({WORDS.format(id='person_search.rowid')})")


def _rewrite(person_id: str) -> str:
    return REWRITE.format(words=WORDS.format(id=person_id), id=person_id)


def upgrade() -> None:
    op.create_table(
        "api_token",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("name", sa.String(), nullable=False),
        sa.Column("shown", sa.String(), nullable=False),
        sa.Column("token_hash", sa.String(), nullable=False),
        sa.Column("scopes", sa.JSON(), nullable=False),
        sa.Column("made_at", sa.BigInteger(), nullable=False),
        sa.Column("by", sa.String(), nullable=False),
        sa.Column("used_at", sa.BigInteger(), nullable=True),
        sa.Column("revoked_at", sa.BigInteger(), nullable=True),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_api_token")),
        sa.UniqueConstraint("token_hash", name=op.f("uq_api_token_token_hash")),
    )
    op.create_table(
        "book_change",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("part", sa.String(), nullable=False),
        sa.Column("low", sa.Integer(), nullable=True),
        sa.Column("high", sa.Integer(), nullable=True),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_book_change")),
        sqlite_autoincrement=True,
    )
    op.create_table(
        "custom_field",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("name", sa.String(), nullable=False),
        sa.Column("kind", sa.String(), nullable=False),
        sa.Column("choices", sa.JSON(), nullable=False),
        sa.Column("made_at", sa.BigInteger(), nullable=False),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_custom_field")),
        sa.UniqueConstraint("name", name=op.f("uq_custom_field_name")),
    )
    op.create_table(
        "location",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("name", sa.String(), nullable=False),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_location")),
        sa.UniqueConstraint("name", name=op.f("uq_location_name")),
    )
    op.create_table(
        "staff",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("name", sa.String(), nullable=False),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_staff")),
        sa.UniqueConstraint("name", name=op.f("uq_staff_name")),
    )
    op.create_table(
        "tag",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("name", sa.String(), nullable=False),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_tag")),
        sa.UniqueConstraint("name", name=op.f("uq_tag_name")),
    )
    op.create_table(
        "webhook",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("url", sa.String(), nullable=False),
        sa.Column("secret", sa.String(), nullable=False),
        sa.Column("kinds", sa.JSON(), nullable=False),
        sa.Column("made_at", sa.BigInteger(), nullable=False),
        sa.Column("by", sa.String(), nullable=False),
        sa.Column("stopped_at", sa.BigInteger(), nullable=True),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_webhook")),
    )
    op.create_table(
        "import_change",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("import_id", sa.Integer(), nullable=False),
        sa.Column("place", sa.String(), nullable=False),
        sa.Column("row_id", sa.Integer(), nullable=False),
        sa.Column("before", sa.JSON(), nullable=False),
        sa.ForeignKeyConstraint(
            ["import_id"],
            ["import_run.id"],
            name=op.f("fk_import_change_import_id_import_run"),
            ondelete="CASCADE",
        ),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_import_change")),
    )
    op.create_index("ix_import_change_import_id", "import_change", ["import_id"], unique=False)

    op.create_table(
        "kept_answer",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("token_id", sa.Integer(), nullable=False),
        sa.Column("key", sa.String(), nullable=False),
        sa.Column("request_hash", sa.String(), nullable=False),
        sa.Column("status", sa.Integer(), nullable=False),
        sa.Column("body", sa.JSON(), nullable=False),
        sa.Column("at", sa.BigInteger(), nullable=False),
        sa.ForeignKeyConstraint(
            ["token_id"], ["api_token.id"], name=op.f("fk_kept_answer_token_id_api_token"), ondelete="CASCADE"
        ),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_kept_answer")),
        sa.UniqueConstraint("token_id", "key", name=op.f("uq_kept_answer_token_id_key")),
    )
    op.create_table(
        "saved_view",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("name", sa.String(), nullable=False),
        sa.Column("search", sa.String(), nullable=False),
        sa.Column("segment_id", sa.Integer(), nullable=True),
        sa.Column("rule", sa.JSON(), nullable=True),
        sa.Column("columns", sa.JSON(), nullable=False),
        sa.Column("by", sa.String(), nullable=False),
        sa.ForeignKeyConstraint(
            ["segment_id"], ["segment.id"], name=op.f("fk_saved_view_segment_id_segment"), ondelete="SET NULL"
        ),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_saved_view")),
        sa.UniqueConstraint("name", name=op.f("uq_saved_view_name")),
    )
    op.create_table(
        "webhook_delivery",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("webhook_id", sa.Integer(), nullable=False),
        sa.Column("message_id", sa.String(), nullable=False),
        sa.Column("kind", sa.String(), nullable=False),
        sa.Column("body", sa.String(), nullable=False),
        sa.Column("made_at", sa.BigInteger(), nullable=False),
        sa.Column("due_at", sa.BigInteger(), nullable=False),
        sa.Column("attempts", sa.Integer(), nullable=False),
        sa.Column("state", sa.String(), nullable=False),
        sa.Column("status", sa.Integer(), nullable=True),
        sa.Column("problem", sa.String(), nullable=True),
        sa.Column("delivered_at", sa.BigInteger(), nullable=True),
        sa.ForeignKeyConstraint(
            ["webhook_id"],
            ["webhook.id"],
            name=op.f("fk_webhook_delivery_webhook_id_webhook"),
            ondelete="CASCADE",
        ),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_webhook_delivery")),
    )
    op.create_index("ix_webhook_delivery_state_due", "webhook_delivery", ["state", "due_at"], unique=False)
    op.create_index("ix_webhook_delivery_webhook_id", "webhook_delivery", ["webhook_id"], unique=False)

    op.create_table(
        "answer",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("external_id", sa.String(), nullable=True),
        sa.Column("person_id", sa.Integer(), nullable=False),
        sa.Column("kind", sa.String(), nullable=False),
        sa.Column("at", sa.BigInteger(), nullable=False),
        sa.Column("question", sa.String(), nullable=True),
        sa.Column("score", sa.Integer(), nullable=True),
        sa.Column("best", sa.Integer(), nullable=True),
        sa.Column("text", sa.String(), nullable=True),
        sa.Column("item_id", sa.Integer(), nullable=True),
        sa.Column("department_id", sa.Integer(), nullable=True),
        sa.Column("location_id", sa.Integer(), nullable=True),
        sa.Column("staff_id", sa.Integer(), nullable=True),
        sa.Column("import_id", sa.Integer(), nullable=True),
        sa.ForeignKeyConstraint(
            ["department_id"], ["department.id"], name=op.f("fk_answer_department_id_department")
        ),
        sa.ForeignKeyConstraint(
            ["import_id"], ["import_run.id"], name=op.f("fk_answer_import_id_import_run")
        ),
        sa.ForeignKeyConstraint(["item_id"], ["item.id"], name=op.f("fk_answer_item_id_item")),
        sa.ForeignKeyConstraint(
            ["location_id"], ["location.id"], name=op.f("fk_answer_location_id_location")
        ),
        sa.ForeignKeyConstraint(
            ["person_id"], ["person.id"], name=op.f("fk_answer_person_id_person"), ondelete="CASCADE"
        ),
        sa.ForeignKeyConstraint(["staff_id"], ["staff.id"], name=op.f("fk_answer_staff_id_staff")),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_answer")),
        sa.UniqueConstraint("external_id", name=op.f("uq_answer_external_id")),
    )
    op.create_index("ix_answer_person_id", "answer", ["person_id"], unique=False)

    op.create_table(
        "appointment",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("external_id", sa.String(), nullable=True),
        sa.Column("person_id", sa.Integer(), nullable=False),
        sa.Column("booked_at", sa.BigInteger(), nullable=True),
        sa.Column("starts_at", sa.BigInteger(), nullable=False),
        sa.Column("ends_at", sa.BigInteger(), nullable=True),
        sa.Column("state", sa.String(), nullable=False),
        sa.Column("settled_at", sa.BigInteger(), nullable=True),
        sa.Column("item_id", sa.Integer(), nullable=True),
        sa.Column("companion", sa.String(), nullable=True),
        sa.Column("department_id", sa.Integer(), nullable=True),
        sa.Column("location_id", sa.Integer(), nullable=True),
        sa.Column("staff_id", sa.Integer(), nullable=True),
        sa.Column("import_id", sa.Integer(), nullable=True),
        sa.ForeignKeyConstraint(
            ["department_id"], ["department.id"], name=op.f("fk_appointment_department_id_department")
        ),
        sa.ForeignKeyConstraint(
            ["import_id"], ["import_run.id"], name=op.f("fk_appointment_import_id_import_run")
        ),
        sa.ForeignKeyConstraint(["item_id"], ["item.id"], name=op.f("fk_appointment_item_id_item")),
        sa.ForeignKeyConstraint(
            ["location_id"], ["location.id"], name=op.f("fk_appointment_location_id_location")
        ),
        sa.ForeignKeyConstraint(
            ["person_id"], ["person.id"], name=op.f("fk_appointment_person_id_person"), ondelete="CASCADE"
        ),
        sa.ForeignKeyConstraint(["staff_id"], ["staff.id"], name=op.f("fk_appointment_staff_id_staff")),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_appointment")),
        sa.UniqueConstraint("external_id", name=op.f("uq_appointment_external_id")),
    )
    op.create_index("ix_appointment_person_starts", "appointment", ["person_id", "starts_at"], unique=False)

    op.create_table(
        "event",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("external_id", sa.String(), nullable=True),
        sa.Column("person_id", sa.Integer(), nullable=False),
        sa.Column("kind", sa.String(), nullable=False),
        sa.Column("at", sa.BigInteger(), nullable=False),
        sa.Column("properties", sa.JSON(), nullable=False),
        sa.Column("department_id", sa.Integer(), nullable=True),
        sa.Column("location_id", sa.Integer(), nullable=True),
        sa.Column("staff_id", sa.Integer(), nullable=True),
        sa.Column("import_id", sa.Integer(), nullable=True),
        sa.ForeignKeyConstraint(
            ["department_id"], ["department.id"], name=op.f("fk_event_department_id_department")
        ),
        sa.ForeignKeyConstraint(["import_id"], ["import_run.id"], name=op.f("fk_event_import_id_import_run")),
        sa.ForeignKeyConstraint(["location_id"], ["location.id"], name=op.f("fk_event_location_id_location")),
        sa.ForeignKeyConstraint(
            ["person_id"], ["person.id"], name=op.f("fk_event_person_id_person"), ondelete="CASCADE"
        ),
        sa.ForeignKeyConstraint(["staff_id"], ["staff.id"], name=op.f("fk_event_staff_id_staff")),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_event")),
        sa.UniqueConstraint("external_id", name=op.f("uq_event_external_id")),
    )
    op.create_index("ix_event_person_at", "event", ["person_id", "at"], unique=False)

    op.create_table(
        "field_value",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("person_id", sa.Integer(), nullable=False),
        sa.Column("field_id", sa.Integer(), nullable=False),
        sa.Column("value", sa.Text(), nullable=False),
        sa.Column("at", sa.BigInteger(), nullable=False),
        sa.Column("until", sa.BigInteger(), nullable=True),
        sa.ForeignKeyConstraint(
            ["field_id"],
            ["custom_field.id"],
            name=op.f("fk_field_value_field_id_custom_field"),
            ondelete="CASCADE",
        ),
        sa.ForeignKeyConstraint(
            ["person_id"], ["person.id"], name=op.f("fk_field_value_person_id_person"), ondelete="CASCADE"
        ),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_field_value")),
    )
    op.create_index("ix_field_value_field", "field_value", ["field_id", "until"], unique=False)
    op.create_index("ix_field_value_person", "field_value", ["person_id"], unique=False)

    op.create_table(
        "membership",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("external_id", sa.String(), nullable=True),
        sa.Column("person_id", sa.Integer(), nullable=False),
        sa.Column("plan", sa.String(), nullable=False),
        sa.Column("term", sa.String(), nullable=False),
        sa.Column("started_on", sa.Date(), nullable=False),
        sa.Column("renews_on", sa.Date(), nullable=True),
        sa.Column("ended_on", sa.Date(), nullable=True),
        sa.Column("price_minor", sa.Integer(), nullable=True),
        sa.Column("department_id", sa.Integer(), nullable=True),
        sa.Column("location_id", sa.Integer(), nullable=True),
        sa.Column("staff_id", sa.Integer(), nullable=True),
        sa.Column("import_id", sa.Integer(), nullable=True),
        sa.ForeignKeyConstraint(
            ["department_id"], ["department.id"], name=op.f("fk_membership_department_id_department")
        ),
        sa.ForeignKeyConstraint(
            ["import_id"], ["import_run.id"], name=op.f("fk_membership_import_id_import_run")
        ),
        sa.ForeignKeyConstraint(
            ["location_id"], ["location.id"], name=op.f("fk_membership_location_id_location")
        ),
        sa.ForeignKeyConstraint(
            ["person_id"], ["person.id"], name=op.f("fk_membership_person_id_person"), ondelete="CASCADE"
        ),
        sa.ForeignKeyConstraint(["staff_id"], ["staff.id"], name=op.f("fk_membership_staff_id_staff")),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_membership")),
        sa.UniqueConstraint("external_id", name=op.f("uq_membership_external_id")),
    )
    op.create_index("ix_membership_person_id", "membership", ["person_id"], unique=False)

    op.create_table(
        "merge",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("kept_id", sa.Integer(), nullable=False),
        sa.Column("gone_id", sa.Integer(), nullable=False),
        sa.Column("at", sa.BigInteger(), nullable=False),
        sa.Column("by", sa.String(), nullable=False),
        sa.Column("snapshot", sa.JSON(), nullable=False),
        sa.Column("undone_at", sa.BigInteger(), nullable=True),
        sa.ForeignKeyConstraint(
            ["kept_id"], ["person.id"], name=op.f("fk_merge_kept_id_person"), ondelete="CASCADE"
        ),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_merge")),
    )
    op.create_index("ix_merge_kept_id", "merge", ["kept_id"], unique=False)

    op.create_table(
        "not_the_same",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("low_id", sa.Integer(), nullable=False),
        sa.Column("high_id", sa.Integer(), nullable=False),
        sa.Column("at", sa.BigInteger(), nullable=False),
        sa.Column("by", sa.String(), nullable=False),
        sa.ForeignKeyConstraint(
            ["high_id"], ["person.id"], name=op.f("fk_not_the_same_high_id_person"), ondelete="CASCADE"
        ),
        sa.ForeignKeyConstraint(
            ["low_id"], ["person.id"], name=op.f("fk_not_the_same_low_id_person"), ondelete="CASCADE"
        ),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_not_the_same")),
        sa.UniqueConstraint("low_id", "high_id", name=op.f("uq_not_the_same_low_id_high_id")),
    )
    op.create_index("ix_not_the_same_high_id", "not_the_same", ["high_id"], unique=False)

    op.create_table(
        "note",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("person_id", sa.Integer(), nullable=False),
        sa.Column("at", sa.BigInteger(), nullable=False),
        sa.Column("by", sa.String(), nullable=False),
        sa.Column("text", sa.String(), nullable=False),
        sa.ForeignKeyConstraint(
            ["person_id"], ["person.id"], name=op.f("fk_note_person_id_person"), ondelete="CASCADE"
        ),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_note")),
    )
    op.create_index("ix_note_person_id", "note", ["person_id"], unique=False)

    op.create_table(
        "person_change",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("person_id", sa.Integer(), nullable=False),
        sa.Column("at", sa.BigInteger(), nullable=False),
        sa.Column("by", sa.String(), nullable=False),
        sa.Column("what", sa.String(), nullable=False),
        sa.Column("before", sa.String(), nullable=True),
        sa.Column("after", sa.String(), nullable=True),
        sa.ForeignKeyConstraint(
            ["person_id"], ["person.id"], name=op.f("fk_person_change_person_id_person"), ondelete="CASCADE"
        ),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_person_change")),
    )
    op.create_index("ix_person_change_person_id", "person_change", ["person_id"], unique=False)

    op.create_table(
        "person_tag",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("person_id", sa.Integer(), nullable=False),
        sa.Column("tag_id", sa.Integer(), nullable=False),
        sa.Column("at", sa.BigInteger(), nullable=False),
        sa.Column("removed_at", sa.BigInteger(), nullable=True),
        sa.ForeignKeyConstraint(
            ["person_id"], ["person.id"], name=op.f("fk_person_tag_person_id_person"), ondelete="CASCADE"
        ),
        sa.ForeignKeyConstraint(
            ["tag_id"], ["tag.id"], name=op.f("fk_person_tag_tag_id_tag"), ondelete="CASCADE"
        ),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_person_tag")),
    )
    op.create_index("ix_person_tag_person", "person_tag", ["person_id"], unique=False)
    op.create_index("ix_person_tag_tag", "person_tag", ["tag_id"], unique=False)

    op.create_table(
        "visit",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("external_id", sa.String(), nullable=True),
        sa.Column("person_id", sa.Integer(), nullable=False),
        sa.Column("at", sa.BigInteger(), nullable=False),
        sa.Column("department_id", sa.Integer(), nullable=True),
        sa.Column("location_id", sa.Integer(), nullable=True),
        sa.Column("staff_id", sa.Integer(), nullable=True),
        sa.Column("import_id", sa.Integer(), nullable=True),
        sa.ForeignKeyConstraint(
            ["department_id"], ["department.id"], name=op.f("fk_visit_department_id_department")
        ),
        sa.ForeignKeyConstraint(["import_id"], ["import_run.id"], name=op.f("fk_visit_import_id_import_run")),
        sa.ForeignKeyConstraint(["location_id"], ["location.id"], name=op.f("fk_visit_location_id_location")),
        sa.ForeignKeyConstraint(
            ["person_id"], ["person.id"], name=op.f("fk_visit_person_id_person"), ondelete="CASCADE"
        ),
        sa.ForeignKeyConstraint(["staff_id"], ["staff.id"], name=op.f("fk_visit_staff_id_staff")),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_visit")),
        sa.UniqueConstraint("external_id", name=op.f("uq_visit_external_id")),
    )
    op.create_index("ix_visit_person_at", "visit", ["person_id", "at"], unique=False)

    op.create_table(
        "yearly_date",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("person_id", sa.Integer(), nullable=False),
        sa.Column("name", sa.String(), nullable=False),
        sa.Column("month", sa.Integer(), nullable=False),
        sa.Column("day", sa.Integer(), nullable=False),
        sa.Column("year", sa.Integer(), nullable=True),
        sa.ForeignKeyConstraint(
            ["person_id"], ["person.id"], name=op.f("fk_yearly_date_person_id_person"), ondelete="CASCADE"
        ),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_yearly_date")),
        sa.UniqueConstraint("person_id", "name", name=op.f("uq_yearly_date_person_id_name")),
    )
    op.drop_table("book_version")
    op.add_column("import_run", sa.Column("shape", sa.String(), nullable=True))
    op.add_column("import_run", sa.Column("undone_at", sa.BigInteger(), nullable=True))
    op.add_column("import_run", sa.Column("undone_by", sa.String(), nullable=True))
    op.create_index("ix_import_run_shape", "import_run", ["shape"], unique=False)
    op.add_column("item", sa.Column("margin_minor", sa.Integer(), nullable=True))
    op.add_column("item", sa.Column("picture_url", sa.String(), nullable=True))
    op.add_column("item", sa.Column("link", sa.String(), nullable=True))
    op.add_column("item", sa.Column("in_stock", sa.Boolean(), server_default="1", nullable=False))
    op.add_column("order_line", sa.Column("discount_minor", sa.Integer(), server_default="0", nullable=False))
    op.add_column("orders", sa.Column("discount_minor", sa.Integer(), server_default="0", nullable=False))
    op.add_column("orders", sa.Column("in_person", sa.Boolean(), server_default="1", nullable=False))
    op.add_column("person", sa.Column("email_given", sa.String(), nullable=True))
    op.add_column("suppression", sa.Column("by", sa.String(), nullable=True))
    for table, column, other in ADDED:
        op.execute(
            f"ALTER TABLE {table} ADD COLUMN " + REFERENCED.format(table=table, column=column, other=other)
        )
    op.execute("CREATE INDEX ix_person_email_small ON person (lower(email))")
    op.execute("CREATE INDEX ix_suppression_small ON suppression (channel, lower(address))")
    _find_more()


def downgrade() -> None:
    raise NotImplementedError("A book goes back to an earlier version by its backup.")
