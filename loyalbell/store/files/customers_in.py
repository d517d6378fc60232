"""Bringing customers in from a table: reading rows, finding who is known, writing."""

from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from datetime import datetime
from typing import Any
from zoneinfo import ZoneInfo, available_timezones

from babel import Locale, UnknownLocaleError
from sqlalchemy import insert, select, update
from sqlalchemy.orm import Session

from loyalbell.store.consent import consent_now
from loyalbell.store.files.cells import Bad, Birthday, CellReader, Email, Phone, When, Words, YesNo
from loyalbell.store.files.mapping import ColumnMap
from loyalbell.store.files.outcome import Counts, Outcome, RefusedRows
from loyalbell.store.files.table_file import Row
from loyalbell.store.tables import ConsentEntry, ExternalId, Person

CHUNK = 5_000
SOURCE = "import"
CONSENTS = {"email_agreed": "email", "text_agreed": "text"}
PLAIN = (
    "first_name",
    "last_name",
    "email",
    "phone",
    "language",
    "zone",
    "street",
    "city",
    "region",
    "postal_code",
)
BIRTHDAY = ("birthday_year", "birthday_month", "birthday_day")


class Zone(CellReader):
    known = available_timezones()

    def read(self, text: str) -> str:
        if text not in self.known:
            raise ValueError(f"“{text}” is not a time zone such as America/New_York")
        return ZoneInfo(text).key


class Language(CellReader):
    def read(self, text: str) -> str:
        try:
            return str(Locale.parse(text.replace("_", "-"), sep="-")).replace("_", "-")
        except (UnknownLocaleError, ValueError):
            raise ValueError(f"“{text}” is not a language code such as en or es-MX") from None


@dataclass
class Known:
    """Who is on file, by what a row may name them with."""

    by_id: dict[str, int] = field(default_factory=dict)
    by_email: dict[str, int] = field(default_factory=dict)
    by_phone: dict[str, int] = field(default_factory=dict)

    def find(self, values: dict[str, Any]) -> int | None:
        """A row that gives an id means that id alone; else its email, else its phone."""
        if values.get("id") is not None:
            return self.by_id.get(values["id"])
        if values.get("email") is not None and values["email"] in self.by_email:
            return self.by_email[values["email"]]
        return self.by_phone.get(values.get("phone") or "")

    def add(self, values: dict[str, Any], person_id: int) -> None:
        for name, index in (("id", self.by_id), ("email", self.by_email), ("phone", self.by_phone)):
            if values.get(name) is not None:
                index.setdefault(values[name], person_id)


def load_known(session: Session) -> Known:
    known = Known()
    known.by_id = dict(
        session.execute(
            select(ExternalId.value, ExternalId.person_id).where(ExternalId.source == SOURCE)
        ).all()
    )
    for person_id, email, phone in session.execute(select(Person.id, Person.email, Person.phone)):
        known.add({"email": email, "phone": phone}, person_id)
    return known


class RowReader:
    """Turns a row into values by target, or a reason why not."""

    def __init__(self, columns: ColumnMap, country: str, now: datetime) -> None:
        self.columns = columns.columns
        self.today = now.astimezone(ZoneInfo(columns.zone)).date()
        words = Words()
        special: dict[str, CellReader] = {
            "email": Email(),
            "phone": Phone(country),
            "language": Language(),
            "zone": Zone(),
            "birthday": Birthday(columns.day_first),
            "joined": When(columns.zone, columns.day_first),
            "email_agreed": YesNo(),
            "text_agreed": YesNo(),
        }
        self.readers = {target: special.get(target, words) for target in self.columns}

    def read(self, cells: list[str]) -> dict[str, Any] | str:
        values: dict[str, Any] = {}
        for target, at in self.columns.items():
            value = self.readers[target][cells[at]] if at < len(cells) else None
            if isinstance(value, Bad):
                return value.reason
            if value is not None:
                values[target] = value
        return self._checked(values)

    def _checked(self, values: dict[str, Any]) -> dict[str, Any] | str:
        if not values.keys() & {"id", "email", "phone"}:
            return "no customer id, email or phone in this row"
        if "full_name" in values:
            first, _, last = values.pop("full_name").partition(" ")
            values.setdefault("first_name", first)
            if last.strip():
                values.setdefault("last_name", last.strip())
        if "birthday" in values:
            year, month, day = values.pop("birthday")
            if year and (year, month, day) > (self.today.year, self.today.month, self.today.day):
                return f"a birthday in the future ({year}-{month:02}-{day:02})"
            values |= dict(zip(BIRTHDAY, (year, month, day), strict=True))
        return values


class CustomersIn:
    """One import of customers. With ``write`` off, everything is counted and nothing kept."""

    def __init__(
        self, session: Session, columns: ColumnMap, country: str, now: datetime, import_id: int, write: bool
    ) -> None:
        self.session, self.import_id, self.now, self.write = session, import_id, now, write
        self.reader = RowReader(columns, country, now)
        self.known = load_known(session)
        self.seen: dict[int, int] = {}
        self.next_id = 1 + (session.scalar(select(Person.id).order_by(Person.id.desc()).limit(1)) or 0)

    def run(self, rows: Iterator[Row], refused: RefusedRows, progress: Callable[[int], None]) -> Outcome:
        chunk: list[Row] = []
        for row in rows:
            chunk.append(row)
            if len(chunk) == CHUNK:
                self._take(chunk, refused)
                progress(row[0])
                chunk = []
        self._take(chunk, refused)
        return refused.outcome

    def _take(self, chunk: list[Row], refused: RefusedRows) -> None:
        new: list[dict[str, Any]] = []
        old: list[tuple[int, dict[str, Any]]] = []
        for number, cells in chunk:
            values = self.reader.read(cells)
            if isinstance(values, str):
                refused.add(number, values, cells)
                continue
            person_id = self.known.find(values)
            if person_id is not None and person_id in self.seen:
                reason = f"the same customer as row {self.seen[person_id]} of this file"
                refused.add(number, reason, cells)
            elif person_id is None:
                new.append(self._begin(values))
                self.seen[self.next_id - 1] = number
            else:
                self.seen[person_id] = number
                old.append((person_id, values))
        self._create(new, refused.outcome.counts)
        self._change(old, refused.outcome.counts)

    def _begin(self, values: dict[str, Any]) -> dict[str, Any]:
        values["person_id"] = self.next_id
        self.known.add(values, self.next_id)
        self.next_id += 1
        return values

    def _create(self, new: list[dict[str, Any]], counts: Counts) -> None:
        counts.created += len(new)
        if not self.write or not new:
            return
        blank = dict.fromkeys((*PLAIN, *BIRTHDAY))
        people = [
            blank
            | {name: value for name, value in values.items() if name in blank}
            | {"id": values["person_id"], "import_id": self.import_id, "joined_at": self._joined(values)}
            for values in new
        ]
        self.session.execute(insert(Person), people)
        ids = [
            {"source": SOURCE, "value": values["id"], "person_id": values["person_id"]}
            for values in new
            if "id" in values
        ]
        if ids:
            self.session.execute(insert(ExternalId), ids)
        self._consents((values["person_id"], values, {}) for values in new)

    def _joined(self, values: dict[str, Any]) -> datetime:
        if "joined" not in values:
            return self.now
        return datetime.fromtimestamp(values["joined"], self.now.tzinfo)

    def _change(self, old: list[tuple[int, dict[str, Any]]], counts: Counts) -> None:
        people = self._people([person_id for person_id, _ in old])
        states = {channel: self._states(old, channel) for channel in CONSENTS.values()}
        changes, consents = [], []
        for person_id, values in old:
            person = people[person_id]
            fresh = {
                name: value
                for name, value in values.items()
                if name in (*PLAIN, *BIRTHDAY) and getattr(person, name) != value
            }
            if "joined" in values and self._joined(values) != person.joined_at:
                fresh["joined_at"] = self._joined(values)
            now = {channel: states[channel].get(person_id, "never asked") for channel in states}
            said = _new_consents(values, now)
            if fresh:
                changes.append({"id": person_id} | fresh)
            if said:
                consents.append((person_id, values, now))
            counts.changed += bool(fresh or said)
            counts.unchanged += not (fresh or said)
        if self.write:
            for change in changes:
                self.session.execute(update(Person), [change])
            self._consents(iter(consents))

    def _people(self, ids: list[int]) -> dict[int, Person]:
        return {
            person.id: person for person in self.session.scalars(select(Person).where(Person.id.in_(ids)))
        }

    def _states(self, old: list[tuple[int, dict[str, Any]]], channel: str) -> dict[int, str]:
        return consent_now(self.session, [person_id for person_id, _ in old], channel)

    def _consents(self, said: Iterator[tuple[int, dict[str, Any], dict[str, str]]]) -> None:
        entries = [
            {
                "person_id": person_id,
                "channel": channel,
                "state": state,
                "at": self.now,
                "source": f"import {self.import_id}",
            }
            for person_id, values, now in said
            for channel, state in _new_consents(values, now).items()
        ]
        if entries:
            self.session.execute(insert(ConsentEntry), entries)


def _new_consents(values: dict[str, Any], now: dict[str, str]) -> dict[str, str]:
    """What a row newly says. A refusal on file is never undone by a file; only the person can do that."""
    said = {}
    for target, channel in CONSENTS.items():
        if target in values:
            state = "agreed" if values[target] else "refused"
            if now.get(channel, "never asked") not in (state, "refused"):
                said[channel] = state
    return said
