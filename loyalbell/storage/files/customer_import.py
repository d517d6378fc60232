"""Bringing customers in: reading rows, finding who is known, writing."""

import re
from collections.abc import Callable, Iterator, Sequence
from datetime import datetime
from typing import Any
from zoneinfo import ZoneInfo, available_timezones

from babel import Locale, UnknownLocaleError
from sqlalchemy import insert, select, update
from sqlalchemy.orm import Session

from loyalbell.core.channels import CHANNELS
from loyalbell.storage.consent import consent_now
from loyalbell.storage.files.column_mapping import ColumnMap
from loyalbell.storage.files.custom_columns import OwnColumns
from loyalbell.storage.files.import_outcome import Counts, Outcome, RefusedRows
from loyalbell.storage.files.table_reader import Row, chunks_of
from loyalbell.storage.records.name_registry import Names
from loyalbell.storage.records.parsers import Birthday, CellReader, Email, Phone, Text, When, YesNo, values_of
from loyalbell.storage.records.person_resolver import (
    SOURCE,
    PersonResolver,
    load_person_resolver,
    next_number,
)
from loyalbell.storage.records.upsert import keep_before
from loyalbell.storage.schema import Companion, ConsentEntry, ExternalId, Note, Person

CHUNK = 5_000
CONSENTS: dict[str, str] = {f"{channel}_agreed": channel for channel in CHANNELS}
PLAIN = (
    "first_name",
    "last_name",
    "email",
    "email_given",
    "phone",
    "chat_handle",
    "language",
    "zone",
    "street",
    "city",
    "region",
    "postal_code",
)
BIRTHDAY = ("birthday_year", "birthday_month", "birthday_day")
INSTANTS = {"joined": "joined_at", "closed": "closed_at", "deceased": "deceased_at"}
NAMED_BY = ("id", "email", "phone", "chat_handle")
LONGEST_TAG = 60
_COMPANION = re.compile(r"^(?P<name>[^(]+?)\s*(?:\((?P<about>[^)]*)\))?$")


class Zone(CellReader):
    known = available_timezones()

    def read(self, text: str) -> str:
        if text not in self.known:
            raise ValueError(f"“{text}” is not a time zone such as America/New_York")
        return ZoneInfo(text).key


class Language(CellReader):
    """A language tag (BCP 47)."""

    def read(self, text: str) -> str:
        try:
            return str(Locale.parse(text.replace("_", "-"), sep="-")).replace("_", "-")
        except (UnknownLocaleError, ValueError):
            raise ValueError(f"“{text}” is not a language code such as en or es-MX") from None


class Tags(CellReader):
    """Tags with a semicolon or a comma between them."""

    def read(self, text: str) -> list[str]:
        found = [" ".join(one.split()) for one in re.split(r"[;,]", text)]
        for tag in found:
            if len(tag) > LONGEST_TAG:
                raise ValueError(f"the tag “{tag[:20]}…” is longer than {LONGEST_TAG} characters")
        return list(dict.fromkeys(tag for tag in found if tag))


Cared = tuple[str, str | None, int | None, int | None, int | None]


class CaresFor(CellReader):
    """``Biscuit (dog, 2019-05-04); Pepper``: name, kind and birthday, of which only the name is needed."""

    def __init__(self, day_first: bool, this_year: int | None = None) -> None:
        super().__init__()
        self.birthday = Birthday(day_first, this_year)

    def read(self, text: str) -> list[Cared]:
        return [self._one(part.strip()) for part in text.split(";") if part.strip()]

    def _one(self, text: str) -> Cared:
        found = _COMPANION.match(text)
        if found is None or len(text) > 200:
            raise ValueError(
                f"“{text[:60]}” is not read as a name with kind and birthday, such as Biscuit (dog,"
                " 2019-05-04)"
            )
        kind: str | None = None
        day: tuple[int | None, int | None, int | None] = (None, None, None)
        for part in (one.strip() for one in (found["about"] or "").split(",")):
            if part[:1].isdigit() or part[:2] == "--":
                day = self.birthday.read(part)
            elif part:
                kind = part
        year, month, on = day
        return found["name"].strip(), kind, year, month, on


class RowReader:
    """Turns a row into values by target, or a reason why not."""

    def __init__(self, columns: ColumnMap, country: str, now: datetime, own: OwnColumns) -> None:
        self.columns = columns.columns
        self.now, self.today = int(now.timestamp()), now.astimezone(ZoneInfo(columns.zone)).date()
        words = Text()
        special: dict[str, CellReader] = {
            "email": Email(),
            "phone": Phone(country),
            "language": Language(),
            "zone": Zone(),
            "birthday": Birthday(columns.day_first, self.today.year),
            "tags": Tags(),
            "cares_for": CaresFor(columns.day_first, self.today.year),
            **{name: When(columns.zone, columns.day_first) for name in INSTANTS},
            **{name: YesNo() for name in CONSENTS},
            **own.readers,
        }
        self.readers = {target: special.get(target, words) for target in self.columns}

    def read(self, cells: list[str]) -> dict[str, Any] | str:
        values = values_of(self.readers, self.columns, cells)
        if isinstance(values, str):
            return values
        if "email" in values:
            written = cells[self.columns["email"]].strip()
            values["email_given"] = written if written != values["email"] else None
        return checked(values, self.today)


def checked(values: dict[str, Any], today: Any) -> dict[str, Any] | str:
    """Facts of one customer made ready to keep, or why they cannot be kept."""
    if not values.keys() & set(NAMED_BY):
        return "no customer id, email or phone in this row"
    if "full_name" in values:
        first, _, last = values.pop("full_name").partition(" ")
        values.setdefault("first_name", first)
        if last.strip():
            values.setdefault("last_name", last.strip())
    if "birthday" in values:
        year, month, day = values.pop("birthday")
        if year and (year, month, day) > (today.year, today.month, today.day):
            return f"a birthday in the future ({year}-{month:02}-{day:02})"
        values |= dict(zip(BIRTHDAY, (year, month, day), strict=True))
    return values


class CustomerUpsert:
    """Takes customers in the transaction of ``session``. With ``write`` off they are only judged."""

    def __init__(
        self,
        session: Session,
        known: PersonResolver,
        own: OwnColumns,
        now: datetime,
        import_id: int | None,
        write: bool,
        source: str,
    ) -> None:
        self.session, self.known, self.own, self.now = session, known, own, now
        self.import_id, self.write, self.source = import_id, write, source
        self.names = Names(session, write)
        self.seen: dict[int, int] = {}
        self.next_id = next_number(session, Person.id)

    def catch_up(self) -> None:
        """Others have written: who is on file, and which numbers are free, is asked anew."""
        self.known = load_person_resolver(self.session)
        self.names = Names(self.session, self.write)
        self.next_id = next_number(self.session, Person.id)

    def take(self, rows: Sequence[tuple[int, dict[str, Any]]], counts: Counts) -> list[tuple[int, str]]:
        """Returns (number, reason) of the rows that cannot be taken; adds the others to ``counts``."""
        refused = []
        new: list[dict[str, Any]] = []
        old: list[tuple[int, dict[str, Any]]] = []
        for number, values in rows:
            person_id = self.known.find(values)
            if person_id is not None and person_id in self.seen:
                refused.append((number, f"the same customer as row {self.seen[person_id]} of this file"))
            elif person_id is None:
                new.append(self._begin(values))
                self.seen[self.next_id - 1] = number
            else:
                self.seen[person_id] = number
                old.append((person_id, values))
        self._create(new, counts)
        self._change(old, counts)
        return refused

    def _begin(self, values: dict[str, Any]) -> dict[str, Any]:
        values["person_id"] = self.next_id
        self.known.add(values, self.next_id)
        self.next_id += 1
        return values

    def _create(self, new: list[dict[str, Any]], counts: Counts) -> None:
        counts.created += len(new)
        if not new:
            return
        if not self.write:
            return
        blank = dict.fromkeys((*PLAIN, *BIRTHDAY, *INSTANTS.values()))
        people = [
            blank
            | {name: value for name, value in values.items() if name in blank}
            | {"id": values["person_id"], "import_id": self.import_id, "joined_at": self.now}
            | self._instants(values)
            for values in new
        ]
        self.session.execute(insert(Person), people)
        self._keep_ids((values["person_id"], values) for values in new)
        self._consents((values["person_id"], values, {}) for values in new)
        self._more({values["person_id"]: values for values in new})

    def _keep_ids(self, said: Iterator[tuple[int, dict[str, Any]]]) -> None:
        ids = [
            {"source": SOURCE, "value": values["id"], "person_id": person_id}
            for person_id, values in said
            if "id" in values
        ]
        if ids:
            self.session.execute(insert(ExternalId), ids)

    def _instants(self, values: dict[str, Any]) -> dict[str, datetime]:
        return {
            column: datetime.fromtimestamp(values[name], self.now.tzinfo)
            for name, column in INSTANTS.items()
            if name in values
        }

    def _change(self, old: list[tuple[int, dict[str, Any]]], counts: Counts) -> None:
        ids = [person_id for person_id, _ in old]
        people = {one.id: one for one in self.session.scalars(select(Person).where(Person.id.in_(ids)))}
        states = {channel: consent_now(self.session, ids, channel) for channel in CONSENTS.values()}
        more = self._more(dict(old))
        changes, consents = [], []
        for person_id, values in old:
            fresh = self._fresh(people[person_id], values)
            now = {channel: states[channel].get(person_id, "never asked") for channel in states}
            said = _new_consents(values, now)
            if fresh:
                changes.append({"id": person_id} | fresh)
            if said:
                consents.append((person_id, values, now))
            news = bool(fresh or said or person_id in more)
            counts.changed += news
            counts.unchanged += not news
        if self.write:
            for change in changes:
                self._keep_before(people[change["id"]], change)
                self.session.execute(update(Person), [change])
            self._consents(iter(consents))

    def _fresh(self, person: Person, values: dict[str, Any]) -> dict[str, Any]:
        wanted = {name: value for name, value in values.items() if name in (*PLAIN, *BIRTHDAY)}
        wanted |= self._instants(values)
        return {name: value for name, value in wanted.items() if getattr(person, name) != value}

    def _keep_before(self, person: Person, change: dict[str, Any]) -> None:
        if self.import_id is None:
            return
        held = {name: getattr(person, name) for name in change}
        plain = {
            name: int(value.timestamp()) if isinstance(value, datetime) else value
            for name, value in held.items()
        }
        columns = {name: value for name, value in change.items() if name != "id"}
        keep_before(self.session, self.import_id, "person", plain | {"id": person.id}, columns)

    def _more(self, values: dict[int, dict[str, Any]]) -> set[int]:
        """Tags, companions, notes and the shop's own facts; the people for whom they were news."""
        changed = self.own.keep(values)
        by_tag: dict[str, list[int]] = {}
        for person_id, row in values.items():
            for tag in row.get("tags", ()):
                by_tag.setdefault(tag, []).append(person_id)
        for tag, person_ids in by_tag.items():
            tag_id = self.names.id_of("tag", tag)
            changed |= self.own.facts.add_tag(person_ids, tag_id or 0)
        changed |= self._cared_for(
            {person: row["cares_for"] for person, row in values.items() if "cares_for" in row}
        )
        return changed | self._notes({person: row["note"] for person, row in values.items() if "note" in row})

    def _cared_for(self, said: dict[int, list[Cared]]) -> set[int]:
        changed, made = set(), []
        held: dict[tuple[int, str], Companion] = {
            (one.person_id, one.name): one
            for one in self.session.scalars(select(Companion).where(Companion.person_id.in_(list(said))))
        }
        for person_id, companions in said.items():
            for name, kind, year, month, day in companions:
                old = held.get((person_id, name))
                facts = {"kind": kind, "birthday_year": year, "birthday_month": month, "birthday_day": day}
                known = {column: value for column, value in facts.items() if value is not None}
                if old is not None and all(getattr(old, column) == value for column, value in known.items()):
                    continue
                changed.add(person_id)
                if not self.write:
                    continue
                if old is None:
                    old = Companion(person_id=person_id, name=name)
                    self.session.add(old)
                    made.append(old)
                elif self.import_id is not None:
                    keep_before(self.session, self.import_id, "companion", vars(old), known)
                for column, value in known.items():
                    setattr(old, column, value)
        if changed and self.write:
            self.session.flush()
            self._note_made("companion", [one.id for one in made])
        return changed

    def _notes(self, said: dict[int, str]) -> set[int]:
        rows = self.session.execute(select(Note.person_id, Note.text).where(Note.person_id.in_(list(said))))
        held = {(person_id, text) for person_id, text in rows}
        fresh = {person_id: text for person_id, text in said.items() if (person_id, text) not in held}
        if fresh and self.write:
            notes = [
                Note(person_id=person_id, at=self.now, by=self.source, text=text)
                for person_id, text in fresh.items()
            ]
            self.session.add_all(notes)
            self.session.flush()
            self._note_made("note", [note.id for note in notes])
        return set(fresh)

    def _note_made(self, table: str, row_ids: Sequence[int]) -> None:
        if self.import_id is not None:
            for row_id in row_ids:
                keep_before(self.session, self.import_id, table, {"id": row_id}, {})

    def _consents(self, said: Iterator[tuple[int, dict[str, Any], dict[str, str]]]) -> None:
        entries = [
            {
                "person_id": person_id,
                "channel": channel,
                "state": state,
                "at": self.now,
                "source": self.source,
                "import_id": self.import_id,
            }
            for person_id, values, now in said
            for channel, state in _new_consents(values, now).items()
        ]
        if entries:
            self.session.execute(insert(ConsentEntry), entries)


class CustomersIn:
    """One import of customers. With ``write`` off, everything is counted and nothing kept."""

    def __init__(
        self, session: Session, columns: ColumnMap, country: str, now: datetime, import_id: int, write: bool
    ) -> None:
        own = OwnColumns(session, columns, now, import_id, write)
        self.reader = RowReader(columns, country, now, own)
        known = load_person_resolver(session)
        self.taking = CustomerUpsert(session, known, own, now, import_id, write, f"import {import_id}")

    def run(self, rows: Iterator[Row], refused: RefusedRows, progress: Callable[[int], bool]) -> Outcome:
        for chunk in chunks_of(rows, CHUNK):
            self._take(chunk, refused)
            if progress(chunk[-1][0]):
                self.taking.catch_up()
        return refused.outcome

    def _take(self, chunk: list[Row], refused: RefusedRows) -> None:
        cells_of, good = dict(chunk), []
        for number, cells in chunk:
            values = self.reader.read(cells)
            if isinstance(values, str):
                refused.add(number, values, cells)
            else:
                good.append((number, values))
        for number, reason in self.taking.take(good, refused.outcome.counts):
            refused.add(number, reason, cells_of[number])


def _new_consents(values: dict[str, Any], now: dict[str, str]) -> dict[str, str]:
    """What a row newly says. A refusal on file is never undone by a file; only the person can do that."""
    said: dict[str, str] = {}
    for target, channel in CONSENTS.items():
        if target in values:
            state = "agreed" if values[target] else "refused"
            if now.get(channel, "never asked") not in (state, "refused"):
                said[channel] = state
    return said
