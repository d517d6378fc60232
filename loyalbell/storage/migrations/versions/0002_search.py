"""Customers are found by an index of words, kept in step by triggers"""

from alembic import op

revision = "0002"
down_revision = "0001"
branch_labels = None
depends_on = None

# A phone is found by its whole number, without the country, by its last seven and its last four digits.
WORDS = (
    "coalesce({p}first_name, '') || ' ' || coalesce({p}last_name, '') || ' ' || coalesce({p}email, '') || ' '"
    " || coalesce(substr({p}phone, 2) || ' ' || substr({p}phone, -10) || ' ' || substr({p}phone, -7) || ' '"
    " || substr({p}phone, -4), '')"
)
NEW = WORDS.format(p="new.")


def upgrade() -> None:
    op.execute(
        "CREATE VIRTUAL TABLE person_search USING fts5("
        "words, tokenize = 'unicode61 remove_diacritics 2', prefix = '2 3 4')"
    )
    op.execute(f"INSERT INTO person_search (rowid, words) SELECT id, {WORDS.format(p='')} FROM person")
    op.execute(
        "CREATE TRIGGER person_search_insert AFTER INSERT ON person BEGIN "
        f"INSERT INTO person_search (rowid, words) VALUES (new.id, {NEW}); END"
    )
    op.execute(
        "CREATE TRIGGER person_search_update AFTER UPDATE OF first_name, last_name, email, phone ON person"
        f" BEGIN UPDATE person_search SET words = {NEW} WHERE rowid = new.id; END"
    )
    op.execute(
        "CREATE TRIGGER person_search_delete AFTER DELETE ON person BEGIN "
        "DELETE FROM person_search WHERE rowid = old.id; END"
    )


def downgrade() -> None:
    for act in ("insert", "update", "delete"):
        op.execute(f"DROP TRIGGER person_search_{act}")
    op.execute("DROP TABLE person_search")
