"""Taking customers into the book: new ones made, known ones compared and mended."""

from collections.abc import Iterator, Sequence
from datetime import datetime
from typing import Any

from sqlalchemy import insert, select, update
from sqlalchemy.orm import Session

from loyalbell.storage.consent import consent_now
from loyalbell.storage.files.columns.agreed_since import FROM_NOW_ON, AgreedSince
from loyalbell.storage.files.customers.custom_columns import OwnColumns
from loyalbell.storage.files.customers.customer_cells import BIRTHDAY, CONSENTS, INSTANTS, PLAIN, SUMS, Cared
from loyalbell.storage.files.import_outcome import Counts
from loyalbell.storage.records.name_registry import Names
from loyalbell.storage.records.person_resolver import (
    SOURCE,
    PersonResolver,
    load_person_resolver,
    next_number,
)
from loyalbell.storage.records.upsert import keep_before
from loyalbell.storage.schema import Companion, ConsentEntry, ExternalId, Note, Person


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
        agreed: AgreedSince = FROM_NOW_ON,
    ) -> None:
        self.session, self.known, self.own, self.now, self.agreed = session, known, own, now, agreed
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
        blank = dict.fromkeys((*PLAIN, *BIRTHDAY, *SUMS, *INSTANTS.values()))
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
        wanted = {name: value for name, value in values.items() if name in (*PLAIN, *BIRTHDAY, *SUMS)}
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
                "at": self._said_at(values, now.get(channel)),
                "source": self.source,
                "wording": self.agreed.wording or None,
                "import_id": self.import_id,
            }
            for person_id, values, now in said
            for channel, state in _new_consents(values, now).items()
        ]
        if entries:
            self.session.execute(insert(ConsentEntry), entries)

    def _said_at(self, values: dict[str, Any], before: str | None) -> datetime:
        """When a consent was given, as far as the file or the shop knows; what follows an earlier word comes
        after it, so from now on.
        """
        if before not in (None, "never asked"):
            return self.now
        return self.agreed.at(values, self.now)


def _new_consents(values: dict[str, Any], now: dict[str, str]) -> dict[str, str]:
    """What a row newly says. A refusal on file is never undone by a file; only the person can do that."""
    said: dict[str, str] = {}
    for target, channel in CONSENTS.items():
        if target in values:
            state = "agreed" if values[target] else "refused"
            if now.get(channel, "never asked") not in (state, "refused"):
                said[channel] = state
    return said
