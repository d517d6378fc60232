"""Fails when the tables in the code and the newest migration differ.

``python scripts/check_migrations.py new "what changes"`` writes the missing migration.
"""

import sys
import tempfile
from pathlib import Path

from alembic import command
from alembic.autogenerate import compare_metadata
from alembic.migration import MigrationContext
from sqlalchemy import create_engine

from loyalbell.storage.opening import migration_config
from loyalbell.storage.schema import Base

VERSIONS = Path(__file__).resolve().parent.parent / "loyalbell/storage/migrations/versions"


def next_number() -> str:
    return f"{len(list(VERSIONS.glob('[0-9]*.py'))) + 1:04d}"


def ours(name: str | None, kind: str, _parents: object) -> bool:
    """The word index and its own tables are made by hand, not from the models."""
    return not (kind == "table" and (name or "").startswith("person_search"))


def main() -> int:
    with tempfile.TemporaryDirectory() as folder:
        url = f"sqlite:///{Path(folder) / 'book.sqlite3'}"
        config = migration_config(url)
        command.upgrade(config, "head")
        if sys.argv[1:2] == ["new"]:
            command.revision(config, message=sys.argv[2], autogenerate=True, rev_id=next_number())
            return 0
        engine = create_engine(url)
        with engine.connect() as connection:
            context = MigrationContext.configure(
                connection, opts={"compare_type": False, "include_name": ours}
            )
            differences = compare_metadata(context, Base.metadata)
        engine.dispose()
    for difference in differences:
        print(f"no migration for: {difference}")
    print(
        "migrations: as the tables"
        if not differences
        else "run: python scripts/check_migrations.py new '...'"
    )
    return 1 if differences else 0


if __name__ == "__main__":
    sys.exit(main())
