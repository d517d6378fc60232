"""Fourteen months in which the made-up shop has used the program, with effects whose truth is known.

``files/lived.json.gz`` holds the rows; ``scripts/lived_history.py`` makes it from rehearsals of the demo's
own sequences over its own past, and plants what messages change. The tests of the results know these truths.
"""

import gzip
import json
from datetime import UTC, date, datetime
from pathlib import Path
from typing import Any

from sqlalchemy import text

from loyalbell.services.application import Application
from loyalbell.services.settings.channels import HoldoutSettings

FILE = Path(__file__).parent / "files" / "lived.json.gz"
BEGAN = datetime(2025, 3, 12, 13, 0, tzinfo=UTC)
"""When the shop began to use the program."""
HELD_OUT, HELD_OUT_SINCE = 5, date(2025, 7, 1)
"""Per cent of all customers who get no marketing, and since when."""
HELD_BACK = {"win-back": 25, "second": 30, "birthday": 25, "vip": 40, "companion": 20}
"""Shares in per cent that are held back from the demo's sequences, by their template."""
BROUGHT_BACK = {"win-back": 0.20, "second": 0.16, "birthday": 0.12, "companion": 0.0, "vip": 0.0}
"""The planted truth: of those written to who would not have come within 30 days, the share that comes."""
TABLES = (
    "campaign",
    "orders",
    "order_line",
    "enrolment",
    "delivery",
    "delivery_event",
    "offer_code",
    "redemption",
    "consent_entry",
    "reply",
)


def key_of(template: str) -> str:
    """What draws the arms and the held-back of a demo's sequence."""
    return f"otterby {template}"


def kept() -> dict[str, dict[str, Any]]:
    """Columns and rows by table."""
    with gzip.open(FILE, "rt", encoding="utf-8") as file:
        found: dict[str, dict[str, Any]] = json.load(file)
    return found


def rows_of(table: str) -> list[list[Any]]:
    rows: list[list[Any]] = kept()[table]["rows"]
    return rows


def live_through(application: Application, keys: dict[int, str]) -> None:
    """Puts the fourteen months into a new demo; ``keys`` are of its sequences, by id."""
    there, began = kept(), int(BEGAN.timestamp())
    with application.database.transaction() as session:
        connection = session.connection()
        HoldoutSettings(percent=HELD_OUT, since=HELD_OUT_SINCE).save(session)
        for number, key in keys.items():
            values = {"key": key, "began": began, "number": number}
            session.execute(
                text("UPDATE sequence SET key = :key, rings_since = :began WHERE id = :number"), values
            )
            session.execute(
                text("UPDATE sequence_version SET published_at = :began WHERE sequence_id = :number"), values
            )
        for table in TABLES:
            columns = there[table]["columns"]
            places = ", ".join("?" for _ in columns)
            rows = [tuple(row) for row in there[table]["rows"]]
            if rows:
                connection.exec_driver_sql(
                    f"INSERT INTO {table} ({', '.join(columns)}) VALUES ({places})",
                    rows,
                )
