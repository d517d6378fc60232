"""The rest of what Otterby Pet House knows: appointments, walk-ins, plans, answers, tags, its own fields,
doubles.
"""

from collections.abc import Iterable
from datetime import date, datetime, time, timedelta
from random import Random
from typing import Any

from sqlalchemy import insert, select, update
from sqlalchemy.orm import Session

from loyalbell.core.clock.local_time import at_local
from loyalbell.demo.order_history import Bought
from loyalbell.demo.people import MadeUp
from loyalbell.demo.vocabulary import CLINIC, DEPARTMENTS, GROOM
from loyalbell.storage.schema import (
    Answer,
    Appointment,
    Base,
    ConsentEntry,
    CustomField,
    Event,
    ExternalId,
    FieldValue,
    Item,
    Location,
    Membership,
    Note,
    Order,
    Person,
    PersonTag,
    Staff,
    Suppression,
    Tag,
    Visit,
    YearlyDate,
)

SEED = 77_011
LOCATIONS = ("Mill Row", "Ferncross")
STAFF = ("Ida", "Tomas", "Bea", "Dr. Oduya", "Dr. Lind")
GROOMERS, VETS = (2, 3), (4, 5)
TAGS = ("regular", "first litter", "wholesale", "shy dog", "café friend", "asks for Bea")
PLANS = (("Coat club", "yearly", 24_000), ("Healthy paws", "yearly", 18_000), ("Treat box", "monthly", 2_400))
FIELDS: tuple[tuple[str, str, list[str]], ...] = (
    ("How they found us", "one choice", ["passing by", "a friend", "the web", "the market"]),
    ("Allergies", "several choices", ["chicken", "grain", "fish", "flea bites"]),
    ("Prefers mornings", "yes or no", []),
    ("Insured until", "date", []),
    ("Weight of the heaviest, kg", "number", []),
    ("Favourite treat", "text", []),
)
NOTES = (
    "Please ring before the groom, not after.",
    "Comes by bus; afternoons are hard for her.",
    "Was unhappy with the wait in March. Said sorry with a coffee.",
    "Brings cake for the team at Christmas.",
    "Prefers to pay in cash.",
)
REVIEWS = (
    (5, "So gentle with an old dog."),
    (5, "Lovely people, and the brunch is good too."),
    (4, "Good groom, a little late."),
    (3, "Fine, but parking is hard."),
    (2, "The bag was torn. They did replace it."),
)
DAY = 86_400


def add_more(
    session: Session, customers: list[MadeUp], bought: list[Bought], now: datetime, zone: str
) -> None:
    rng = Random(SEED)
    _names(session)
    _catalogue(session, rng)
    _appointments(session, bought, now, zone, rng)
    _walk_ins(session, customers, now, zone, rng)
    _memberships(session, customers, now, rng)
    _events(session, customers, now, rng)
    _answers(session, bought, now, rng)
    _tags_and_fields(session, customers, now, zone, rng)
    _notes_and_marks(session, customers, now, rng)
    _shipped(session, rng)
    _doubles(session, customers, now, zone, rng)


def _put(session: Session, table: type[Base], rows: list[dict[str, Any]]) -> None:
    if rows:
        session.execute(insert(table), rows)


def _names(session: Session) -> None:
    for table, names in ((Location, LOCATIONS), (Staff, STAFF), (Tag, TAGS)):
        _put(session, table, [{"id": at, "name": name} for at, name in enumerate(names, start=1)])


def _catalogue(session: Session, rng: Random) -> None:
    for item in session.scalars(select(Item).order_by(Item.id)):
        item.margin_minor = round((item.price_minor or 0) * rng.uniform(0.22, 0.6))
        item.link = f"https://otterby.example/items/{item.external_id}"
        item.in_stock = rng.random() > 0.08


def _appointments(session: Session, bought: list[Bought], now: datetime, zone: str, rng: Random) -> None:
    """Most grooms and check-ups were booked; some were cancelled or missed, and some lie ahead."""
    rows: list[dict[str, Any]] = []
    numbers = {name: at for at, name in enumerate(DEPARTMENTS, start=1)}
    last: dict[tuple[int, str], Bought] = {}
    for order in bought:
        if order.department not in (GROOM, CLINIC):
            continue
        last[order.person, order.department] = order
        if rng.random() < 0.8:
            rows.append(_appointment(order, order.at, "kept", numbers, rng))
        if rng.random() < 0.05:
            state = rng.choice(("cancelled", "cancelled", "missed"))
            rows.append(
                _appointment(order, order.at - timedelta(days=rng.randint(3, 20)), state, numbers, rng)
            )
    for (_, department), order in last.items():
        if order.at > now - timedelta(days=420) and rng.random() < (0.24 if department == GROOM else 0.12):
            day = now.date() + timedelta(days=rng.randint(1, 45))
            at = at_local(day, time(rng.randint(8, 15), rng.choice((0, 15, 30, 45))), zone)
            rows.append(_appointment(order, at, "booked", numbers, rng, now))
    rows.sort(key=lambda row: (row["starts_at"], row["person_id"]))
    for number, row in enumerate(rows, start=1):
        row |= {"id": number, "external_id": f"B{number:06}"}
    _put(session, Appointment, rows)


def _appointment(
    order: Bought, at: datetime, state: str, numbers: dict[str, int], rng: Random, now: datetime | None = None
) -> dict[str, Any]:
    booked = at - timedelta(days=rng.randint(2, 30), hours=rng.randint(0, 8))
    return {
        "person_id": order.person,
        "starts_at": at,
        "ends_at": at + timedelta(minutes=rng.choice((30, 45, 60, 90))),
        "booked_at": min(booked, now - timedelta(hours=2)) if now else booked,
        "state": state,
        "settled_at": None if state == "booked" else at - timedelta(days=1) if state == "cancelled" else at,
        "item_id": order.lines[0][0] + 1,
        "department_id": numbers[order.department],
        "location_id": 1 if rng.random() < 0.7 else 2,
        "staff_id": rng.choice(GROOMERS if order.department == GROOM else VETS),
    }


def _walk_ins(session: Session, customers: Iterable[MadeUp], now: datetime, zone: str, rng: Random) -> None:
    rows: list[dict[str, Any]] = []
    for person in customers:
        if rng.random() < 0.15:
            for _ in range(rng.randint(1, 4)):
                days = (now.date() - person.joined).days
                day = person.joined + timedelta(days=rng.randint(0, max(days - 1, 0)))
                at = at_local(day, time(rng.randint(9, 16), rng.randint(0, 59)), zone)
                if at < now:
                    rows.append(
                        {
                            "person_id": person.number,
                            "at": at,
                            "department_id": rng.randint(1, 4),
                            "location_id": rng.randint(1, 2),
                        }
                    )
    rows.sort(key=lambda row: (row["at"], row["person_id"]))
    _put(session, Visit, [row | {"external_id": f"W{at:05}"} for at, row in enumerate(rows, start=1)])


def _memberships(session: Session, customers: Iterable[MadeUp], now: datetime, rng: Random) -> None:
    rows: list[dict[str, Any]] = []
    for person in customers:
        if rng.random() > 0.09:
            continue
        plan, term, price = rng.choice(PLANS)
        started = min(person.joined + timedelta(days=rng.randint(0, 200)), now.date() - timedelta(days=1))
        length = timedelta(days=365 if term == "yearly" else 30)
        renews = started
        while renews <= now.date():
            renews += length
        ended = renews - length if rng.random() < 0.2 and renews - length > started else None
        rows.append(
            {
                "person_id": person.number,
                "plan": plan,
                "term": term,
                "price_minor": price,
                "started_on": started,
                "renews_on": None if ended else renews,
                "ended_on": ended,
                "external_id": f"M{len(rows) + 1:04}",
            }
        )
    _put(session, Membership, rows)


def _events(session: Session, customers: Iterable[MadeUp], now: datetime, rng: Random) -> None:
    rows: list[dict[str, Any]] = []
    for person in customers:
        if person.email is None or rng.random() > 0.3:
            continue
        for _ in range(rng.randint(1, 6)):
            at = now - timedelta(seconds=rng.randint(60, 300 * DAY))
            if at.date() >= person.joined:
                kind = rng.choice(("viewed a page", "viewed a page", "filled a basket", "booked online"))
                page = rng.choice(("/groom", "/new", "/brunch", "/check-ups"))
                rows.append(
                    {"person_id": person.number, "kind": kind, "at": at, "properties": {"page": page}}
                )
    rows.sort(key=lambda row: (row["at"], row["person_id"]))
    _put(session, Event, [row | {"external_id": f"E{at:06}"} for at, row in enumerate(rows, start=1)])


def _answers(session: Session, bought: list[Bought], now: datetime, rng: Random) -> None:
    rows: list[dict[str, Any]] = []
    for order in bought:
        at = order.at + timedelta(days=2, minutes=rng.randint(0, 600))
        if at < now and rng.random() < 0.012:
            score, text = rng.choice(REVIEWS)
            rows.append(
                {
                    "kind": "review",
                    "score": score,
                    "best": 5,
                    "text": text,
                    "question": None,
                    "item_id": order.lines[0][0] + 1,
                }
                | {"person_id": order.person, "at": at}
            )
        elif at < now and rng.random() < 0.008:
            rows.append(
                {
                    "kind": "survey",
                    "score": rng.choice((10, 10, 9, 9, 8, 7, 6, 3)),
                    "best": 10,
                    "text": None,
                    "item_id": None,
                }
                | {"question": "Would you send a friend to us?", "person_id": order.person, "at": at}
            )
    rows.sort(key=lambda row: (row["at"], row["person_id"]))
    _put(session, Answer, [row | {"external_id": f"A{at:05}"} for at, row in enumerate(rows, start=1)])


def _tags_and_fields(
    session: Session, customers: Iterable[MadeUp], now: datetime, zone: str, rng: Random
) -> None:
    made = at_local(date(2023, 5, 1), time(8), zone)
    for at, (name, kind, choices) in enumerate(FIELDS, start=1):
        session.add(CustomField(id=at, name=name, kind=kind, choices=choices, made_at=made))
    session.flush()
    tags, values, dates, ids = [], [], [], []
    for person in customers:
        joined = at_local(person.joined, time(8), zone)
        for tag in range(1, len(TAGS) + 1):
            if rng.random() < 0.05:
                gone = now - timedelta(days=rng.randint(1, 60)) if rng.random() < 0.15 else None
                if gone is None or gone > joined:
                    tags.append({"person_id": person.number, "tag_id": tag, "at": joined, "removed_at": gone})
        for field_id, value in _values(rng, now.date()):
            values.append({"person_id": person.number, "field_id": field_id, "value": value, "at": joined})
        if rng.random() < 0.12:
            day = person.joined - timedelta(days=rng.randint(100, 4_000))
            year = day.year if rng.random() < 0.6 else None
            dates.append(
                {
                    "person_id": person.number,
                    "name": "Adoption day",
                    "month": day.month,
                    "day": day.day,
                    "year": year,
                }
            )
        if rng.random() < 0.2:
            ids.append(
                {"source": "bookings", "value": f"bk{rng.getrandbits(32):08x}", "person_id": person.number}
            )
    _put(session, PersonTag, tags)
    _put(session, FieldValue, values)
    _put(session, YearlyDate, dates)
    _put(session, ExternalId, ids)


def _values(rng: Random, today: date) -> Iterable[tuple[int, Any]]:
    if rng.random() < 0.55:
        yield 1, rng.choice(FIELDS[0][2])
    if rng.random() < 0.14:
        yield 2, sorted(field for field in FIELDS[1][2] if rng.random() < 0.4) or ["grain"]
    if rng.random() < 0.3:
        yield 3, rng.random() < 0.6
    if rng.random() < 0.1:
        yield 4, (today + timedelta(days=rng.randint(-200, 500))).isoformat()
    if rng.random() < 0.25:
        yield 5, round(rng.uniform(1.5, 58), 1)


def _notes_and_marks(session: Session, customers: Iterable[MadeUp], now: datetime, rng: Random) -> None:
    notes, stopped = [], []
    for person in customers:
        days = (now.date() - person.joined).days
        if rng.random() < 0.04 and days > 1:
            at = now - timedelta(days=rng.randint(1, days), minutes=rng.randint(0, 400))
            notes.append(
                {"person_id": person.number, "at": at, "by": rng.choice(STAFF[:3]), "text": rng.choice(NOTES)}
            )
        if person.email and rng.random() < 0.008:
            stopped.append(
                {"person_id": person.number, "channel": "email", "address": person.email}
                | {
                    "reason": rng.choice(("hard bounce", "by hand", "complaint")),
                    "at": now - timedelta(days=rng.randint(1, 300)),
                }
            )
        elif rng.random() < 0.006:
            mark = rng.choice(("closed_at", "closed_at", "deceased_at"))
            gone = now - timedelta(days=rng.randint(1, max(min(days, 200), 1)))
            session.execute(update(Person).where(Person.id == person.number).values({mark: gone}))
    _put(session, Note, notes)
    _put(session, Suppression, stopped)


def _shipped(session: Session, rng: Random) -> None:
    """One order of the shop in nine was made on the web and sent."""
    rows = session.execute(
        select(Order.id, Order.placed_at).where(Order.department_id == 1, Order.cancelled_at.is_(None))
    )
    sent = [
        {
            "id": order_id,
            "in_person": False,
            "confirmed_at": at,
            "shipped_at": at + timedelta(hours=20),
            "delivered_at": at + timedelta(days=3),
        }
        for order_id, at in rows
        if rng.random() < 0.11
    ]
    if sent:
        session.execute(update(Order), sent)


def _doubles(session: Session, customers: list[MadeUp], now: datetime, zone: str, rng: Random) -> None:
    """A few people stand in the book twice, as in every real book."""
    number = len(customers)
    for person in rng.sample(
        [customer for customer in customers if customer.email and customer.last_name],
        k=max(len(customers) // 300, 2),
    ):
        number += 1
        by_email = rng.random() < 0.5
        joined = at_local(person.joined, time(10), zone) + timedelta(days=rng.randint(0, 30))
        city, region, postal_code = person.place
        session.add(
            Person(
                id=number,
                first_name=(person.first_name or "")[:-1] or None,
                last_name=person.last_name,
                email=person.email if by_email else None,
                phone=None if by_email else person.phone,
                zone=person.zone,
                joined_at=min(joined, now - timedelta(days=1)),
                street=person.street,
                city=city,
                region=region,
                postal_code=postal_code,
            )
        )
        session.flush()
        session.add(ExternalId(source="import", value=f"OP-{number:05}", person_id=number))
        session.add(
            Order(
                external_id=f"RX{number:05}",
                person_id=number,
                department_id=1,
                total_minor=2_400,
                currency="USD",
                refunded_minor=0,
                placed_at=now - timedelta(days=rng.randint(5, 300)),
            )
        )
        if by_email:
            session.add(
                ConsentEntry(
                    person_id=number,
                    channel="email",
                    state="refused",
                    at=now - timedelta(days=4),
                    source="sign-up card",
                )
            )
