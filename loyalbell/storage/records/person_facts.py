"""Tags, fields and yearly dates of people, kept so that what held on any past day is still known."""

import json
from collections.abc import Iterable, Mapping
from typing import Any

from sqlalchemy.orm import Session

MANY = 400
Yearly = tuple[int | None, int, int]


class PersonFacts:
    """Changes facts of people at one instant (``now``, seconds). Each act returns the people it changed."""

    def __init__(self, session: Session, now: int, import_id: int | None = None, write: bool = True) -> None:
        self.session, self.now, self.import_id, self.write = session, now, import_id, write

    def add_tag(self, person_ids: Iterable[int], tag_id: int) -> set[int]:
        wanted = set(person_ids)
        fresh = wanted - set(self._tagged(wanted, tag_id))
        for person_id in sorted(fresh):
            self._insert("person_tag", {"person_id": person_id, "tag_id": tag_id, "at": self.now})
        return fresh

    def remove_tag(self, person_ids: Iterable[int], tag_id: int) -> set[int]:
        held = self._tagged(set(person_ids), tag_id)
        for row_id in held.values():
            self._change("person_tag", row_id, {"removed_at": self.now}, {"removed_at": None})
        return set(held)

    def set_field(self, field_id: int, values: Mapping[int, Any]) -> set[int]:
        """``values`` by person id; ``None`` empties the field."""
        held = self._held(field_id, values)
        fresh = {one: value for one, value in values.items() if held.get(one, (0, None))[1] != value}
        for person_id, value in sorted(fresh.items()):
            if person_id in held:
                row_id = held[person_id][0]
                self._change("field_value", row_id, {"until": self.now}, {"until": None})
            if value is not None:
                facts = {"person_id": person_id, "field_id": field_id, "value": _json(value), "at": self.now}
                self._insert("field_value", facts)
        return set(fresh)

    def set_yearly(self, name: str, days: Mapping[int, Yearly | None]) -> set[int]:
        """(year or None, month, day) by person id; ``None`` takes the date out."""
        changed = set()
        held = {
            person: (row, year, month, day)
            for row, person, year, month, day in self._in(
                "SELECT id, person_id, year, month, day FROM yearly_date WHERE name = ? AND person_id IN",
                days,
                (name,),
            )
        }
        for person_id, when in sorted(days.items()):
            old = held.get(person_id)
            if when == (old[1:] if old else None):
                continue
            changed.add(person_id)
            self._yearly(name, person_id, old, when)
        return changed

    def _yearly(self, name: str, person_id: int, old: Any, when: Yearly | None) -> None:
        if old is None and when is not None:
            year, month, day = when
            facts = {"person_id": person_id, "name": name, "year": year, "month": month, "day": day}
            self._insert("yearly_date", facts)
        elif when is None and self.write:
            self._run("DELETE FROM yearly_date WHERE id = ?", (old[0],))
        elif when is not None:
            columns = ("year", "month", "day")
            self._change(
                "yearly_date",
                old[0],
                dict(zip(columns, when, strict=True)),
                dict(zip(columns, old[1:], strict=True)),
            )

    def _tagged(self, person_ids: set[int], tag_id: int) -> dict[int, int]:
        sql = "SELECT person_id, id FROM person_tag WHERE tag_id = ? AND removed_at IS NULL AND person_id IN"
        return dict(self._in(sql, person_ids, (tag_id,)))

    def _held(self, field_id: int, person_ids: Iterable[int]) -> dict[int, tuple[int, Any]]:
        sql = (
            "SELECT person_id, id, value FROM field_value WHERE field_id = ? AND until IS NULL AND"
            " person_id IN"
        )
        return {
            person: (row, json.loads(value)) for person, row, value in self._in(sql, person_ids, (field_id,))
        }

    def _in(self, sql: str, ids: Iterable[int], first: tuple[Any, ...]) -> list[Any]:
        wanted, found = sorted(ids), []
        for start in range(0, len(wanted), MANY):
            some = wanted[start : start + MANY]
            marks = ", ".join("?" * len(some))
            found += self._run(f"{sql} ({marks})", (*first, *some)).fetchall()
        return found

    def _insert(self, table: str, facts: dict[str, Any]) -> int:
        if not self.write:
            return 0
        marks = ", ".join("?" * len(facts))
        made = self._run(
            f"INSERT INTO {table} ({', '.join(facts)}) VALUES ({marks}) RETURNING id", tuple(facts.values())
        )
        row_id = int(made.fetchone()[0])
        self._note(table, row_id, {})
        return row_id

    def _change(self, table: str, row_id: int, after: dict[str, Any], before: dict[str, Any]) -> None:
        if not self.write:
            return
        sets = ", ".join(f"{name} = ?" for name in after)
        self._run(f"UPDATE {table} SET {sets} WHERE id = ?", (*after.values(), row_id))
        self._note(table, row_id, before)

    def _note(self, table: str, row_id: int, before: dict[str, Any]) -> None:
        """An import's change can be undone; a row without a before was made by it."""
        if self.import_id is not None:
            self._run(
                "INSERT INTO import_change (import_id, place, row_id, before) VALUES (?, ?, ?, ?)",
                (self.import_id, table, row_id, json.dumps(before)),
            )

    def _run(self, sql: str, values: tuple[Any, ...]) -> Any:
        cursor: Any = self.session.connection().connection.cursor()
        return cursor.execute(sql, values)


def _json(value: Any) -> str:
    return json.dumps(value, ensure_ascii=False)
