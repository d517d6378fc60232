"""Every row about a person, whichever table holds it: found by what the tables say they belong to, so that a
new table is in it by itself.
"""

import json
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from sqlalchemy import Column, Row, Select, Table, delete, func, or_, select
from sqlalchemy.orm import Session

from loyalbell.storage.schema import Base, ImportChange, ImportRun, Person

UNDER = {"order_line": "order_id", "delivery_event": "delivery_id", "redemption": "code_id"}
"""Tables whose rows belong to a row that belongs to a person, and the column that says to which."""
AT_ONCE = 500


@dataclass(frozen=True)
class Holding:
    """A table with rows about people: ``of`` is the column that leads to them."""

    table: Table
    of: Column[int]

    def rows(self, people: Sequence[int]) -> Select[tuple[object, ...]]:
        return select(self.table).where(self._among(people)).order_by(self.table.c.id)

    def count(self, session: Session, people: Sequence[int]) -> int:
        query = select(func.count()).select_from(self.table).where(self._among(people))
        return session.scalar(query) or 0

    def ids(self, people: Sequence[int]) -> Select[tuple[int]]:
        return select(self.table.c.id).where(self._among(people))

    def _among(self, people: Sequence[int]):  # type: ignore[no-untyped-def]
        target = next(iter(self.of.foreign_keys)).column.table
        if target.name == "person":
            return self.of.in_(people)
        above = next(one for one in _direct() if one.table.name == target.name)
        return self.of.in_(above.ids(people))


def _direct() -> Iterator[Holding]:
    for table in Base.metadata.sorted_tables:
        for column in table.columns:
            if any(key.column.table.name == "person" for key in column.foreign_keys):
                yield Holding(table, column)


def holdings() -> list[Holding]:
    """All tables with rows about people, those under them after them."""
    tables = Base.metadata.tables
    under = [Holding(tables[name], tables[name].c[column]) for name, column in UNDER.items()]
    return [*_direct(), *under]


def counts(session: Session, people: Sequence[int]) -> dict[str, int]:
    """Rows about these people by table, where there are any."""
    found: dict[str, int] = {}
    for start in range(0, len(people), AT_ONCE):
        some = people[start : start + AT_ONCE]
        for one in holdings():
            count = one.count(session, some)
            if count:
                found[one.table.name] = found.get(one.table.name, 0) + count
    return found


def rows_of(session: Session, person_id: int) -> Iterator[tuple[str, Row[tuple[object, ...]]]]:
    """(table, row) of everything about one person."""
    for one in holdings():
        for row in session.execute(one.rows([person_id])):
            yield one.table.name, row


def delete_traces(session: Session, people: Sequence[Person]) -> None:
    """What is kept of people apart from their own rows: what undoing an import would put back, and refused
    rows that are shown as examples. Call it before the people are deleted.
    """
    ids = [person.id for person in people]
    changed = or_(
        (ImportChange.place == "person") & ImportChange.row_id.in_(ids),
        *(
            (ImportChange.place == one.table.name) & ImportChange.row_id.in_(one.ids(ids))
            for one in holdings()
        ),
    )
    session.execute(delete(ImportChange).where(changed))
    addresses = {
        address.lower() for one in people for address in (one.email, one.phone, one.chat_handle) if address
    }
    for run in session.scalars(select(ImportRun)):
        told = json.dumps([run.problems, run.examples], ensure_ascii=False).lower()
        if any(address in told for address in addresses):
            # how many stays; the rows shown as examples go
            run.problems = [group | {"examples": []} for group in run.problems]
            run.examples = []
