"""Making two records of a person one, and parting them again: every step is written down so that it can be
undone.
"""

from collections.abc import Callable
from typing import Any

from sqlalchemy.orm import Session

from loyalbell.core.channels import CHANNELS

Row = dict[str, Any]
MERGED = " merged "
"""Stands between a round or a key and the record it came from, where both had the same."""
MOVED = (
    "orders",
    "visit",
    "appointment",
    "membership",
    "event",
    "answer",
    "consent_entry",
    "suppression",
    "note",
    "person_change",
    "external_id",
    "offer_code",
    "reply",
    "sign_up",
    "staff_note",
    "handed_off",
)


class Steps:
    """Changes rows and keeps what is needed to change them back, newest last."""

    def __init__(self, session: Session, done: list[Any] | None = None) -> None:
        session.flush()
        self.cursor: Any = session.connection().connection.cursor()
        self.done: list[Any] = done if done is not None else []

    def rows(self, table: str, where: str, values: tuple[Any, ...]) -> list[Row]:
        found = self.cursor.execute(f"SELECT * FROM {table} WHERE {where} ORDER BY id", values)
        names = [one[0] for one in found.description]
        return [dict(zip(names, row, strict=True)) for row in found]

    def move(self, table: str, column: str, ids: list[int], old: int, new: int) -> None:
        for row_id in ids:
            self.cursor.execute(f"UPDATE {table} SET {column} = ? WHERE id = ?", (new, row_id))
        if ids:
            self.done.append(["moved", table, column, ids, old])

    def change(self, table: str, row: Row, after: Row) -> None:
        after = {name: value for name, value in after.items() if row[name] != value}
        if after:
            self._update(table, row["id"], after)
            self.done.append(["changed", table, row["id"], {name: row[name] for name in after}])

    def drop(self, table: str, row: Row) -> None:
        self.cursor.execute(f"DELETE FROM {table} WHERE id = ?", (row["id"],))
        self.done.append(["dropped", table, row])

    def make(self, table: str, row: Row) -> None:
        made = self._insert(table, row)
        self.done.append(["made", table, made])

    def undo(self) -> None:
        """Takes the steps back, the newest first."""
        for kind, table, *what in reversed(self.done):
            if kind == "moved":
                column, ids, old = what
                for row_id in ids:
                    self.cursor.execute(f"UPDATE {table} SET {column} = ? WHERE id = ?", (old, row_id))
            elif kind == "changed":
                self._update(table, what[0], what[1])
            elif kind == "dropped":
                self._insert(table, what[0])
            else:
                self.cursor.execute(f"DELETE FROM {table} WHERE id = ?", (what[0],))

    def _update(self, table: str, row_id: int, facts: Row) -> None:
        sets = ", ".join(f'"{name}" = ?' for name in facts)
        self.cursor.execute(f"UPDATE {table} SET {sets} WHERE id = ?", (*facts.values(), row_id))

    def _insert(self, table: str, row: Row) -> int:
        names, marks = ", ".join(f'"{name}"' for name in row), ", ".join("?" * len(row))
        made = self.cursor.execute(
            f"INSERT INTO {table} ({names}) VALUES ({marks}) RETURNING id", tuple(row.values())
        )
        return int(made.fetchone()[0])


def merge(
    session: Session, kept_id: int, gone_id: int, facts: Row, now: int, stricter: Callable[..., Row]
) -> list[Any]:
    """Moves everything of ``gone_id`` to ``kept_id`` and takes the record out. Returns the steps taken.

    ``facts`` are the columns of the person to keep; ``stricter`` tells the word to hold for a channel.
    """
    steps = Steps(session)
    kept, gone = (steps.rows("person", "id = ?", (one,))[0] for one in (kept_id, gone_id))
    before = {one: _states(steps, one) for one in (kept_id, gone_id)}
    for table in MOVED:
        _move_all(steps, table, "person_id", kept_id, gone_id)
    _move_all(steps, "merge", "kept_id", kept_id, gone_id)
    _deliveries(steps, kept_id, gone_id)
    _enrolments(steps, kept_id, gone_id)
    _unlike(steps, "companion", "name", kept_id, gone_id)
    _unlike(steps, "yearly_date", "name", kept_id, gone_id)
    _lasting(steps, "person_tag", "tag_id", "removed_at", kept_id, gone_id, now)
    _lasting(steps, "field_value", "field_id", "until", kept_id, gone_id, now)
    _preferences(steps, kept_id, gone_id)
    for row in steps.rows("not_the_same", "low_id = ? OR high_id = ?", (gone_id, gone_id)):
        steps.drop("not_the_same", row)
    for channel in CHANNELS:
        word = stricter(channel, before[kept_id].get(channel), before[gone_id].get(channel))
        if word and _states(steps, kept_id).get(channel) != word["state"]:
            steps.make("consent_entry", word | {"person_id": kept_id, "channel": channel, "at": now})
    joined = [one["joined_at"] for one in (kept, gone) if one["joined_at"] is not None]
    steps.drop("person", gone)
    steps.change("person", kept, facts | {"joined_at": min(joined, default=None)})
    return steps.done


def _preferences(steps: Steps, kept_id: int, gone_id: int) -> None:
    """A person has one page of preferences; that of the record that stays is kept."""
    if not steps.rows("preference", "person_id = ?", (kept_id,)):
        _move_all(steps, "preference", "person_id", kept_id, gone_id)
    for row in steps.rows("preference", "person_id = ?", (gone_id,)):
        steps.drop("preference", row)


def _move_all(steps: Steps, table: str, column: str, kept_id: int, gone_id: int) -> None:
    ids = [row["id"] for row in steps.rows(table, f"{column} = ?", (gone_id,))]
    steps.move(table, column, ids, gone_id, kept_id)


def _states(steps: Steps, person_id: int) -> dict[str, str]:
    """The newest word on each channel."""
    rows = steps.rows("consent_entry", "person_id = ?", (person_id,))
    return {row["channel"]: row["state"] for row in sorted(rows, key=lambda row: (row["at"], row["id"]))}


def _deliveries(steps: Steps, kept_id: int, gone_id: int) -> None:
    """Where both got the same message, the second keeps a mark of whose it was."""
    key = ("origin_kind", "origin_id", "step", "occurrence")
    held = {tuple(row[name] for name in key) for row in steps.rows("delivery", "person_id = ?", (kept_id,))}
    for row in steps.rows("delivery", "person_id = ?", (gone_id,)):
        if tuple(row[name] for name in key) in held:
            steps.change("delivery", row, {"occurrence": f"{row['occurrence']}{MERGED}{gone_id}"})
        steps.move("delivery", "person_id", [row["id"]], gone_id, kept_id)


def _enrolments(steps: Steps, kept_id: int, gone_id: int) -> None:
    """Where both came into a sequence for the same reason, the second keeps a mark of whose way it was."""
    held = {(row["sequence_id"], row["key"]) for row in steps.rows("enrolment", "person_id = ?", (kept_id,))}
    for row in steps.rows("enrolment", "person_id = ?", (gone_id,)):
        if (row["sequence_id"], row["key"]) in held:
            steps.change(
                "enrolment", row, {"key": f"{row['key']}{MERGED}{gone_id}", "state": "left", "due_at": None}
            )
        steps.move("enrolment", "person_id", [row["id"]], gone_id, kept_id)


def _unlike(steps: Steps, table: str, name: str, kept_id: int, gone_id: int) -> None:
    """What both have by the same name is kept once, as the kept record has it."""
    held = {row[name].casefold() for row in steps.rows(table, "person_id = ?", (kept_id,))}
    for row in steps.rows(table, "person_id = ?", (gone_id,)):
        if row[name].casefold() in held:
            steps.drop(table, row)
        else:
            steps.move(table, "person_id", [row["id"]], gone_id, kept_id)


def _lasting(steps: Steps, table: str, what: str, end: str, kept_id: int, gone_id: int, now: int) -> None:
    """Facts that last: where both hold one now, that of the kept record stays and the other ends."""
    held = {row[what] for row in steps.rows(table, f"person_id = ? AND {end} IS NULL", (kept_id,))}
    for row in steps.rows(table, "person_id = ?", (gone_id,)):
        if row[end] is None and row[what] in held:
            steps.change(table, row, {end: max(now, row["at"])})
        steps.move(table, "person_id", [row["id"]], gone_id, kept_id)
