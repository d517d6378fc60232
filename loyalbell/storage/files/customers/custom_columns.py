"""Columns of a customers file that hold what only this shop keeps: fields, yearly dates, ids of other
programs.
"""

from collections.abc import Mapping
from datetime import UTC, datetime
from typing import Any

from sqlalchemy import insert, select
from sqlalchemy.orm import Session

from loyalbell.storage.files.columns.column_mapping import ColumnMap
from loyalbell.storage.files.columns.heading_words import plain_heading
from loyalbell.storage.records.custom_fields import KINDS, read_field
from loyalbell.storage.records.date_cells import Birthday
from loyalbell.storage.records.parsers import CellReader, Text
from loyalbell.storage.records.person_facts import PersonFacts
from loyalbell.storage.records.person_resolver import SOURCE
from loyalbell.storage.records.targets import Target
from loyalbell.storage.schema import CustomField, ExternalId
from loyalbell.storage.yearly_names import yearly_names

MOST_CHOICES = 200


def own_targets(session: Session) -> tuple[Target, ...]:
    """The targets that only this shop has, in order of their names."""
    fields = session.execute(select(CustomField.id, CustomField.name).order_by(CustomField.name))
    names = yearly_names(session)
    sources = session.scalars(
        select(ExternalId.source).where(ExternalId.source != SOURCE).distinct().order_by(ExternalId.source)
    )
    return (
        *(Target(f"field:{at}", f"your field “{name}”", (plain_heading(name),)) for at, name in fields),
        *(
            Target(
                f"yearly:{name}",
                f"yearly date “{name}”",
                (plain_heading(f"{name} yearly"), plain_heading(name)),
            )
            for name in names
        ),
        *(Target(f"id:{name}", f"id in {name}", (plain_heading(f"id in {name}"),)) for name in sources),
    )


def is_own(target: str) -> bool:
    return target.startswith(("field:", "yearly:", "id:", "new:"))


class FieldCell(CellReader):
    """A cell of one of the shop's fields. A field that is being made takes new choices as they come."""

    def __init__(self, field: CustomField, columns: ColumnMap, is_new: bool) -> None:
        super().__init__()
        self.field, self.day_first, self.is_new = field, columns.day_first, is_new
        self.comma = columns.mark == ","

    def read(self, text: str) -> Any:
        if self.field.kind == "number" and self.comma:
            text = text.replace(".", "").replace(",", ".")
        if self.is_new and "choice" in self.field.kind:
            self._learn(text)
        return read_field(self.field, text, self.day_first)

    def _learn(self, text: str) -> None:
        known = {choice.casefold() for choice in self.field.choices}
        words = text.split(";") if self.field.kind == "several choices" else [text]
        fresh = [word.strip() for word in words if word.strip() and word.strip().casefold() not in known]
        if len(self.field.choices) + len(fresh) > MOST_CHOICES:
            raise ValueError(f"more than {MOST_CHOICES} different choices; import this column as text")
        self.field.choices = [*self.field.choices, *dict.fromkeys(fresh)]


class OwnColumns:
    """Reads and keeps the own columns of one import."""

    def __init__(
        self, session: Session, columns: ColumnMap, now: datetime, import_id: int | None, write: bool
    ) -> None:
        self.session, self.now, self.write = session, now, write
        self.facts = PersonFacts(session, int(now.timestamp()), import_id, write)
        self.fields: dict[str, CustomField] = {}
        self.yearly: dict[str, str] = {}
        self.sources: dict[str, str] = {}
        self.readers: dict[str, CellReader] = {}
        for target in filter(is_own, columns.columns):
            self._prepare(target, columns)

    def _prepare(self, target: str, columns: ColumnMap) -> None:
        what, _, name = target.partition(":")
        if what == "new":
            what, _, name = name.partition(":")
        if what == "yearly":
            self.yearly[target], self.readers[target] = name, Birthday(columns.day_first, self.now.year)
        elif what == "id":
            self.sources[target], self.readers[target] = name, Text()
        else:
            is_new = target.startswith("new:")
            field = self._new_field(name, what) if is_new else self.session.get_one(CustomField, int(name))
            self.fields[target] = field
            self.readers[target] = FieldCell(field, columns, is_new)

    def _new_field(self, name: str, kind: str) -> CustomField:
        known = self.session.scalar(select(CustomField).where(CustomField.name == name))
        if known is not None:
            return known
        field = CustomField(name=name, kind=kind, choices=[], made_at=self.now.astimezone(UTC))
        if kind not in KINDS:
            raise ValueError(f"“{kind}” is not a kind of field")
        if self.write:
            self.session.add(field)
            self.session.flush()
        return field

    def keep(self, values: Mapping[int, Mapping[str, Any]]) -> set[int]:
        """Keeps what the rows say, by person id; returns the people for whom that was news."""
        changed: set[int] = set()
        for target, field in self.fields.items():
            said = {person: row[target] for person, row in values.items() if target in row}
            changed |= self.facts.set_field(field.id, said) if field.id else set(said)
        for target, name in self.yearly.items():
            changed |= self.facts.set_yearly(
                name, {p: row[target] for p, row in values.items() if target in row}
            )
        for target, source in self.sources.items():
            changed |= self._ids(source, {p: row[target] for p, row in values.items() if target in row})
        return changed

    def _ids(self, source: str, said: Mapping[int, str]) -> set[int]:
        held = set(
            self.session.execute(
                select(ExternalId.person_id, ExternalId.value).where(
                    ExternalId.source == source, ExternalId.value.in_(list(said.values()))
                )
            ).all()
        )
        taken = {value for _, value in held}
        fresh = {person: value for person, value in said.items() if value not in taken}
        if fresh and self.write:
            rows = [
                {"source": source, "value": value, "person_id": person} for person, value in fresh.items()
            ]
            self.session.execute(insert(ExternalId), rows)
        return set(fresh)


def day_triple(year: int | None, month: int, day: int) -> str:
    """``2019-05-04``, or ``--05-04`` where the year is not known."""
    return f"{year:04}-{month:02}-{day:02}" if year else f"--{month:02}-{day:02}"
