"""People, and what is said of them: tags, fields, yearly dates; and what the codes mean."""

import json
from itertools import chain
from typing import Any

import numpy as np
from sqlalchemy import select
from sqlalchemy.orm import Session as Reader

from loyalbell.core.history.columns import NEVER
from loyalbell.core.history.snapshot import PERSON_WORDS, Catalogue, FieldValues, People, Tags, YearlyDates
from loyalbell.storage.schema import CustomField, Department, Item, Location, Tag
from loyalbell.storage.snapshot.rows.reading import Loading, Range, day_of, where


def people(loading: Loading, span: Range | None) -> People:
    only = where("id", span)
    columns = loading.table(
        f"""SELECT id, coalesce(joined_at, {-NEVER}), coalesce(closed_at, {NEVER}),
                   coalesce(deceased_at, {NEVER}), email IS NOT NULL, phone IS NOT NULL,
                   chat_handle IS NOT NULL, coalesce(birthday_month, 0), coalesce(birthday_day, 0),
                   coalesce(birthday_year, 0), coalesce(before_orders, 0), coalesce(before_minor, 0),
                   coalesce(before_first_at, {NEVER}), coalesce(before_last_at, {NEVER})
            FROM person {only and "WHERE " + only} ORDER BY id""",
        14,
    )
    ids, joined, closed, deceased, email, text, chat, month, day, year, *sums = columns
    flat = chain.from_iterable(
        loading.rows(f"SELECT {', '.join(PERSON_WORDS)} FROM person {only and 'WHERE ' + only} ORDER BY id")
    )
    words = np.fromiter((loading.words[word] if word else 0 for word in flat), dtype=np.int32)
    return People(
        ids,
        joined,
        closed,
        deceased,
        np.stack((email, text, chat), axis=1).astype(np.bool_),
        month.astype(np.int32),
        day.astype(np.int32),
        year.astype(np.int32),
        words.reshape(-1, len(PERSON_WORDS)),
        *sums,
    )


def tags(loading: Loading, span: Range | None) -> Tags:
    only = where("id", span)
    ids, person, at, tag, until = loading.table(
        f"SELECT id, person_id, at, tag_id, coalesce(removed_at, {NEVER}) FROM person_tag "
        f"{only and 'WHERE ' + only}",
        5,
    )
    return Tags.of(key=ids, person=loading.numbers(person), at=at, tag=tag, until=until)


def field_values(loading: Loading, span: Range | None) -> FieldValues:
    """Several choices become a row each; a number, a day or a yes stands in ``number``."""
    only = where("field_value.id", span)
    found: list[tuple[int, int, int, int, float, int, int]] = []
    for row_id, person, at, field_id, kind, value, until in loading.rows(
        f"""SELECT field_value.id, person_id, at, field_id, kind, value, coalesce(until, {NEVER})
            FROM field_value JOIN custom_field ON custom_field.id = field_id
            {only and "WHERE " + only}"""
    ):
        for number, word in read_value(kind, value):
            code = loading.words[word] if word else 0
            found.append((row_id, person, at, field_id, number, code, until))
    names = ("key", "person", "at", "field", "number", "word", "until")
    columns: dict[str, Any] = {
        name: list(column) for name, column in zip(names, zip(*found, strict=True), strict=bool(found))
    } or {name: [] for name in names}
    columns["person"] = loading.numbers(columns["person"])
    return FieldValues.of(**columns)


def read_value(kind: str, value: str) -> list[tuple[float, str]]:
    """The (number, word) rows of a stored value, itself JSON text."""
    held = json.loads(value)
    if kind == "number" or kind == "yes or no":
        return [(float(held), "")]
    if kind == "date":
        return [(float(day_of(held)), "")]
    return [(np.nan, str(one)) for one in (held if isinstance(held, list) else [held])]


def yearly_dates(loading: Loading, span: Range | None) -> YearlyDates:
    """Named days of people, and the birthdays of those they care for. Read whole: they are few."""
    person, name, month, day, year, of_companion, ids = loading.columns(
        """SELECT person_id, name, month, day, coalesce(year, 0), 0, id FROM yearly_date UNION ALL
           SELECT person_id, coalesce(kind, ''), birthday_month, birthday_day, coalesce(birthday_year, 0), 1,
                  id
           FROM companion WHERE birthday_month IS NOT NULL""",
        7,
    )
    return YearlyDates.of(
        key=ids,
        person=loading.numbers(person),
        at=np.zeros(len(ids)),
        name=loading.codes(name),
        month=month,
        day=day,
        year=year,
        of_companion=np.array(of_companion) != 0,
    )


def catalogue(reader: Reader) -> Catalogue:
    """The names of departments, places, items, tags and fields."""
    items = reader.execute(select(Item.id, Item.name, Item.category, Item.department_id).order_by(Item.id))
    fields = reader.execute(select(CustomField.id, CustomField.name, CustomField.kind))
    return Catalogue(
        departments=dict(reader.execute(select(Department.id, Department.name)).all()),
        locations=dict(reader.execute(select(Location.id, Location.name)).all()),
        items={at: (name, category or "", department or 0) for at, name, category, department in items},
        tags=dict(reader.execute(select(Tag.id, Tag.name)).all()),
        fields={at: (name, kind) for at, name, kind in fields},
    )
