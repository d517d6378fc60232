"""Taking records into their table: new ones made, known ones compared and mended, the rest left alone."""

import json
from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any

from sqlalchemy.orm import Session

from loyalbell.storage.records.kinds import RecordKind, Values
from loyalbell.storage.records.name_registry import Names
from loyalbell.storage.records.person_resolver import PersonResolver, load_person_resolver

Numbered = tuple[int, Values]
MANY = 400
WHOSE = ("id", "email", "phone", "chat_handle")


class Cannot(Exception):
    """Why a record cannot be taken, in words."""


@dataclass
class UpsertResult:
    """What came of records: ids of rows made and mended, and (number, reason) of those refused."""

    created: list[int] = field(default_factory=list)
    changed: list[int] = field(default_factory=list)
    unchanged: int = 0
    refused: list[tuple[int, str]] = field(default_factory=list)
    row_of: dict[int, int] = field(default_factory=dict)

    def add(self, other: "UpsertResult") -> None:
        self.created += other.created
        self.changed += other.changed
        self.unchanged += other.unchanged
        self.refused += other.refused
        self.row_of |= other.row_of


class Upsert:
    """Takes records of one kind in the transaction of ``session``.

    With ``write`` off they are only judged.
    """

    def __init__(
        self,
        session: Session,
        kind: RecordKind,
        known: PersonResolver,
        now: int,
        write: bool = True,
        import_id: int | None = None,
        source: str = "import",
        by: str | None = None,
    ) -> None:
        self.session, self.kind, self.known = session, kind, known
        self.now, self.write, self.import_id, self.source, self.by = now, write, import_id, source, by
        self.names = Names(session, write, import_id)
        self.seen: dict[tuple[Any, ...], int] = {}
        self.next_id = self._next_number()

    def catch_up(self) -> None:
        """Others have written: who is on file, and which numbers are free, is asked anew."""
        self.known = load_person_resolver(self.session)
        self.names = Names(self.session, self.write, self.import_id)
        self.next_id = self._next_number()

    def _next_number(self) -> int:
        return 1 + int(self._rows(f"SELECT coalesce(max(id), 0) FROM {self.kind.table}").fetchone()[0])

    def take(self, records: Sequence[Numbered]) -> UpsertResult:
        """Takes some records, each with the number it is called by."""
        taken = UpsertResult()
        rows: list[tuple[int, Values]] = []
        for number, values in records:
            try:
                rows.append((number, self._row(number, values)))
            except Cannot as problem:
                taken.refused.append((number, str(problem)))
        stored = self._stored([row for _, row in rows])
        fresh: list[Values] = []
        mended: list[tuple[Values, Values]] = []
        for number, row in rows:
            old = self._old(row, stored)
            if old is None:
                made = self.kind.blank | row | {"id": self.next_id}
                fresh.append(made)
                taken.created.append(self.next_id)
                self.next_id += 1
                self._remember(made, stored)
                taken.row_of[number] = made["id"]
                continue
            taken.row_of[number] = old["id"]
            change = {name: value for name, value in row.items() if old[name] != value}
            if change:
                mended.append((old, change))
                taken.changed.append(old["id"])
            else:
                taken.unchanged += 1
        if self.write:
            self._insert(fresh)
            self._mend(mended)
        return taken

    def _row(self, number: int, values: Values) -> Values:
        lacking = self.kind.lacking({name for name, value in values.items() if value is not None})
        if lacking:
            raise Cannot(self._lacking_here(values))
        row: Values = {}
        if self.kind.of_person:
            row["person_id"] = self._person(values)
        row |= self.kind.row(values, self.names)
        if self.kind.name in ("consents", "suppressions"):
            row = self._word(row, values)
        if self.kind.name == "items" and not row.get("name"):
            known = self._rows(
                "SELECT name FROM item WHERE external_id = ?", (row["external_id"],)
            ).fetchone()
            row["name"] = known[0] if known else row["external_id"]
        _check_order(row)
        self._once(number, row)
        return row

    def _lacking_here(self, values: Values) -> str:
        if self.kind.of_person and not any(values.get(name) is not None for name in WHOSE):
            return "no customer id, email or phone in this row"
        for names, _ in self.kind.needs:
            if not any(values.get(name) is not None for name in names):
                labels = [target.label for target in self.kind.targets if target.name in names]
                return f"no {' or '.join(labels)} in this row"
        return "something is missing in this row"

    def _person(self, values: Values) -> int:
        found = self.known.find(values)
        if found is None:
            name, what = next((name, values[name]) for name in WHOSE if values.get(name) is not None)
            said = "id" if name == "id" else name.replace("_", " ")
            raise Cannot(f"no customer with the {said} “{what}” is on file; import customers first")
        return found

    def _word(self, row: Values, values: Values) -> Values:
        """Facts that a consent or a suppression gets from its moment and source."""
        row.setdefault("at", self.now)
        if row["at"] > self.now:
            raise Cannot("it is said to have happened in the future")
        if self.kind.name == "consents":
            row.setdefault("source", self.source)
            self._respect_refusal(row, "at" in values)
            return row
        row.setdefault("reason", "by hand")
        return self._suppressed(row, values)

    def _respect_refusal(self, row: Values, dated: bool) -> None:
        """A refusal on file gives way only to a later word that carries its own date."""
        if row["state"] == "refused":
            return
        newest = self._rows(
            "SELECT state, at FROM consent_entry WHERE person_id = ? AND channel = ? ORDER BY at DESC, id"
            " DESC",
            (row["person_id"], row["channel"]),
        ).fetchone()
        if newest and newest[0] == "refused" and not dated:
            raise Cannot(
                "this customer refused the channel; a file undoes that only with a later date of its own"
            )

    def _suppressed(self, row: Values, values: Values) -> Values:
        if values.get("id") is not None:
            row["person_id"] = self._person({"id": values["id"]})
        if not row.get("address"):
            raise Cannot("no address in this row")
        row.setdefault("channel", _channel_of(row["address"]))
        return row

    def _once(self, number: int, row: Values) -> None:
        key = self._key(row)
        if key in self.seen and key[0] == "id":
            raise Cannot(f"the id “{key[1]}” is here twice, first as number {self.seen[key]}")
        if key in self.seen:
            raise Cannot(f"the same {self.kind.one} as number {self.seen[key]}")
        self.seen[key] = number

    def _key(self, row: Values) -> tuple[Any, ...]:
        if row.get("external_id") is not None:
            return ("id", row["external_id"])
        return ("natural", *(row.get(name) for name in self.kind.natural))

    def _stored(self, rows: Sequence[Values]) -> dict[tuple[Any, ...], Values]:
        """The rows in the book that these may mean, by the keys they are known by."""
        found: dict[tuple[Any, ...], Values] = {}
        first = self.kind.natural[0]
        for column, values in (
            ("external_id", [row["external_id"] for row in rows if row.get("external_id") is not None]),
            (
                first,
                [row[first] for row in rows if row.get("external_id") is None and row.get(first) is not None],
            ),
        ):
            for start in range(0, len(values), MANY):
                some = values[start : start + MANY]
                for old in self._found(column, some):
                    if old.get("external_id") is not None:
                        found[("id", old["external_id"])] = old
                    found.setdefault(("natural", *(old[name] for name in self.kind.natural)), old)
        return found

    def _found(self, column: str, values: Sequence[Any]) -> list[Values]:
        marks = ", ".join("?" * len(values))
        open_only = " AND lifted_at IS NULL" if self.kind.name == "suppressions" else ""
        cursor = self._rows(
            f"SELECT * FROM {self.kind.table} WHERE {column} IN ({marks}){open_only}", tuple(values)
        )
        names = [one[0] for one in cursor.description]
        return [dict(zip(names, row, strict=True)) for row in cursor]

    def _old(self, row: Values, stored: dict[tuple[Any, ...], Values]) -> Values | None:
        """A record with an id also takes over the one without that it is by nature."""
        old = stored.get(self._key(row))
        if old is not None or row.get("external_id") is None or self.kind.name == "items":
            return old
        alike = stored.get(("natural", *(row.get(name) for name in self.kind.natural)))
        return alike if alike is not None and alike["external_id"] is None else None

    def _remember(self, made: Values, stored: dict[tuple[Any, ...], Values]) -> None:
        stored[self._key(made)] = made

    def _insert(self, fresh: Sequence[Values]) -> None:
        if not fresh:
            return
        columns = sorted(set().union(*(row.keys() for row in fresh)) | {"import_id"})
        rows = [tuple((row | {"import_id": self.import_id}).get(name) for name in columns) for row in fresh]
        marks = ", ".join("?" * len(columns))
        names = ", ".join(f'"{name}"' for name in columns)
        self._cursor().executemany(f"INSERT INTO {self.kind.table} ({names}) VALUES ({marks})", rows)

    def _mend(self, mended: Sequence[tuple[Values, Values]]) -> None:
        for old, change in mended:
            sets = ", ".join(f'"{name}" = ?' for name in change)
            self._rows(f"UPDATE {self.kind.table} SET {sets} WHERE id = ?", (*change.values(), old["id"]))
            if self.import_id is not None:
                keep_before(self.session, self.import_id, self.kind.table, old, change)

    def _rows(self, sql: str, values: tuple[Any, ...] = ()) -> Any:
        return self._cursor().execute(sql, values)

    def _cursor(self) -> Any:
        return self.session.connection().connection.cursor()


def keep_before(session: Session, import_id: int, table: str, old: Values, change: Values) -> None:
    """Notes what a row held in the columns that an import changes, so that the import can be undone."""
    before = json.dumps({name: old[name] for name in change})
    cursor: Any = session.connection().connection.cursor()
    cursor.execute(
        "INSERT INTO import_change (import_id, place, row_id, before) VALUES (?, ?, ?, ?)",
        (import_id, table, old["id"], before),
    )


def _channel_of(address: str) -> str:
    if "@" in address[1:]:
        return "email"
    return "text" if address.startswith("+") and address[1:].isdecimal() else "chat"


def _check_order(row: Values) -> None:
    pairs = (
        ("starts_at", "ends_at", "it ends before it starts"),
        ("started_on", "ended_on", "it ends before it starts"),
    )
    for earlier, later, words in pairs:
        if row.get(earlier) is not None and row.get(later) is not None and row[later] < row[earlier]:
            raise Cannot(words)
    if row.get("score") is not None and row.get("best") is not None and row["score"] > row["best"]:
        raise Cannot(f"a score of {row['score']} is above the best possible, {row['best']}")
