"""One customer's page: who they are, what holds for them now, and the diary."""

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import date, datetime
from typing import Any

import numpy as np
from sqlalchemy import func, select
from sqlalchemy.orm import Session

from loyalbell.core.channels import CHANNELS
from loyalbell.core.history.snapshot import HistorySnapshot
from loyalbell.core.rhythm.bands import PersonalRhythm
from loyalbell.core.segments.evaluation import evaluate
from loyalbell.services.application import Application
from loyalbell.services.customers.queries import Line, line_of
from loyalbell.services.customers.timeline import DiaryEntry, diary
from loyalbell.services.rhythm.queries import next_day, rhythms_of, shop_gap
from loyalbell.services.segments.queries import saved_rules
from loyalbell.storage.consent import address_of, consent_now
from loyalbell.storage.records.custom_fields import say_field
from loyalbell.storage.schema import (
    Appointment,
    Companion,
    ConsentEntry,
    CustomField,
    ExternalId,
    FieldValue,
    Membership,
    Merge,
    Person,
    PersonTag,
    Segment,
    Suppression,
    Tag,
    YearlyDate,
)


@dataclass(frozen=True)
class Channel:
    """Where one channel stands: the address, the newest word, and what stops it."""

    name: str
    address: str | None
    state: str
    said: ConsentEntry | None
    suppressions: list[Suppression]


@dataclass(frozen=True)
class KnownField:
    """One of the shop's own fields; ``said`` is what it holds, or an empty string."""

    field: CustomField
    said: str


@dataclass(frozen=True)
class CustomerPage:
    person: Person
    line: Line
    external_ids: list[ExternalId]
    companions: list[Companion]
    yearly: list[YearlyDate]
    fields: list[KnownField]
    tags: list[Tag]
    channels: list[Channel]
    appointments: list[Appointment]
    memberships: list[Membership]
    segments: list[Segment]
    other_segments: list[Segment]
    rhythm: PersonalRhythm | None
    next_day: date | None
    shop_gap: float
    merges: list[Merge]
    diary: list[DiaryEntry]


def page_of(
    application: Application,
    person_id: int,
    kinds: set[str] | None = None,
    put_down_to: Mapping[int, str] | None = None,
) -> CustomerPage | None:
    """Everything on a person's page, the diary with only some kinds of entry where ``kinds`` is given."""
    now, snapshot = application.clock.now(), application.snapshot()
    with application.database.reading() as session:
        person = session.get(Person, person_id)
        if person is None:
            return None
        within = _segments(session, snapshot, person_id, now)
        rhythm = rhythms_of(application, [person_id]).get(person_id)
        return CustomerPage(
            person=person,
            line=line_of(application, session, person),
            external_ids=_of(session, ExternalId, person_id),
            companions=_of(session, Companion, person_id),
            yearly=_of(session, YearlyDate, person_id),
            fields=known_fields(session, person_id),
            tags=_tags(session, person_id),
            channels=channels_of(session, person),
            appointments=_ahead(session, person_id, now),
            memberships=_of(session, Membership, person_id),
            segments=within,
            other_segments=[
                one for one in session.scalars(select(Segment).order_by(Segment.name)) if one not in within
            ],
            rhythm=rhythm,
            next_day=next_day(application, rhythm) if rhythm else None,
            shop_gap=shop_gap(application, snapshot, now),
            merges=list(
                session.scalars(select(Merge).where(Merge.kept_id == person_id, Merge.undone_at.is_(None)))
            ),
            diary=diary(session, person_id, kinds, put_down_to),
        )


def _of(session: Session, table: type[Any], person_id: int) -> list[Any]:
    return list(session.scalars(select(table).where(table.person_id == person_id).order_by(table.id)))


def known_fields(session: Session, person_id: int) -> list[KnownField]:
    """Every field of the shop, with what it holds for this person."""
    held = {
        value.field_id: value.value
        for value in session.scalars(
            select(FieldValue).where(FieldValue.person_id == person_id, FieldValue.until.is_(None))
        )
    }
    return [
        KnownField(field, say_field(field.kind, held[field.id]) if field.id in held else "")
        for field in session.scalars(select(CustomField).order_by(CustomField.name))
    ]


def _tags(session: Session, person_id: int) -> list[Tag]:
    held = select(PersonTag.tag_id).where(PersonTag.person_id == person_id, PersonTag.removed_at.is_(None))
    return list(session.scalars(select(Tag).where(Tag.id.in_(held)).order_by(Tag.name)))


def channels_of(session: Session, person: Person) -> list[Channel]:
    """Each channel as it stands now. A suppression holds for the person or for the address."""
    found = []
    for name in CHANNELS:
        address = address_of(person, name)
        newest = session.scalar(
            select(ConsentEntry)
            .where(ConsentEntry.person_id == person.id, ConsentEntry.channel == name)
            .order_by(ConsentEntry.at.desc(), ConsentEntry.id.desc())
            .limit(1)
        )
        marks = session.scalars(
            select(Suppression).where(
                Suppression.channel == name,
                Suppression.lifted_at.is_(None),
                (Suppression.person_id == person.id)
                | (func.lower(Suppression.address) == (address or "\x00").lower()),
            )
        )
        state = consent_now(session, [person.id], name).get(person.id, "never asked")
        found.append(Channel(name, address, state, newest, list(marks)))
    return found


def _ahead(session: Session, person_id: int, now: datetime) -> list[Appointment]:
    query = select(Appointment).where(
        Appointment.person_id == person_id, Appointment.state == "booked", Appointment.starts_at > now
    )
    return list(session.scalars(query.order_by(Appointment.starts_at)))


def _segments(session: Session, snapshot: HistorySnapshot, person_id: int, now: datetime) -> list[Segment]:
    """The saved segments that the person is in now."""
    number = int(snapshot.number_of(np.array([person_id]))[0])
    saved = saved_rules(session)
    return [
        segment
        for segment in session.scalars(select(Segment).order_by(Segment.name))
        if bool(evaluate(saved[segment.id], snapshot, now, saved)[number])
    ]
