"""Today: what went out, what needs a person, who came back."""

from dataclasses import dataclass
from datetime import UTC, date, datetime, timedelta
from functools import partial
from typing import NamedTuple

import numpy as np
from sqlalchemy import BigInteger, func, select, type_coerce
from sqlalchemy.orm import Session

from loyalbell.core.clock.local_time import local_day, start_of_day
from loyalbell.core.history.columns import Ints, distinct
from loyalbell.core.history.settled import places_of
from loyalbell.core.history.snapshot import HistorySnapshot
from loyalbell.core.policy.delivery_state import BOUNCED, HANDED_OVER, WAITING
from loyalbell.core.policy.origins import CAMPAIGN, TO_ONE
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
            days=_days(application, session, shop.zone, now),
            needs=[
                *about_machine,
                *restored_needs(session, shop, now),
                *lost_key_needs(session),
                *guessed_passwords(session, now),
                *needs_of(session, shop, now),
            ],
            came_back=_named(session, back[:6]),
            came_back_count=len(back),
            campaigns=_campaigns(application, session),
            heard=len(np.unique(_left(application, session, int(week.timestamp()))[0])),
            answered=_answered(application, int(week.timestamp())),
        )


def _left(application: Application, session: Session, since: int) -> tuple[Ints, Ints]:
    """(Person ids, instants) of messages to many that left from ``since`` on; answers, proofs and
    confirmations are not counted.

    Those that came back are the only ones that left and are not in the history.
    """
    snapshot = application.snapshot()
    rows = snapshot.deliveries.taken(slice(int(np.searchsorted(snapshot.deliveries.at, since)), None))
    to_one = [snapshot.words[origin] for origin in TO_ONE if origin in snapshot.words]
    rows = rows.taken(~np.isin(rows.origin, to_one))
    left = type_coerce(Delivery.sent_at, BigInteger)  # whole seconds, as they are kept
    of_many = (Delivery.state == BOUNCED) & Delivery.origin_kind.not_in(TO_ONE)
    bounced = session.execute(select(Delivery.person_id, left).where(of_many, left >= since)).all()
    people, instants = (np.asarray([row[at] for row in bounced], dtype=np.int64) for at in (0, 1))
    return (
        np.concatenate((snapshot.people.ids[rows.person], people)),
        np.concatenate((rows.at, instants)),
    )


def _days(application: Application, session: Session, zone: str, now: datetime) -> list[DayLoad]:
    last = local_day(now, zone)
    days = [last - timedelta(days=back) for back in range(DAYS_SHOWN - 1, -1, -1)]
    starts = [int(start_of_day(day, zone).timestamp()) for day in days]
    _, instants = _left(application, session, starts[0])
    places = np.searchsorted(starts, instants, side="right") - 1
    sent = dict(zip(days, np.bincount(places, minlength=len(days)).tolist(), strict=True))
    waiting = session.scalar(select(func.count()).select_from(Delivery).where(Delivery.state.in_(WAITING)))
    return [DayLoad(day, sent[day], (waiting or 0) if day == last else 0) for day in days]


def _answered(application: Application, since: int) -> int:
    """People who followed a link from ``since`` on."""
    snapshot = application.snapshot()
    done = snapshot.engagements
    lately = slice(int(np.searchsorted(done.at, since)), None)
    clicked = done.kind[lately] == snapshot.words.get("clicked", -1)
    return len(np.unique(done.person[lately][clicked]))


def _campaigns(application: Application, session: Session) -> list[tuple[Campaign, int, int, int]]:
    """The newest started campaigns with people reached, opened and clicked."""
    newest = session.scalars(
        select(Campaign).where(Campaign.started_at.is_not(None)).order_by(Campaign.started_at.desc()).limit(5)
    )
    version = application.snapshot().version
    return [
        (campaign, *application.cache.of_version("today", version, one, partial(_reached, session, one)))
        for campaign, one in [(campaign, campaign.id) for campaign in newest]
    ]


def _reached(session: Session, campaign: int) -> tuple[int, int, int]:
    """People whom a campaign reached; its messages that were opened and clicked."""
    own = (Delivery.origin_kind == CAMPAIGN) & (Delivery.origin_id == campaign)
    reached = select(func.count(func.distinct(Delivery.person_id))).where(
        own, Delivery.state.in_(HANDED_OVER)
    )
    counts = dict(
        session.execute(
            select(DeliveryEvent.kind, func.count(func.distinct(DeliveryEvent.delivery_id)))
            .join(Delivery, Delivery.id == DeliveryEvent.delivery_id)
            .where(own, BY_A_PERSON)
            .group_by(DeliveryEvent.kind)
        ).all()
    )
    return session.scalar(reached) or 0, counts.get("opened", 0), counts.get("clicked", 0)


def came_back_in(application: Application, days: Days) -> tuple[int, int]:
    """People who ordered again in some days after a long while, and after how many days that is."""
    back = _came_back(application, datetime.fromtimestamp(days.high, UTC))
    return len({one.person for one in back}), AWAY_DAYS


class _Back(NamedTuple):
    """Somebody (by id) who ordered at ``at`` for ``money``, so many days after the order before."""

    person: int
    days: int
    at: int
    money: int


def _came_back(application: Application, now: datetime) -> list[_Back]:
    """Orders in the past week that followed a long gap, the newest first; looked for again where an order
    came in, and with every minute.
    """
    snapshot, seconds = application.snapshot(), int(now.timestamp())
    parts, minute = (snapshot.orders, snapshot.people), seconds // 60
    return application.cache.of_parts("came back", parts, minute, partial(_back, snapshot, seconds), 2)


def _back(snapshot: HistorySnapshot, seconds: int) -> list[_Back]:
    orders = snapshot.orders
    lately = distinct(orders.person[orders.span(seconds - 7 * DAY, seconds)].astype(np.int64))
    order = places_of(orders, lately, len(snapshot.people))
    order = order[(orders.at[order] <= seconds) & (orders.void_at[order] > seconds)]
    person, at = orders.person[order], orders.at[order]
    same = person[1:] == person[:-1]
    gap = (at[1:] - at[:-1]) // DAY
    late = np.flatnonzero(same & (gap >= AWAY_DAYS) & (at[1:] >= seconds - 7 * DAY)) + 1
    late = late[np.argsort(at[late], kind="stable")][::-1]
    columns = (snapshot.people.ids[person[late]], gap[late - 1], at[late], orders.money[order[late]])
    return [_Back(*row) for row in zip(*(column.tolist() for column in columns), strict=True)]


def _named(session: Session, back: list[_Back]) -> list[CameBack]:
    people = {
        p.id: p for p in session.scalars(select(Person).where(Person.id.in_([one.person for one in back])))
    }
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
