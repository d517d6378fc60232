"""Building the book of Otterby Pet House: the same every time, in a few seconds."""

from collections.abc import Iterable
from datetime import UTC, date, datetime, time, timedelta
from pathlib import Path
from random import Random
from typing import Any

from sqlalchemy import insert
from sqlalchemy.orm import Session

from loyalbell.core.clock.local_time import at_local
from loyalbell.demo.channels import add_channels
from loyalbell.demo.further_history import add_more
from loyalbell.demo.item_pictures import give_pictures
from loyalbell.demo.lived import HELD_BACK, key_of, live_through
from loyalbell.demo.messages import add_letters
from loyalbell.demo.order_history import Bought, orders_of
from loyalbell.demo.people import MadeUp, make_people
from loyalbell.demo.sequences import add_sequences
from loyalbell.demo.simulated_purchases import write_purchases_to_come
from loyalbell.demo.vocabulary import CATALOGUE, DEPARTMENTS
from loyalbell.services.accounts.passwords import hash_password
from loyalbell.services.accounts.permissions import Role
from loyalbell.services.application import Application
from loyalbell.services.settings.channels import SenderCheck
from loyalbell.storage.schema import (
    ClockSetting,
    Companion,
    ConsentEntry,
    Department,
    ExternalId,
    Item,
    Order,
    OrderLine,
    Person,
    Shop,
    User,
)

SEED = 20260512
PEOPLE = 4_000
ZONE = "America/New_York"
FIRST_DAY = date(2023, 5, 1)
NOW = datetime(2026, 5, 12, 13, 40, tzinfo=UTC)
OWNER = ("Ida Marsh", "ida@otterby.example", "otter-bell")
OTHERS = (
    ("Theo Lind", "theo@otterby.example", Role.MARKETER),
    ("Bea Hollis", "bea@otterby.example", Role.FRONT_DESK),
    ("Omar Vance", "omar@otterby.example", Role.VIEWER),
)
"""Who else works there, with the same password."""
SIGN_UP_WORDING = "Yes, tell me about offers and reminders from Otterby Pet House."


VOIDED_AFTER = timedelta(hours=2)
"""A cancelled order stood for a while, as in a real till: what counts orders must see both times."""


def build_demo(data: Path, people: int = PEOPLE, lived: bool = False, held_back: bool = False) -> Application:
    """A new book in ``data`` with the made-up shop in it. The folder must hold no book yet.

    ``lived``: it has used the program for fourteen months (only at its usual size); ``held_back``: its
    sequences hold some people back, as they do where it has.
    """
    lived = lived and people == PEOPLE
    application = Application(data)
    rng = Random(SEED)
    customers = make_people(people, FIRST_DAY, NOW.date(), rng)
    with application.database.transaction() as session:
        _shop(session)
        _catalogue(session)
        _people(session, customers)
        bought = [order for person in customers for order in orders_of(person, NOW, ZONE, rng)]
        _orders(session, bought)
        add_more(session, customers, bought, NOW, ZONE)
        add_letters(session, NOW)
        add_channels(session, NOW)
        give_pictures(session, NOW)
    application.close()
    finished = Application(data)
    write_purchases_to_come(data, customers, bought, NOW, ZONE)
    keys = add_sequences(finished, OWNER[0], HELD_BACK if held_back or lived else {})
    if lived:
        live_through(finished, {number: key_of(template) for number, template in keys.items()})
        finished.close()
        finished = Application(data)
    return finished


def _shop(session: Session) -> None:
    session.add(ClockSetting(id=1, instant=NOW))
    session.add(
        Shop(
            id=1,
            name="Otterby Pet House",
            zone=ZONE,
            currency="USD",
            country="US",
            postal_address="Otterby Pet House, 12 Mill Row, Otterby, NY 12999",
            public_url="http://127.0.0.1:8000",
            sender_name="Ida at Otterby Pet House",
            sender_email="hello@otterby.example",
            smtp_host="127.0.0.1",
            smtp_port=8025,
            ringing=True,
        )
    )
    SenderCheck(confirmed="hello@otterby.example").save(session)
    name, email, password = OWNER
    kept = hash_password(password)
    session.add(User(name=name, email=email, password_hash=kept, role=Role.OWNER))
    for name, email, role in OTHERS:
        session.add(User(name=name, email=email, password_hash=kept, role=role))


def _catalogue(session: Session) -> None:
    numbers = {name: at for at, name in enumerate(DEPARTMENTS, start=1)}
    session.execute(insert(Department), [{"id": at, "name": name} for name, at in numbers.items()])
    items = [
        {
            "id": at,
            "external_id": f"OT-{at:03}",
            "name": name,
            "category": category,
            "department_id": numbers[department],
            "price_minor": price,
            "lasts_days": lasts,
        }
        for at, (name, category, department, price, lasts) in enumerate(CATALOGUE, start=1)
    ]
    session.execute(insert(Item), items)


def _people(session: Session, customers: Iterable[MadeUp]) -> None:
    people: list[dict[str, Any]] = []
    ids, companions, consents = [], [], []
    for person in customers:
        joined = at_local(person.joined, time(8), ZONE)
        city, region, postal_code = person.place
        people.append(
            {
                "id": person.number,
                "first_name": person.first_name,
                "last_name": person.last_name,
                "email": person.email,
                "phone": person.phone,
                "zone": person.zone,
                "joined_at": joined,
                "street": person.street,
                "city": city,
                "region": region,
                "postal_code": postal_code,
            }
            | _dated(person.birthday)
        )
        ids.append({"source": "import", "value": f"OP-{person.number:05}", "person_id": person.number})
        companions += [
            {"person_id": person.number, "name": name, "kind": kind} | _dated(born)
            for name, kind, born in person.companions
        ]
        consents += [
            {
                "person_id": person.number,
                "channel": channel,
                "state": state,
                "at": joined,
                "source": "sign-up card",
                "wording": SIGN_UP_WORDING,
            }
            for channel, state in person.consents.items()
            if state != "never asked"
        ]
    for table, rows in (
        (Person, people),
        (ExternalId, ids),
        (Companion, companions),
        (ConsentEntry, consents),
    ):
        session.execute(insert(table), rows)


def _dated(day: tuple[int | None, int, int] | None) -> dict[str, int | None]:
    year, month, on = day or (None, None, None)
    return {"birthday_year": year, "birthday_month": month, "birthday_day": on}


def _orders(session: Session, bought: list[Bought]) -> None:
    bought.sort(key=lambda order: (order.at, order.person))
    departments = {name: at for at, name in enumerate(DEPARTMENTS, start=1)}
    orders, lines = [], []
    for number, order in enumerate(bought, start=1):
        total = sum(cents for _, _, cents in order.lines)
        orders.append(
            {
                "id": number,
                "external_id": f"R{number:07}",
                "person_id": order.person,
                "department_id": departments[order.department],
                "placed_at": order.at,
                # never ahead of the demo's clock
                "cancelled_at": min(order.at + VOIDED_AFTER, NOW) if order.fate == "cancelled" else None,
                "refunded_at": order.at if order.fate == "refunded" else None,
                "refunded_minor": total if order.fate == "refunded" else 0,
                "total_minor": total,
                "currency": "USD",
            }
        )
        lines += [
            {"order_id": number, "item_id": item + 1, "quantity": quantity, "total_minor": cents}
            for item, quantity, cents in order.lines
        ]
    session.execute(insert(Order), orders)
    session.execute(insert(OrderLine), lines)
