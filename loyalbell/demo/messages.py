"""The demo's letterhead, a first segment, two messages, and one campaign of last month with its results."""

from datetime import datetime, timedelta
from random import Random
from typing import Any

from sqlalchemy import insert, select
from sqlalchemy.orm import Session

from loyalbell.core.messages.content import Button, EmailContent, Heading, Text, as_message
from loyalbell.core.policy.delivery_state import BOUNCED, SENT, WITHHELD
from loyalbell.core.segments.model import Group, LastDays, OrdersCondition, ReachCondition, Rule
from loyalbell.storage.schema import (
    Campaign,
    ConsentEntry,
    Delivery,
    DeliveryEvent,
    Letterhead,
    Message,
    MessageVersion,
    Order,
    Person,
    Segment,
)

GROOM_ROOM = 2
SEED = 428


def lapsed(days: int, department: int | None = None) -> Rule:
    """Has ordered before, and not in the last ``days`` days."""
    return Rule(
        root=Group(
            lines=[
                OrdersCondition(department=department),
                OrdersCondition(
                    comparison="exactly", value=0, department=department, period=LastDays(days=days)
                ),
            ]
        )
    )


CAFE_ROOM = 4
SEGMENTS = {
    "Not seen for 60 days": lapsed(60),
    "Drifting from the groom room": lapsed(70, GROOM_ROOM),
    "Bought once, a month ago or longer": Rule(
        root=Group(
            lines=[
                OrdersCondition(comparison="exactly"),
                OrdersCondition(comparison="exactly", value=0, period=LastDays(days=30)),
            ]
        )
    ),
    "Café regulars": Rule(
        root=Group(lines=[OrdersCondition(value=4, department=CAFE_ROOM, period=LastDays(days=60))])
    ),
    "Spent 1,000 or more in a year": Rule(
        root=Group(lines=[OrdersCondition(measure="sum", value=100_000, period=LastDays(days=365))])
    ),
    "Customers we cannot reach": Rule(
        root=Group(
            match="none",
            lines=[
                ReachCondition(channel="email"),
                ReachCondition(channel="text"),
                ReachCondition(channel="chat"),
            ],
        )
    ),
}


def add_letters(session: Session, now: datetime) -> None:
    session.add(
        Letterhead(
            id=1,
            name="Otterby green",
            header="Otterby Pet House",
            footer="Otterby Pet House, 12 Mill Row, Otterby, NY 12999",
            ink="#1f2a2b",
            accent="#173b39",
        )
    )
    for number, (name, rule) in enumerate(SEGMENTS.items(), start=1):
        session.add(Segment(id=number, name=name, rule=rule.model_dump(), changed_at=now, by="Ida Marsh"))
    _message(session, 1, "We kept your spot", _we_kept_your_spot(), now)
    _message(session, 2, "Spring coats", _spring_coats(), now - timedelta(days=7))
    session.flush()
    _last_campaign(session, now - timedelta(days=6, minutes=-25), Random(SEED))


def _message(session: Session, number: int, name: str, content: EmailContent, at: datetime) -> None:
    session.add(Message(id=number, name=name, changed_at=at))
    session.flush()
    session.add(
        MessageVersion(
            id=number,
            message_id=number,
            number=1,
            content=as_message(content).model_dump(mode="json"),
            made_at=at,
            by="Ida Marsh",
        )
    )


def _we_kept_your_spot() -> EmailContent:
    return EmailContent(
        subject='{{ first_name | default: "Hello" }}, we kept your spot',
        preview="Nothing to buy, just a good time to come by.",
        letterhead=1,
        blocks=[
            Heading(text='Hello {{ first_name | default: "there" }},'),
            Text(
                text="it has been a while since we saw you at the Pet House. "
                'We would love to see {{ companion_name | default: "your companion" }} again.\n\n'
                "Mornings are quiet this month, so there is time for a chat."
            ),
            Button(label="See what is new", url="https://otterby.example/new"),
            Text(text="Ida and everyone at Otterby"),
        ],
    )


def _spring_coats() -> EmailContent:
    return EmailContent(
        subject="Spring coats tangle fast",
        preview="The groom room has room on Tuesdays.",
        letterhead=1,
        blocks=[
            Heading(text='Hello {{ first_name | default: "there" }},'),
            Text(
                text="winter coats come out in handfuls now. A bath and a brush make it easier for everyone."
            ),
            Button(label="Pick a time", url="https://otterby.example/groom"),
        ],
    )


def _last_campaign(session: Session, at: datetime, rng: Random) -> None:
    """A campaign of two weeks ago: who got it, opened it, clicked, refused."""
    session.add(
        Campaign(
            id=1,
            name="Spring coats, May",
            segment_id=2,
            message_id=2,
            message_version_id=2,
            rule=lapsed(70, GROOM_ROOM).model_dump(),
            state=SENT,
            made_at=at - timedelta(hours=1),
            started_at=at,
            ended_at=at,
            by="Ida Marsh",
        )
    )
    session.flush()
    agreed = (
        select(ConsentEntry.person_id)
        .where(ConsentEntry.channel == "email", ConsentEntry.state == "agreed")
        .scalar_subquery()
    )
    groomed = select(Order.person_id).where(Order.department_id == GROOM_ROOM, Order.placed_at < at)
    recent = groomed.where(Order.placed_at > at - timedelta(days=70))
    people = session.execute(
        select(Person.id, Person.email)
        .where(
            Person.id.in_(groomed), Person.id.not_in(recent), Person.email.is_not(None), Person.id.in_(agreed)
        )
        .order_by(Person.id)
    )
    back = dict(
        session.execute(
            select(Order.person_id, Order.placed_at)
            .where(Order.placed_at > at, Order.placed_at < at + timedelta(days=5))
            .order_by(Order.placed_at.desc())
        ).all()
    )
    deliveries, events = [], []
    for number, (person_id, address) in enumerate(people, start=1):
        deliveries.append(_delivery(number, person_id, address or "", at, rng))
        events += _what_came(number, person_id, at, back, rng)
    deliveries += _left_out(session, len(deliveries), groomed, recent, agreed, at, rng)
    session.execute(insert(Delivery), deliveries)
    session.execute(insert(DeliveryEvent), events)
    for event in events:
        if event["kind"] == "refused":
            _refuse(session, deliveries[event["delivery_id"] - 1]["person_id"], event["at"])


def _left_out(
    session: Session, before: int, groomed: Any, recent: Any, agreed: Any, at: datetime, rng: Random
) -> list[dict[str, Any]]:
    """Those in the segment who were not written to, with the cause."""
    said = dict(
        session.execute(
            select(ConsentEntry.person_id, ConsentEntry.state).where(ConsentEntry.channel == "email")
        ).all()
    )
    people = session.execute(
        select(Person.id, Person.email)
        .where(Person.id.in_(groomed), Person.id.not_in(recent))
        .where(Person.email.is_(None) | Person.id.not_in(agreed))
        .order_by(Person.id)
    )
    rows = []
    for number, (person_id, _) in enumerate(people, start=before + 1):
        state = said.get(person_id, "never asked")
        cause = "no address" if state == "agreed" else state
        settled = {"state": WITHHELD, "cause": cause, "detail": None, "address": None, "attempts": 0}
        rows.append(
            _delivery(number, person_id, "", at, rng) | settled | {"handed_at": None, "sent_at": None}
        )
    return rows


def _delivery(number: int, person_id: int, address: str, at: datetime, rng: Random) -> dict[str, Any]:
    bounced = rng.random() < 0.012
    return {
        "id": number,
        "origin_kind": "campaign",
        "origin_id": 1,
        "step": "",
        "occurrence": "",
        "person_id": person_id,
        "message_version_id": 2,
        "channel": "email",
        "address": address,
        "token": f"{rng.getrandbits(128):032x}",
        "state": BOUNCED if bounced else SENT,
        "cause": "not accepted" if bounced else None,
        "detail": "550 no such mailbox" if bounced else None,
        "due_at": at,
        "handed_at": at,
        "sent_at": at,
        "attempts": 1,
    }


def _what_came(
    number: int, person_id: int, at: datetime, back: dict[int, datetime], rng: Random
) -> list[dict[str, Any]]:
    events = []
    opened = at + timedelta(minutes=rng.randint(2, 1200))
    came = back.get(person_id)
    if rng.random() < (0.75 if came else 0.41):
        events.append({"delivery_id": number, "kind": "opened", "at": opened, "link": None})
        if rng.random() < (0.6 if came else 0.18):
            clicked = opened + timedelta(minutes=1)
            clicked = min(clicked, came - timedelta(minutes=5)) if came else clicked
            events.append({"delivery_id": number, "kind": "clicked", "at": max(clicked, at), "link": 0})
        if rng.random() < 0.012:
            events.append({"delivery_id": number, "kind": "refused", "at": opened, "link": None})
    return events


def _refuse(session: Session, person_id: int, at: datetime) -> None:
    session.add(
        ConsentEntry(
            person_id=person_id,
            channel="email",
            state="refused",
            at=at,
            source="unsubscribe link",
            by="customer",
        )
    )
