"""Today: what went out, what needs a person, who came back."""

from dataclasses import dataclass
from datetime import UTC, date, datetime, timedelta

import numpy as np
from sqlalchemy import BigInteger, func, select, type_coerce
from sqlalchemy.orm import Session

from loyalbell.core.clock.local_time import local_day, start_of_day
from loyalbell.core.history.columns import distinct
from loyalbell.core.history.settled import places_of
from loyalbell.core.policy.delivery_state import HANDED_OVER, WAITING
from loyalbell.core.policy.origins import TO_ONE
from loyalbell.services.application import Application
from loyalbell.services.results.by_a_person import BY_A_PERSON
from loyalbell.services.results.ranges import Days
from loyalbell.services.today.machine_needs import (
    guessed_passwords,
    lost_key_needs,
    machine_needs,
    restored_needs,
    waiting_files,
)
from loyalbell.services.today.needs import Need, needs_of
from loyalbell.storage.schema import (
    Campaign,
    Delivery,
    DeliveryEvent,
    Message,
    Person,
    Segment,
    Sequence,
    Shop,
)

DAYS_SHOWN = 14
AWAY_DAYS = 60
DAY = 86_400


@dataclass(frozen=True)
class DayLoad:
    day: date
    sent: int
    waiting: int


OF_THE_SHOP = Delivery.origin_kind.not_in(TO_ONE)
"""Messages to many; answers, proofs and confirmations are not counted."""


@dataclass(frozen=True)
class CameBack:
    """Somebody who ordered again after a long while."""

    person_id: int
    name: str
    away_days: int
    at: datetime
    money: int


@dataclass(frozen=True)
class Today:
    days: list[DayLoad]
    needs: list[Need]
    came_back: list[CameBack]
    came_back_count: int
    campaigns: list[tuple[Campaign, int, int, int]]
    heard: int
    answered: int


def today(application: Application) -> Today:
    """Everything on the page, as it is now (a few seconds ago while a tick is under way)."""
    return application.cache.recent("today", "all", lambda: _today(application))


def _today(application: Application) -> Today:
    now = application.clock.now()
    back, about_machine = (
        _came_back(application, now),
        [*machine_needs(application), *waiting_files(application)],
    )
    with application.database.reading() as session:
        shop = session.get_one(Shop, 1)
        week = now - timedelta(days=7)
        return Today(
            days=_days(session, shop.zone, now),
            needs=[
                *about_machine,
                *restored_needs(session, shop, now),
                *lost_key_needs(session),
                *guessed_passwords(session, now),
                *needs_of(session, shop, now),
            ],
            came_back=_named(session, back[-6:][::-1]),
            came_back_count=len(back),
            campaigns=_campaigns(session),
            heard=_count_people(session, (Delivery.sent_at >= week) & OF_THE_SHOP),
            answered=_answered(session, week),
        )


def _days(session: Session, zone: str, now: datetime) -> list[DayLoad]:
    last = local_day(now, zone)
    days = [last - timedelta(days=back) for back in range(DAYS_SHOWN - 1, -1, -1)]
    starts = [int(start_of_day(day, zone).timestamp()) for day in days]
    left = type_coerce(Delivery.sent_at, BigInteger)  # whole seconds, as they are kept
    instants = np.fromiter(session.scalars(select(left).where(left >= starts[0], OF_THE_SHOP)), np.int64)
    places = np.searchsorted(starts, instants, side="right") - 1
    sent = dict(zip(days, np.bincount(places, minlength=len(days)).tolist(), strict=True))
    waiting = session.scalar(select(func.count()).select_from(Delivery).where(Delivery.state.in_(WAITING)))
    return [DayLoad(day, sent[day], (waiting or 0) if day == last else 0) for day in days]


def _count_people(session: Session, where: object) -> int:
    query = select(func.count(func.distinct(Delivery.person_id))).where(where)  # type: ignore[arg-type]
    return session.scalar(query) or 0


def _answered(session: Session, since: datetime) -> int:
    query = (
        select(func.count(func.distinct(Delivery.person_id)))
        .join(DeliveryEvent, DeliveryEvent.delivery_id == Delivery.id)
        .where(DeliveryEvent.kind == "clicked", DeliveryEvent.at >= since)
    )
    return session.scalar(query) or 0


def _campaigns(session: Session) -> list[tuple[Campaign, int, int, int]]:
    """The newest started campaigns with people reached, opened and clicked."""
    newest = session.scalars(
        select(Campaign).where(Campaign.started_at.is_not(None)).order_by(Campaign.started_at.desc()).limit(5)
    )
    found = []
    for campaign in newest:
        own = (Delivery.origin_kind == "campaign") & (Delivery.origin_id == campaign.id)
        reached = _count_people(session, own & Delivery.state.in_(HANDED_OVER))
        counts = dict(
            session.execute(
                select(DeliveryEvent.kind, func.count(func.distinct(DeliveryEvent.delivery_id)))
                .join(Delivery, Delivery.id == DeliveryEvent.delivery_id)
                .where(own, BY_A_PERSON)
                .group_by(DeliveryEvent.kind)
            ).all()
        )
        found.append((campaign, reached, counts.get("opened", 0), counts.get("clicked", 0)))
    return found


def came_back_in(application: Application, days: Days) -> tuple[int, int]:
    """People who ordered again in some days after a long while, and after how many days that is."""
    back = _came_back(application, datetime.fromtimestamp(days.high, UTC))
    return len({person for person, *_ in back}), AWAY_DAYS


def _came_back(application: Application, now: datetime) -> list[tuple[int, int, int, int]]:
    """(person id, days away, at, money) of orders in the past week that followed a long gap."""
    snapshot, seconds = application.snapshot(), int(now.timestamp())
    orders = snapshot.orders
    lately = distinct(orders.person[orders.span(seconds - 7 * DAY, seconds)].astype(np.int64))
    order = places_of(orders, lately, len(snapshot.people))
    order = order[(orders.at[order] <= seconds) & (orders.void_at[order] > seconds)]
    person, at = orders.person[order], orders.at[order]
    same = person[1:] == person[:-1]
    gap = (at[1:] - at[:-1]) // DAY
    late = np.flatnonzero(same & (gap >= AWAY_DAYS) & (at[1:] >= seconds - 7 * DAY)) + 1
    late = late[np.argsort(at[late], kind="stable")]
    return [
        (
            int(snapshot.people.ids[person[row]]),
            int((at[row] - at[row - 1]) // DAY),
            int(at[row]),
            int(orders.money[order[row]]),
        )
        for row in late
    ]


def _named(session: Session, back: list[tuple[int, int, int, int]]) -> list[CameBack]:
    people = {p.id: p for p in session.scalars(select(Person).where(Person.id.in_([b[0] for b in back])))}
    return [
        CameBack(
            person_id,
            people[person_id].name or "no name on file",
            away,
            datetime.fromtimestamp(at, UTC),
            money,
        )
        for person_id, away, at, money in back
        if person_id in people
    ]


FOUND_BY_NAME = (
    ("Segments", Segment.id, Segment.name, "/segments"),
    ("Messages", Message.id, Message.name, "/messages"),
    ("Campaigns", Campaign.id, Campaign.name, "/campaigns"),
    ("Sequences", Sequence.id, Sequence.name, "/sequences"),
)


def search_names(application: Application, words: str, limit: int) -> dict[str, list[tuple[str, str]]]:
    """By kind of thing the (address, name) of those whose name holds the words."""
    found = {}
    with application.database.reading() as session:
        for title, ids, name, base in FOUND_BY_NAME:
            query = select(ids, name).where(name.icontains(words, autoescape=True)).limit(limit)
            found[title] = [(f"{base}/{at}", called) for at, called in session.execute(query)]
    return found
