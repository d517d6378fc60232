"""How Alembic reaches the book."""

from typing import Any, Literal

from alembic import context
from sqlalchemy import Connection, create_engine

from loyalbell.storage.schema import Base, Instant


def render_item(kind: str, item: Any, _context: Any) -> str | Literal[False]:
    """Migrations stand alone: they name the plain column type behind our own."""
    return "sa.BigInteger()" if kind == "type" and isinstance(item, Instant) else False


def include_name(name: str | None, kind: str, _parents: Any) -> bool:
    """The word index and its own tables are made by hand."""
    return not (kind == "table" and (name or "").startswith("person_search"))


def run_on(connection: Connection) -> None:
    context.configure(
        connection=connection,
        target_metadata=Base.metadata,
        render_as_batch=True,
        render_item=render_item,
        include_name=include_name,
    )
    with context.begin_transaction():
        context.run_migrations()


def run() -> None:
    """Within the transaction of a connection that is given, else on one of its own."""
    given: Connection | None = context.config.attributes.get("connection")
    if given is not None:
        run_on(given)
        return
    engine = create_engine(context.config.get_main_option("sqlalchemy.url") or "")
    with engine.begin() as connection:
        run_on(connection)
    engine.dispose()


run()
