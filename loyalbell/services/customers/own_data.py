"""Everything on file about one person, for them to have: a page to read and the same as JSON, in one zip
(GDPR, articles 15 and 20).
"""

import html
import io
import json
import zipfile
from collections.abc import Iterator
from datetime import datetime
from typing import Any
from zoneinfo import ZoneInfo

from sqlalchemy import select

from loyalbell.services.application import Application, UnitOfWork
from loyalbell.storage import person_rows
from loyalbell.storage.schema import (
    Base,
    CustomField,
    Department,
    Item,
    Location,
    Message,
    MessageVersion,
    Offer,
    Person,
    Segment,
    Sequence,
    Staff,
    Tag,
)

TITLES = {
    "answer": "Reviews and answers",
    "appointment": "Appointments",
    "companion": "Cares for",
    "consent_entry": "What was said about messages",
    "delivery": "Messages",
    "delivery_event": "What was done with messages",
    "enrolment": "Sequences",
    "event": "On the site or in the app",
    "external_id": "Ids elsewhere",
    "field_value": "Further fields",
    "handed_off": "Lists handed on",
    "membership": "Memberships",
    "merge": "Records that were joined",
    "not_the_same": "Records that are not the same person",
    "note": "Notes",
    "offer_code": "Codes",
    "order_line": "Lines of orders",
    "orders": "Orders",
    "person_change": "Changes",
    "person_tag": "Tags",
    "preference": "Preferences",
    "redemption": "Codes redeemed",
    "reply": "Replies",
    "sign_up": "Sign-ups",
    "staff_note": "Notes for the staff",
    "suppression": "Suppressions",
    "visit": "Visits",
    "yearly_date": "Days of the year",
}
SECRET = {"token", "message_key", "network_id", "trail", "request_hash"}
"""Keys by which others could act for the person, and what is of the machine alone."""
NAMED: dict[str, type[Base]] = {
    "department_id": Department,
    "location_id": Location,
    "staff_id": Staff,
    "item_id": Item,
    "tag_id": Tag,
    "field_id": CustomField,
    "offer_id": Offer,
    "sequence_id": Sequence,
    "segment_id": Segment,
}


def as_zip(application: Application, person_id: int) -> bytes | None:
    """``everything.html`` and ``everything.json``; ``None`` where no such person is on file."""
    with application.database.reading() as session:
        person = session.get(Person, person_id)
        if person is None:
            return None
        found = _everything(session, person, application.the_shop().zone)
    shop, now = application.the_shop(), application.clock.now()
    said = {"shop": shop.name, "made_at": now.isoformat(), **found}
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as pack:
        pack.writestr("everything.json", json.dumps(said, ensure_ascii=False, indent=2))
        pack.writestr("everything.html", _page(shop.name, now, found))
    return out.getvalue()


def _everything(session: UnitOfWork, person: Person, zone: str) -> dict[str, Any]:
    names, parts = _Names(session), {}
    facts = {column.name: getattr(person, column.name) for column in Person.__table__.columns}
    parts["About you"] = [_said(facts, names, zone)]
    for table, row in person_rows.rows_of(session, person.id):
        parts.setdefault(TITLES.get(table, table.replace("_", " ").capitalize()), []).append(
            _said(row._mapping, names, zone)
        )
    return {"parts": parts}


class _Names:
    """What the numbers in rows stand for."""

    def __init__(self, session: UnitOfWork) -> None:
        self.session = session
        self._known: dict[tuple[str, int], str] = {}

    def of(self, column: str, number: int) -> str:
        key = (column, number)
        if key not in self._known:
            if column == "message_version_id":
                query = select(Message.name).join(MessageVersion, MessageVersion.message_id == Message.id)
                found = self.session.scalar(query.where(MessageVersion.id == number))
            else:
                row = self.session.get(NAMED[column], number)
                found = getattr(row, "name", None)
            self._known[key] = str(found or number)
        return self._known[key]


def _said(row: Any, names: _Names, zone: str) -> dict[str, Any]:
    """A row by the names of its columns, with what it points to by name, instants in the shop's zone, and
    without what is empty.
    """
    said: dict[str, Any] = {}
    for column, value in row.items():
        if column in SECRET or column == "id" or value is None or value == "" or value == []:
            continue
        if column == "person_id" or column == "import_id":
            continue
        if column in NAMED or column == "message_version_id":
            said[column.removesuffix("_version_id").removesuffix("_id")] = names.of(column, value)
        elif isinstance(value, datetime):
            said[column] = value.astimezone(ZoneInfo(zone)).isoformat()
        else:
            said[column] = value if isinstance(value, str | int | float | bool | dict | list) else str(value)
    return said


def _page(shop: str, now: datetime, found: dict[str, Any]) -> str:
    return "".join(_lines(shop, now, found["parts"]))


def _lines(shop: str, now: datetime, parts: dict[str, list[dict[str, Any]]]) -> Iterator[str]:
    title = html.escape(f"What {shop} has on file about you")
    yield f"<!doctype html><html lang='en'><head><meta charset='utf-8'><title>{title}</title></head><body>"
    yield f"<h1>{title}</h1><p>As of {now:%-d %B %Y}. The same stands in everything.json for programs.</p>"
    for name, rows in parts.items():
        yield f"<h2>{html.escape(name)} ({len(rows)})</h2>"
        columns = list(dict.fromkeys(column for row in rows for column in row))
        yield "<table border='1' cellpadding='4'><tr>"
        yield from (f"<th>{html.escape(column.replace('_', ' '))}</th>" for column in columns)
        yield "</tr>"
        for row in rows:
            cells = (html.escape(_cell(row.get(column))) for column in columns)
            yield "<tr>" + "".join(f"<td>{cell}</td>" for cell in cells) + "</tr>"
        yield "</table>"
    yield "</body></html>"


def _cell(value: Any) -> str:
    if value is None:
        return ""
    return value if isinstance(value, str) else json.dumps(value, ensure_ascii=False)
