"""Changing what is on file about one customer, each change written down with who made it."""

from collections.abc import Mapping, Sequence
from datetime import datetime, time
from typing import Any
from zoneinfo import ZoneInfo

from sqlalchemy import select

from loyalbell.core.clock.date_order import writes_day_first
from loyalbell.core.clock.local_time import at_local
from loyalbell.services.application import Application
from loyalbell.services.customers.person_edit import Edit, within
from loyalbell.storage.files.customers.custom_columns import day_triple
from loyalbell.storage.files.customers.customer_cells import LONGEST_TAG, Language, Zone
from loyalbell.storage.records.custom_fields import read_field, say_field
from loyalbell.storage.records.date_cells import Birthday, read_moment
from loyalbell.storage.records.name_registry import Names
from loyalbell.storage.records.parsers import CellReader, Email, Phone, Text
from loyalbell.storage.schema import (
    Companion,
    CustomField,
    Event,
    ExternalId,
    FieldValue,
    Note,
    Tag,
    YearlyDate,
)

LABELS = {
    "first_name": "First name",
    "last_name": "Last name",
    "email": "Email",
    "phone": "Mobile phone",
    "chat_handle": "Chat handle",
    "language": "Language",
    "zone": "Time zone",
    "street": "Street",
    "city": "City",
    "region": "Region",
    "postal_code": "Postal code",
}
LONGEST_EVENT = 200
MARKS = {"closed_at": "Closed since", "deceased_at": "Deceased since"}


def change_person(application: Application, person_id: int, given: Mapping[str, str], by: str) -> None:
    """Names, addresses and the like; only what is in ``given``. An empty text empties. Raises ``NotKept``."""

    def act(edit: Edit) -> None:
        readers: dict[str, CellReader] = {
            "email": Email(),
            "phone": Phone(edit.shop.country),
            "language": Language(),
            "zone": Zone(),
        }
        for column, what in LABELS.items():
            if column in given:
                text = " ".join(given[column].split())
                value = readers.get(column, Text()).read(text) if text else None
                edit.set(column, value, what)
                if column == "email":
                    edit.person.email_given = text if value and text != value else None
        if not any((edit.person.email, edit.person.phone, edit.person.first_name, edit.person.last_name)):
            raise ValueError("leave at least a name, an email or a phone")

    within(application, person_id, by, act)


def change_dates(
    application: Application, person_id: int, birthday: str, yearly: Mapping[str, str], by: str
) -> None:
    """The birthday and named yearly dates, as texts; an empty one is taken out. Raises ``NotKept``."""

    def act(edit: Edit) -> None:
        reader = Birthday(writes_day_first(edit.shop.country))
        _set_birthday(edit, reader.read(birthday.strip()) if birthday.strip() else None)
        held = {one.name: day_triple(one.year, one.month, one.day) for one in _of(edit, YearlyDate)}
        for name, text in yearly.items():
            name = " ".join(name.split())
            if not name:
                continue
            if len(name) > 60:
                raise ValueError("the name of a date may have at most 60 characters")
            day = reader.read(text.strip()) if text.strip() else None
            if edit.facts.set_yearly(name, {edit.person.id: day}):
                edit.note(name, held.get(name), day_triple(*day) if day else None)

    within(application, person_id, by, act)


def _set_birthday(edit: Edit, day: tuple[int | None, int, int] | None) -> None:
    person = edit.person
    year, month, on = day or (None, None, None)
    today = edit.now.astimezone(ZoneInfo(edit.shop.zone)).date()
    if year and month and on and (year, month, on) > (today.year, today.month, today.day):
        raise ValueError("that birthday lies in the future")
    before = (person.birthday_year, person.birthday_month, person.birthday_day)
    if before == (year, month, on):
        return
    old = day_triple(before[0], before[1], before[2]) if before[1] and before[2] else None
    person.birthday_year, person.birthday_month, person.birthday_day = year, month, on
    edit.note("Birthday", old, day_triple(year, month, on) if month and on else None)


def change_fields(application: Application, person_id: int, given: Mapping[int, str], by: str) -> None:
    """The shop's own fields, as texts by field id; an empty one is emptied. Raises ``NotKept``."""

    def act(edit: Edit) -> None:
        held = {
            one.field_id: one.value
            for one in edit.session.scalars(
                select(FieldValue).where(FieldValue.person_id == person_id, FieldValue.until.is_(None))
            )
        }
        for field_id, text in given.items():
            field = edit.session.get_one(CustomField, field_id)
            try:
                value = read_field(field, text, writes_day_first(edit.shop.country)) if text.strip() else None
            except ValueError as problem:
                raise ValueError(f"{field.name}: {problem}") from problem
            if edit.facts.set_field(field_id, {person_id: value or (value if value in (0, False) else None)}):
                old = say_field(field.kind, held[field_id]) if field_id in held else None
                edit.note(field.name, old, say_field(field.kind, value) if value is not None else None)

    within(application, person_id, by, act)


Cared = tuple[int | None, str, str, str]


def change_companions(application: Application, person_id: int, given: Sequence[Cared], by: str) -> None:
    """Whom they care for: (id or ``None`` for a new one, name, kind, birthday as text).

    No name takes one out.
    """

    def act(edit: Edit) -> None:
        reader, held = (
            Birthday(writes_day_first(edit.shop.country)),
            {one.id: one for one in _of(edit, Companion)},
        )
        for companion_id, name, kind, born in given:
            name, old = " ".join(name.split()), held.get(companion_id or 0)
            if not name:
                if old is not None:
                    edit.session.delete(old)
                    edit.note("Cares for", old.name, None)
                continue
            year, month, day = reader.read(born.strip()) if born.strip() else (None, None, None)
            facts = {
                "name": name[:80],
                "kind": " ".join(kind.split())[:40] or None,
                "birthday_year": year,
                "birthday_month": month,
                "birthday_day": day,
            }
            if old is None:
                edit.session.add(Companion(person_id=person_id, **facts))
                edit.note("Cares for", None, name)
            elif any(getattr(old, column) != value for column, value in facts.items()):
                edit.note("Cares for", _cared(old), name)
                for column, value in facts.items():
                    setattr(old, column, value)

    within(application, person_id, by, act)


def _cared(one: Companion) -> str:
    born = (
        day_triple(one.birthday_year, one.birthday_month, one.birthday_day)
        if one.birthday_month and one.birthday_day
        else ""
    )
    return ", ".join(filter(None, (one.name, one.kind, born)))


def change_ids(application: Application, person_id: int, given: Sequence[tuple[str, str]], by: str) -> None:
    """The ids under which other programs know the person, as (source, id). Raises ``NotKept``."""

    def act(edit: Edit) -> None:
        wanted = {
            (" ".join(source.split()) or "import", value.strip()) for source, value in given if value.strip()
        }
        held = {(one.source, one.value): one for one in _of(edit, ExternalId)}
        for source, value in sorted(wanted - held.keys()):
            other = edit.session.scalar(
                select(ExternalId).where(ExternalId.source == source, ExternalId.value == value)
            )
            if other is not None:
                raise ValueError(
                    f"the id “{value}” of {source} belongs to another customer; merge the two if they are one"
                    " person"
                )
            edit.session.add(ExternalId(source=source, value=value, person_id=person_id))
            edit.note(f"Id in {source}", None, value)
        for key in sorted(held.keys() - wanted):
            edit.session.delete(held[key])
            edit.note(f"Id in {key[0]}", key[1], None)

    within(application, person_id, by, act)


def change_marks(application: Application, person_id: int, given: Mapping[str, str], by: str) -> None:
    """Closed and deceased, as days; an empty text takes the mark off. Raises ``NotKept``."""

    def act(edit: Edit) -> None:
        for column, what in MARKS.items():
            text = given.get(column, "").strip()
            value = None
            if text:
                moment = read_moment(text, writes_day_first(edit.shop.country))
                day = moment.date() if isinstance(moment, datetime) else moment
                value = at_local(day, time(), edit.shop.zone)
                if value > edit.now:
                    raise ValueError(f"{what.lower()} cannot lie in the future")
            edit.set(column, value, what)

    within(application, person_id, by, act)


def add_tag(application: Application, person_id: int, name: str, by: str) -> None:
    """A tag is made where it is new. Raises ``NotKept``."""

    def act(edit: Edit) -> None:
        tag = tag_name(name)
        tag_id = Names(edit.session).id_of("tag", tag)
        if edit.facts.add_tag([person_id], tag_id or 0):
            edit.note("Tag", None, tag)

    within(application, person_id, by, act)


def tag_name(name: str) -> str:
    """The name as it is kept. Raises ``ValueError``."""
    tag = " ".join(name.split())
    if not tag or len(tag) > LONGEST_TAG or ";" in tag or "," in tag:
        raise ValueError(
            f"give the tag a name of at most {LONGEST_TAG} characters, without commas or semicolons"
        )
    return tag


def remove_tag(application: Application, person_id: int, tag_id: int, by: str) -> None:
    def act(edit: Edit) -> None:
        tag = edit.session.get_one(Tag, tag_id)
        if edit.facts.remove_tag([person_id], tag_id):
            edit.note("Tag", tag.name, None)

    within(application, person_id, by, act)


def add_note(application: Application, person_id: int, text: str, by: str) -> None:
    """Raises ``NotKept``."""

    def act(edit: Edit) -> None:
        if not text.strip() or len(text) > 4_000:
            raise ValueError("write a note of at most 4,000 characters")
        edit.session.add(Note(person_id=person_id, at=edit.now, by=by, text=text.strip()))

    within(application, person_id, by, act)


def add_event(application: Application, person_id: int, kind: str, by: str) -> None:
    """Something that the person did, put down by hand: to try a sequence that waits for it. Raises
    ``NotKept``.
    """

    def act(edit: Edit) -> None:
        said = " ".join(kind.split())
        if not said or len(said) > LONGEST_EVENT:
            raise ValueError("say what happened, such as: viewed a page")
        edit.session.add(Event(person_id=person_id, at=edit.now, kind=said, properties={}))

    within(application, person_id, by, act)


def _of(edit: Edit, table: type[Any]) -> list[Any]:
    return list(edit.session.scalars(select(table).where(table.person_id == edit.person.id)))
