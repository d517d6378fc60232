"""Which rows of the snapshot a transaction touched, noted by SQLite itself, so that no writer can forget it.

Triggers that live as long as a connection write the keys of changed rows into a table of that connection; at
the end of a transaction they become the notes of the change log. Session events would miss what plain SQL and
cascades change; a trigger misses nothing and costs about a tenth of a bare insert.
"""

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray
from sqlalchemy import Connection
from sqlalchemy.orm import Session

from loyalbell.core.history.snapshot import PERSON_WORDS
from loyalbell.core.policy.delivery_state import PERHAPS_SENT
from loyalbell.storage import change_log

BULK = 20_000
"""From so many changed rows of a part on, one range is noted where they lie close together, else the whole
part.
"""
WHOLE = "NULL"

PEOPLE_COLUMNS = (
    "joined_at",
    "closed_at",
    "deceased_at",
    "email",
    "phone",
    "chat_handle",
    "birthday_month",
    "birthday_day",
    "birthday_year",
    *PERSON_WORDS,
)
ORDER_COLUMNS = (
    "person_id",
    "placed_at",
    "department_id",
    "location_id",
    "total_minor",
    "in_person",
    "cancelled_at",
    "refunded_at",
    "refunded_minor",
    "confirmed_at",
    "shipped_at",
    "delivered_at",
)
DELIVERY_COLUMNS = (
    "person_id",
    "sent_at",
    "channel",
    "message_version_id",
    "state",
    "origin_kind",
    "origin_id",
)
LEFT = f"{{row}}.state IN ({', '.join(repr(str(state)) for state in PERHAPS_SENT)})"


@dataclass(frozen=True)
class Tracked:
    """What a change of a row of ``table`` means for parts of the snapshot.

    ``notes`` are (part, SQL of the key in that part; ``WHOLE`` for the whole part), ``{row}`` standing for
    the row as it was or is. ``columns`` are those that the snapshot reads; none means any. ``only`` are the
    rows it reads; ``reads`` is SQL of what it reads in them, where that is less than a column.
    """

    table: str
    notes: tuple[tuple[str, str], ...]
    columns: tuple[str, ...] = ()
    only: str = ""
    reads: str = ""


def _by_id(table: str, part: str, columns: tuple[str, ...] = (), only: str = "") -> Tracked:
    return Tracked(table, ((part, "{row}.id"),), columns, only)


TRACKED = (
    _by_id("person", "people", PEOPLE_COLUMNS),
    Tracked("orders", (("orders", "{row}.id"), ("lines", "{row}.id")), ORDER_COLUMNS),
    Tracked("order_line", (("lines", "{row}.order_id"),)),
    _by_id("visit", "walk_ins"),
    _by_id("appointment", "appointments"),
    _by_id("membership", "memberships"),
    _by_id("event", "events"),
    _by_id("answer", "answers"),
    _by_id("delivery", "deliveries", DELIVERY_COLUMNS, LEFT),
    Tracked(
        "delivery",
        (("engagements", "event.id FROM delivery_event AS event WHERE event.delivery_id = {row}.id"),),
        ("person_id", "channel", "message_version_id"),
    ),
    _by_id("delivery_event", "engagements"),
    _by_id("consent_entry", "consents"),
    Tracked("suppression", (("suppressions", WHOLE),)),
    _by_id("offer_code", "codes", ("person_id", "issued_at", "offer_id", "expires_at", "uses_left")),
    Tracked("redemption", (("codes", "{row}.code_id"),)),
    _by_id(
        "enrolment",
        "enrolments",
        ("person_id", "entered_at", "sequence_id", "state", "ended_at"),
        "{row}.state != 'kept out'",
    ),
    _by_id("person_tag", "tags"),
    _by_id("field_value", "field_values"),
    Tracked("yearly_date", (("yearly_dates", WHOLE),)),
    Tracked("companion", (("yearly_dates", WHOLE),)),
    Tracked("custom_field", (("catalogue", WHOLE),), ("name", "kind")),
    Tracked("custom_field", (("field_values", WHOLE),), ("kind",)),
    Tracked("department", (("catalogue", WHOLE),)),
    Tracked("location", (("catalogue", WHOLE),)),
    Tracked("tag", (("catalogue", WHOLE),)),
    Tracked("item", (("catalogue", WHOLE),), ("name", "category", "department_id")),
    Tracked("shop", (("people", WHOLE),), ("zone", "currency")),
    Tracked(
        "setting",
        (("people", WHOLE),),
        ("value",),
        "{row}.name = 'care'",
        "json_extract({row}.value, '$.leap_day')",
    ),
)
PARTS = tuple(dict.fromkeys(part for tracked in TRACKED for part, _ in tracked.notes))


def _named_triggers() -> Iterator[tuple[str, str]]:
    for number, tracked in enumerate(TRACKED):
        for act, rows in (("INSERT", ("NEW",)), ("DELETE", ("OLD",)), ("UPDATE", ("OLD", "NEW"))):
            of, when = "", [tracked.only.format(row=row) for row in rows if tracked.only]
            conditions = [f"({' OR '.join(when)})"] if when else []
            if act == "UPDATE" and tracked.columns:
                of = f" OF {', '.join(tracked.columns)}"
                read = [tracked.reads] if tracked.reads else [f"{{row}}.{name}" for name in tracked.columns]
                unlike = " OR ".join(
                    f"{one.format(row='OLD')} IS NOT {one.format(row='NEW')}" for one in read
                )
                conditions.append(f"({unlike})")
            notes = dict.fromkeys(
                f"INSERT INTO changed SELECT {PARTS.index(part)}, {key.format(row=row)};"
                for part, key in tracked.notes
                for row in rows
            )
            name = f"tracked_{number}_{act.lower()}"
            yield (
                name,
                f"CREATE TEMP TRIGGER {name} AFTER {act}{of} ON main.{tracked.table}"
                f"{' WHEN ' + ' AND '.join(conditions) if conditions else ''} BEGIN {' '.join(notes)} END",
            )


def track(connection: Connection) -> None:
    """Lets the connection note what it changes; call it before its transaction begins."""
    if connection.info.get("tracked"):
        return
    connection.exec_driver_sql("CREATE TEMP TABLE changed (part INTEGER NOT NULL, key INTEGER)")
    for _, statement in _named_triggers():
        connection.exec_driver_sql(statement)
    connection.info["tracked"] = True


def insert_many(
    session: Session, table: str, sql: str, rows: Iterable[Sequence[Any]], keys: NDArray[np.int64]
) -> None:
    """Very many rows at once, straight to SQLite, noted together by their ``keys`` instead of one by one.

    ``keys`` are those of the rows in every part that the table feeds (the order's number for orders and for
    their lines). A trigger for each of a million rows would take a quarter of the time of an import.
    """
    connection = session.connection()
    inserts = {name: sql_ for name, sql_ in _named_triggers() if name in _inserts_of(table)}
    for name in inserts:
        connection.exec_driver_sql(f"DROP TRIGGER temp.{name}")
    cursor: Any = connection.connection.cursor()
    cursor.executemany(sql, rows)
    for trigger in inserts.values():
        connection.exec_driver_sql(trigger)
    for tracked in TRACKED:
        if tracked.table == table:
            for part, _ in tracked.notes:
                change_log.note_rows(connection, part, keys)


def _inserts_of(table: str) -> set[str]:
    return {f"tracked_{number}_insert" for number, one in enumerate(TRACKED) if one.table == table}


def write_notes(session: Session) -> None:
    """Turns what the transaction changed into notes of the change log; call it last in the transaction."""
    connection = session.connection()
    parts = connection.exec_driver_sql(
        "SELECT part, min(key), max(key), count(*), count(*) - count(key) FROM changed GROUP BY part"
    ).all()
    if not parts:
        return
    for part, low, high, rows, whole in parts:
        if whole:
            change_log.note_whole(connection, PARTS[part])
        elif rows < BULK:
            keys = connection.exec_driver_sql("SELECT key FROM changed WHERE part = ?", (part,)).scalars()
            change_log.note_rows(connection, PARTS[part], np.fromiter(keys, np.int64, rows))
        elif high - low < 2 * rows:
            change_log.note_span(connection, PARTS[part], low, high)
        else:
            change_log.note_whole(connection, PARTS[part])
    connection.exec_driver_sql("DELETE FROM changed")
