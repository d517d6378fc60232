"""What sequences ask the staff to do, and the lists they hand to other tools."""

import csv
import io

from sqlalchemy import func, select

from loyalbell.services.application import Application
from loyalbell.storage.files.import_outcome import guarded
from loyalbell.storage.schema import HandedOff, Person, StaffNote

SHOWN = 8


def open_notes(application: Application, limit: int = SHOWN) -> tuple[int, list[tuple[StaffNote, Person]]]:
    """How many are still to be done, and the oldest of them with whom they are about."""
    with application.database.reading() as session:
        waiting = session.scalar(select(func.count()).where(StaffNote.done_at.is_(None))) or 0
        rows = session.execute(
            select(StaffNote, Person)
            .join(Person, Person.id == StaffNote.person_id)
            .where(StaffNote.done_at.is_(None))
            .order_by(StaffNote.at)
            .limit(limit)
        ).all()
    return waiting, [(note, person) for note, person in rows]


def done(application: Application, note_id: int, by: str) -> None:
    """Marks it as done; a second time changes nothing."""
    with application.database.transaction() as session:
        note = session.get(StaffNote, note_id)
        if note is not None and note.done_at is None:
            note.done_at, note.done_by = application.clock.now(), by


def lists(application: Application) -> list[tuple[str, int]]:
    """(name, people) of the hand-off lists."""
    query = select(HandedOff.list, func.count(func.distinct(HandedOff.person_id))).group_by(HandedOff.list)
    with application.database.reading() as session:
        return [(name, count) for name, count in session.execute(query.order_by(HandedOff.list))]


def handed_off(application: Application, name: str) -> str:
    """One list as CSV (RFC 4180), everybody once, the newest first."""
    out = io.StringIO()
    writer = csv.writer(out)
    writer.writerow(["id", "first_name", "last_name", "email", "phone", "added_at"])
    seen: set[int] = set()
    with application.database.reading() as session:
        rows = session.execute(
            select(Person, HandedOff.at)
            .join(HandedOff, HandedOff.person_id == Person.id)
            .where(HandedOff.list == name)
            .order_by(HandedOff.at.desc())
        ).all()
    for person, at in rows:
        if person.id not in seen:
            seen.add(person.id)
            writer.writerow(
                guarded(str(cell or ""))
                for cell in (
                    *(person.id, person.first_name, person.last_name),
                    *(person.email, person.phone, at.isoformat()),
                )
            )
    return out.getvalue()
