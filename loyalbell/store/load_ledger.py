"""Reading the book into the columns of the ledger, part by part, whole or a few rows."""

import json
from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace
from datetime import date
from itertools import chain
from typing import Any

import numpy as np
from numpy.typing import NDArray
from sqlalchemy import select
from sqlalchemy.orm import Session as Reader

from loyalbell.core.columns import NEVER, Rows, Small
from loyalbell.core.ledger import (
    APPOINTMENT_STATES,
    CHANNELS,
    CONSENT_STATES,
    NO_DAY,
    PERSON_WORDS,
    STATUSES,
    WAY_ENDS,
    Answers,
    Appointments,
    Catalogue,
    Codes,
    Consents,
    Events,
    FieldValues,
    Ledger,
    Lines,
    Memberships,
    Orders,
    People,
    Responses,
    Statuses,
    Suppressions,
    Tags,
    Touches,
    WalkIns,
    Ways,
    Words,
    YearlyDates,
)
from loyalbell.core.visits import EPOCH
from loyalbell.store.tables import CustomField, Department, Item, Location, Shop, Tag

Range = tuple[int, int]
Ints = NDArray[np.int64]


class Loading:
    """One reading of the book: whose numbers people have, and the codes of words."""

    def __init__(self, reader: Reader, people: People, words: Words, zone: str) -> None:
        self.reader, self.people, self.words, self.zone = reader, people, words, zone

    def table(self, sql: str, width: int) -> Ints:
        """The rows of a query on whole numbers, as a ``width`` x rows array of contiguous columns."""
        flat = np.fromiter(chain.from_iterable(self.rows(sql)), dtype=np.int64)
        return np.ascontiguousarray(flat.reshape(-1, width).T)

    def rows(self, sql: str) -> Any:
        cursor: Any = self.reader.connection().connection.cursor()
        return cursor.execute(sql)

    def columns(self, sql: str, width: int) -> list[list[Any]]:
        """The rows of a query of any kind, as one list a column."""
        found = list(zip(*self.rows(sql), strict=True))
        return [list(column) for column in found] or [[] for _ in range(width)]

    def numbers(self, ids: Any) -> Small:
        """Person numbers of person ids; quick where ids run without gaps."""
        known, wanted = self.people.ids, np.asarray(ids, dtype=np.int64)
        if len(known) and known[-1] - known[0] == len(known) - 1:
            offsets: Small = (wanted - known[0]).astype(np.int32)
            return offsets
        return np.searchsorted(known, wanted).astype(np.int32)

    def codes(self, words: Sequence[str | None]) -> list[int]:
        return [self.words[word] if word else 0 for word in words]


def where(key: str, span: Range | None) -> str:
    return "" if span is None else f"{key} BETWEEN {span[0]} AND {span[1]}"


def _code(words: tuple[str, ...], column: str) -> str:
    cases = " ".join(f"WHEN '{word}' THEN {at}" for at, word in enumerate(words))
    return f"CASE {column} {cases} ELSE 0 END"


def people(loading: Loading, span: Range | None) -> People:
    only = where("id", span)
    columns = loading.table(
        f"""SELECT id, coalesce(joined_at, {-NEVER}), coalesce(closed_at, {NEVER}),
                   coalesce(deceased_at, {NEVER}), email IS NOT NULL, phone IS NOT NULL,
                   chat_handle IS NOT NULL, coalesce(birthday_month, 0), coalesce(birthday_day, 0),
                   coalesce(birthday_year, 0)
            FROM person {only and "WHERE " + only} ORDER BY id""",
        10,
    )
    ids, joined, closed, deceased, email, text, chat, month, day, year = columns
    flat = chain.from_iterable(
        loading.rows(f"SELECT {', '.join(PERSON_WORDS)} FROM person {only and 'WHERE ' + only} ORDER BY id")
    )
    words = np.fromiter((loading.words[word] if word else 0 for word in flat), dtype=np.int32)
    return People(
        ids, joined, closed, deceased, np.stack((email, text, chat), axis=1).astype(np.bool_),
        month.astype(np.int32), day.astype(np.int32), year.astype(np.int32), words.reshape(-1, len(PERSON_WORDS)),
    )  # fmt: skip


def orders(loading: Loading, span: Range | None) -> Orders:
    """Most orders were neither cancelled nor refunded; those that were are read apart."""
    only = where("id", span)
    ids, person, at, department, location, money, in_person = loading.table(
        "SELECT id, person_id, placed_at, coalesce(department_id, 0), coalesce(location_id, 0), total_minor, in_person"
        f" FROM orders {only and 'WHERE ' + only} ORDER BY id",
        7,
    )
    void_at, refunded_at = np.full(len(ids), NEVER), np.full(len(ids), NEVER)
    refunded = np.zeros(len(ids), dtype=np.int64)
    taken_back, cancelled, back_at, back = loading.table(
        f"""SELECT id, coalesce(cancelled_at, {NEVER}), coalesce(refunded_at, {NEVER}), refunded_minor
            FROM orders WHERE (cancelled_at IS NOT NULL OR refunded_at IS NOT NULL) {only and "AND " + only}""",
        4,
    )
    rows = np.searchsorted(ids, taken_back)
    whole = (back > 0) & (back >= money[rows])
    void_at[rows] = np.minimum(cancelled, np.where(whole, back_at, NEVER))
    refunded_at[rows], refunded[rows] = back_at, back
    return Orders.of(
        key=ids, person=loading.numbers(person), at=at, department=department, location=location,
        money=money, void_at=void_at, refunded_at=refunded_at, refunded=refunded, in_person=in_person != 0,
    )  # fmt: skip


def lines(loading: Loading, span: Range | None) -> Lines:
    only = where("order_id", span)
    order, person, at, item, department, quantity, money, void_at = loading.table(
        f"""SELECT order_id, person_id, placed_at, coalesce(item_id, 0), coalesce(department_id, 0),
                   quantity, order_line.total_minor,
                   min(coalesce(cancelled_at, {NEVER}),
                       iif(refunded_minor > 0 AND refunded_minor >= orders.total_minor, refunded_at, {NEVER}))
            FROM order_line JOIN orders ON orders.id = order_id {only and "WHERE " + only}
            ORDER BY order_line.id""",
        8,
    )
    return Lines.of(
        key=order, person=loading.numbers(person), at=at, item=item, department=department,
        quantity=quantity, money=money, void_at=void_at,
    )  # fmt: skip


def statuses(loading: Loading, span: Range | None) -> Statuses:
    """One row for each status an order has come to."""
    only = where("id", span)
    found = [
        loading.table(
            f"""SELECT id, person_id, {status}_at, {number} FROM orders
                WHERE {status}_at IS NOT NULL {only and "AND " + only}""",
            4,
        )
        for number, status in enumerate(STATUSES)
    ]
    ids, person, at, status = np.concatenate(found, axis=1)
    return Statuses.of(key=ids, person=loading.numbers(person), at=at, status=status)


def walk_ins(loading: Loading, span: Range | None) -> WalkIns:
    only = where("id", span)
    ids, person, at, department, location = loading.table(
        "SELECT id, person_id, at, coalesce(department_id, 0), coalesce(location_id, 0) FROM visit "
        f"{only and 'WHERE ' + only}",
        5,
    )
    return WalkIns.of(
        key=ids, person=loading.numbers(person), at=at, department=department, location=location
    )


def appointments(loading: Loading, span: Range | None) -> Appointments:
    """An outcome without a time counts from the appointment's start."""
    only = where("id", span)
    ids, person, at, booked, settled, outcome, item, department, location = loading.table(
        f"""SELECT id, person_id, starts_at, coalesce(booked_at, {-NEVER}),
                   iif(state = 'booked', {NEVER}, coalesce(settled_at, starts_at)),
                   {_code(APPOINTMENT_STATES, "state")}, coalesce(item_id, 0), coalesce(department_id, 0),
                   coalesce(location_id, 0)
            FROM appointment {only and "WHERE " + only}""",
        9,
    )
    return Appointments.of(
        key=ids, person=loading.numbers(person), at=at, booked_at=booked, settled_at=settled,
        outcome=outcome, item=item, department=department, location=location,
    )  # fmt: skip


def _day(text: str | None) -> int:
    return NO_DAY if text is None else (date.fromisoformat(text) - EPOCH).days


def memberships(loading: Loading, span: Range | None) -> Memberships:
    only = where("id", span)
    ids, person, plan, term, started, renews, ended, price = loading.columns(
        "SELECT id, person_id, plan, term, started_on, renews_on, ended_on, coalesce(price_minor, 0) "
        f"FROM membership {only and 'WHERE ' + only}",
        8,
    )
    days = [_day(day) for day in started]
    return Memberships.of(
        key=ids, person=loading.numbers(person), at=[day * 86_400 for day in days], plan=loading.codes(plan),
        term=loading.codes(term), started=days, renews=list(map(_day, renews)), ended=list(map(_day, ended)),
        price=price,
    )  # fmt: skip


def events(loading: Loading, span: Range | None) -> Events:
    only = where("id", span)
    ids, person, at, kind, properties = loading.columns(
        f"SELECT id, person_id, at, kind, properties FROM event {only and 'WHERE ' + only}", 5
    )
    return Events.of(
        key=ids, person=loading.numbers(person), at=at, kind=loading.codes(kind),
        properties=loading.codes(properties),
    )  # fmt: skip


def answers(loading: Loading, span: Range | None) -> Answers:
    only = where("id", span)
    ids, person, at, kind, score, best, item = loading.columns(
        "SELECT id, person_id, at, kind, coalesce(score, -1), coalesce(best, 0), coalesce(item_id, 0) "
        f"FROM answer {only and 'WHERE ' + only}",
        7,
    )
    return Answers.of(
        key=ids, person=loading.numbers(person), at=at, kind=loading.codes(kind), score=score, best=best,
        item=item,
    )  # fmt: skip


def touches(loading: Loading, span: Range | None) -> Touches:
    only = where("touch.id", span)
    ids, person, at, channel, message, origin, origin_id = loading.columns(
        f"""SELECT touch.id, person_id, sent_at, {_code(CHANNELS, "channel")}, message_id, origin_kind, origin_id
            FROM touch JOIN message_version ON message_version.id = message_version_id
            WHERE state IN ('sent', 'unsure') AND sent_at IS NOT NULL AND origin_kind <> 'proof' {only and "AND " + only}""",
        7,
    )
    return Touches.of(
        key=ids, person=loading.numbers(person), at=at, channel=channel, message=message,
        origin=loading.codes(origin), origin_id=origin_id,
    )  # fmt: skip


def responses(loading: Loading, span: Range | None) -> Responses:
    only = where("touch_event.id", span)
    ids, person, at, kind, channel, message, touch = loading.columns(
        f"""SELECT touch_event.id, person_id, at, kind, {_code(CHANNELS, "channel")}, message_id, touch_id
            FROM touch_event JOIN touch ON touch.id = touch_id
            JOIN message_version ON message_version.id = message_version_id {only and "WHERE " + only}""",
        7,
    )
    return Responses.of(
        key=ids, person=loading.numbers(person), at=at, kind=loading.codes(kind), channel=channel,
        message=message, touch=touch,
    )  # fmt: skip


def consents(loading: Loading, span: Range | None) -> Consents:
    only = where("id", span)
    ids, person, channel, state, at = loading.table(
        f"""SELECT id, person_id, {_code(CHANNELS, "channel")}, {_code(CONSENT_STATES, "state")}, at
            FROM consent_entry {only and "WHERE " + only}""",
        5,
    )
    return Consents.of(key=ids, person=loading.numbers(person), at=at, channel=channel, state=state)


def suppressions(loading: Loading, span: Range | None) -> Suppressions:
    """A suppression holds for its person and for everyone who has its address."""
    only = where("suppression.id", span)
    ids, person, channel, at, lifted = loading.table(
        f"""SELECT suppression.id, person.id, {_code(CHANNELS, "channel")}, at, coalesce(lifted_at, {NEVER})
            FROM suppression JOIN person ON (person.id = suppression.person_id
              OR (suppression.channel = 'email' AND lower(person.email) = lower(suppression.address))
              OR (suppression.channel = 'text' AND person.phone = suppression.address)
              OR (suppression.channel = 'chat' AND person.chat_handle = suppression.address))
              {only and "AND " + only}""",
        5,
    )
    return Suppressions.of(key=ids, person=loading.numbers(person), at=at, channel=channel, lifted_at=lifted)


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
        return [(float(_day(held)), "")]
    return [(np.nan, str(one)) for one in (held if isinstance(held, list) else [held])]


def yearly_dates(loading: Loading, span: Range | None) -> YearlyDates:
    """Named days of people, and the birthdays of those they care for. Read whole: they are few."""
    person, name, month, day, year, of_companion, ids = loading.columns(
        """SELECT person_id, name, month, day, coalesce(year, 0), 0, id FROM yearly_date UNION ALL
           SELECT person_id, coalesce(kind, ''), birthday_month, birthday_day, coalesce(birthday_year, 0), 1, id
           FROM companion WHERE birthday_month IS NOT NULL""",
        7,
    )
    return YearlyDates.of(
        key=ids, person=loading.numbers(person), at=np.zeros(len(ids)), name=loading.codes(name), month=month,
        day=day, year=year, of_companion=np.array(of_companion) != 0,
    )  # fmt: skip


def codes(loading: Loading, span: Range | None) -> Codes:
    """A code with uses left is not used up; the last redemption of one without ends it."""
    only = where("offer_code.id", span)
    ids, person, at, offer, until, used = loading.columns(
        f"""SELECT offer_code.id, person_id, issued_at, offer_id, coalesce(expires_at, {NEVER}),
            CASE WHEN uses_left > 0 THEN {NEVER} ELSE coalesce((SELECT max(at) FROM redemption WHERE code_id = offer_code.id), {NEVER}) END
            FROM offer_code {only and "WHERE " + only}""",
        6,
    )
    return Codes.of(key=ids, person=loading.numbers(person), at=at, offer=offer, until=until, used_at=used)


def ways(loading: Loading, span: Range | None) -> Ways:
    """Whoever was kept out has no way. To be taken out is to have left."""
    only = where("id", span)
    ids, person, at, sequence, ended, how = loading.columns(
        f"""SELECT id, person_id, entered_at, sequence_id,
            CASE state WHEN 'under way' THEN {NEVER} ELSE coalesce(ended_at, entered_at) END,
            {_code(WAY_ENDS, "CASE state WHEN 'taken out' THEN 'left' ELSE state END")}
            FROM enrolment WHERE state != 'kept out' {only and "AND " + only}""",
        6,
    )
    return Ways.of(key=ids, person=loading.numbers(person), at=at, sequence=sequence, ended_at=ended, how=how)


Load = Callable[[Loading, Range | None], Rows]
HISTORY: dict[str, Load] = {
    "orders": orders,
    "statuses": statuses,
    "lines": lines,
    "walk_ins": walk_ins,
    "appointments": appointments,
    "memberships": memberships,
    "events": events,
    "answers": answers,
    "touches": touches,
    "responses": responses,
    "consents": consents,
    "suppressions": suppressions,
    "codes": codes,
    "ways": ways,
    "tags": tags,
    "field_values": field_values,
    "yearly_dates": yearly_dates,
}
WHOLE_ONLY = ("yearly_dates", "suppressions")
PARTS = ("people", *HISTORY, "catalogue")
Noted = Mapping[str, Sequence[Range] | None]


def load_ledger(reader: Reader, version: int = 0, parts: Sequence[str] = tuple(HISTORY)) -> Ledger:
    """The ledger as the book is now; only some parts of the history where ``parts`` names them."""
    shop = reader.get_one(Shop, 1)
    bare = Ledger(shop.zone, shop.currency, People.of([], []))
    loading = Loading(reader, bare.people, bare.words, shop.zone)
    loading.people = people(loading, None)
    history = {name: HISTORY[name](loading, None) for name in parts}
    return replace(
        bare,
        people=loading.people,
        catalogue=catalogue(reader),
        version=version,
        **history,  # type: ignore[arg-type]
    )


def follow(reader: Reader, ledger: Ledger, noted: Noted, version: int) -> Ledger:
    """The ledger after the noted changes; the same as loading it anew."""
    if "people" in noted:
        mended = _people_after(reader, ledger, noted["people"])
        if mended is None:
            return load_ledger(reader, version)
        ledger = replace(ledger, people=mended)
    loading = Loading(reader, ledger.people, ledger.words, ledger.zone)
    parts: dict[str, Any] = {}
    if "orders" in noted:
        noted = {**noted, "statuses": noted["orders"]}
    for name, ranges in noted.items():
        if name in HISTORY:
            parts[name] = _rows_after(loading, getattr(ledger, name), name, ranges)
    if "people" in noted and "suppressions" not in parts:
        parts["suppressions"] = suppressions(loading, None)
    if "catalogue" in noted:
        parts["catalogue"] = catalogue(reader)
    return replace(ledger, version=version, **parts)


def _people_after(reader: Reader, ledger: Ledger, ranges: Sequence[Range] | None) -> People | None:
    if ranges is None:
        return None
    loading = Loading(reader, ledger.people, ledger.words, ledger.zone)
    mended: People | None = ledger.people
    for low, high in ranges:
        fresh = people(loading, (low, high))
        within = ledger.people.ids[(ledger.people.ids >= low) & (ledger.people.ids <= high)]
        if mended is not None:
            mended = mended.with_people(fresh, np.setdiff1d(within, fresh.ids))
    return mended


def _rows_after(loading: Loading, old: Rows, name: str, ranges: Sequence[Range] | None) -> Rows:
    load = HISTORY[name]
    if ranges is None or name in WHOLE_ONLY:
        return load(loading, None)
    rows = old.without(ranges)
    for span in dict.fromkeys(ranges):
        rows = rows.without([span]).with_rows(load(loading, span))
    return rows


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
