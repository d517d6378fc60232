"""Whose the orders of a file are: found among those on file, or made of what the file says where that is
wished.
"""

from collections.abc import Mapping, Sequence
from datetime import UTC, datetime
from typing import Any

from sqlalchemy.orm import Session

from loyalbell.storage.files.columns.column_mapping import ColumnMap
from loyalbell.storage.files.customers.custom_columns import OwnColumns
from loyalbell.storage.files.customers.customer_upsert import CustomerUpsert
from loyalbell.storage.files.import_outcome import Counts
from loyalbell.storage.files.import_problems import Problem
from loyalbell.storage.records.parsers import Bad, CellReader, Email, Phone, Text, Unreadable
from loyalbell.storage.records.person_names import part_name
from loyalbell.storage.records.person_resolver import PersonResolver

TARGETS = {"customer_id": "id", "email": "email", "phone": "phone"}
WORDS = {"customer_id": "the id", "email": "the email", "phone": "the phone"}
UNKNOWN = "is {what} of no customer on file"
Columns = Mapping[str, Sequence[str]]


class Whose(CellReader):
    """The person a cell names, by one of the indexes of who is known."""

    def __init__(self, index: dict[str, int], what: str, reader: CellReader) -> None:
        super().__init__()
        self.index, self.what, self.reader = index, what, reader

    def read(self, text: str) -> int:
        value = self.reader[text]
        if isinstance(value, Bad):
            raise Unreadable(value.value, value.cause)
        known = value.lower() if self.what == "the email" else value
        if known not in self.index:
            raise Unreadable(text, UNKNOWN.format(what=self.what), "; import customers first")
        return self.index[known]


class OrderPeople:
    """``made`` counts those who were not on file."""

    def __init__(
        self, session: Session, columns: ColumnMap, country: str, known: PersonResolver, write: bool
    ) -> None:
        self.session, self.columns, self.country, self.write = session, columns, country, write
        self.plain = {"customer_id": Text(), "email": Email(), "phone": Phone(country)}
        indexes = {"customer_id": known.by_id, "email": known.by_email, "phone": known.by_phone}
        self.readers = {
            target: Whose(indexes[target], WORDS[target], self.plain[target])
            for target in TARGETS
            if target in columns.columns
        }
        self.known, self.made = known, 0

    def of_rows(self, cells: Columns, import_id: int | None) -> tuple[list[int | None], dict[int, Problem]]:
        """The person of each row of a chunk; and why a row has none, where a cell names somebody."""
        people, problems = self._found(cells)
        if problems and self.columns.make_people:
            self._make(cells, sorted(problems), import_id)
            people, problems = self._found(cells)
        return people, problems

    def _found(self, cells: Columns) -> tuple[list[int | None], dict[int, Problem]]:
        read = {
            target: list(map(reader.__getitem__, cells[target])) for target, reader in self.readers.items()
        }
        if not any(reader.has_bad for reader in self.readers.values()):
            if len(read) == 1:
                return next(iter(read.values())), {}
            rows = zip(*read.values(), strict=True)
            return [next((name for name in names if name is not None), None) for names in rows], {}
        people: list[int | None] = []
        problems = {}
        for at, names in enumerate(zip(*read.values(), strict=True)):
            person = next((name for name in names if isinstance(name, int)), None)
            people.append(person)
            if person is None:
                named = [(target, name) for target, name in zip(read, names, strict=True) if name is not None]
                for target, bad in named[:1]:
                    problems[at] = Problem(bad.reason, bad.cause, target, bad.value)
        return people, problems

    def _make(self, cells: Columns, rows: Sequence[int], import_id: int | None) -> None:
        now = datetime.now(UTC)
        own = OwnColumns(self.session, ColumnMap({}, self.columns.zone), now, import_id, self.write)
        taking = CustomerUpsert(
            self.session, self.known, own, now, import_id, self.write, f"import {import_id}"
        )
        counts = Counts()
        named = [(at, values) for at in rows if (values := self._values(cells, at))]
        taking.take(named, counts)
        self.made += counts.created
        for reader in self.readers.values():
            reader.clear()
            reader.has_bad = False

    def _values(self, cells: Columns, at: int) -> dict[str, Any]:
        values: dict[str, Any] = {}
        for target, name in TARGETS.items():
            value = self.plain[target][cells[target][at]] if target in cells else None
            if value is not None and not isinstance(value, Bad):
                values[name] = value
        whole = cells["customer_name"][at].strip() if "customer_name" in cells else ""
        if values and whole:
            first, last = part_name(whole, self.country)
            values |= {"first_name": first, "last_name": last or None}
        return values
