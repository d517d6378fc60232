"""What customers settle for themselves, without signing in: preferences and staying on the list."""

import secrets
from collections.abc import Mapping
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from loyalbell.core.channels import CHANNELS
from loyalbell.core.messages.mime import one_line
from loyalbell.core.policy.delivery_state import HANDED_OVER
from loyalbell.core.policy.origins import PROOF
from loyalbell.services.application import FROM_WHERE, Application
from loyalbell.services.customers import asking
from loyalbell.services.delivery.composing.rendering import ContentFiller, compiled_version, fill_for_delivery
from loyalbell.services.delivery.page_tokens import KEEP, PREFERENCES, VIEW, delivery_behind
from loyalbell.storage.consent import address_of, consent_now
from loyalbell.storage.schema import (
    Companion,
    ConsentEntry,
    Delivery,
    Offer,
    OfferCode,
    Person,
    PersonTag,
    Preference,
    Shop,
    Tag,
)
from loyalbell.storage.webhook_events import announce_consent

OFTEN = {
    "any": "whenever there is something",
    "weekly": "once a week at most",
    "monthly": "once a month at most",
}
PAUSES = {"0": "no pause", "14": "two weeks", "30": "a month", "90": "three months"}
SOURCE, KEPT_SOURCE = "preference page", "keep me on the list"
KEPT_TAG = "Wants to stay"


@dataclass(frozen=True)
class Choices:
    """What a person has chosen; ``channels`` are (channel, address or empty, agreed)."""

    person: Person
    channels: list[tuple[str, str, bool]]
    often: str
    paused_until: datetime | None
    companions: list[Companion]
    questions: list[asking.Question]


def person_of(session: Session, token: str) -> Person | None:
    """Whom a link’s token stands for: that of a touch, signed for this page, or of their page."""
    delivery = delivery_behind(session, PREFERENCES, token) or delivery_behind(session, KEEP, token)
    if delivery is not None and delivery.origin_kind != PROOF:
        person_id: int | None = delivery.person_id
    else:
        person_id = session.scalar(select(Preference.person_id).where(Preference.token == token))
    return session.get(Person, person_id) if person_id is not None else None


def choices(application: Application, token: str) -> Choices | None:
    with application.database.reading() as session:
        person = person_of(session, token)
        if person is None:
            return None
        kept = session.scalar(select(Preference).where(Preference.person_id == person.id))
        said = {channel: consent_now(session, [person.id], channel).get(person.id) for channel in CHANNELS}
        return Choices(
            person,
            [(channel, address_of(person, channel) or "", said[channel] == "agreed") for channel in CHANNELS],
            kept.often if kept else "any",
            kept.paused_until if kept else None,
            list(
                session.scalars(
                    select(Companion).where(Companion.person_id == person.id).order_by(Companion.id)
                )
            ),
            asking.questions(session, "preferences", person),
        )


def choose(
    application: Application, token: str, form: Mapping[str, Any], lists: Mapping[str, list[str]]
) -> bool:
    """Keeps what was chosen, channel by channel, each change as a line of the consent log.

    ``lists`` are the values of what may be ticked several times. False for no such link. Raises ``NotTaken``.
    """
    with application.database.transaction() as session:
        person = person_of(session, token)
        if person is None:
            return False
        now = application.clock.now()
        shown = {"page": f"{session.get_one(Shop, 1).public_url}/preferences", "from": FROM_WHERE.get()}
        for channel in CHANNELS:
            if address_of(person, channel):
                say(
                    application,
                    session,
                    person.id,
                    channel,
                    "agreed" if form.get(channel) else "refused",
                    SOURCE,
                    evidence=shown,
                )
        kept = session.scalar(select(Preference).where(Preference.person_id == person.id))
        if kept is None:
            kept = Preference(person_id=person.id, token=secrets.token_urlsafe(16))
            session.add(kept)
        kept.often = str(form.get("often")) if form.get("often") in OFTEN else "any"
        pause = str(form.get("pause", "0"))
        kept.paused_until = now + timedelta(days=int(pause)) if pause in PAUSES and pause != "0" else None
        _companions(session, person, form)
        answers = asking.read_answers(session, "preferences", form, lists)
        asking.keep_answers(session, person, answers.given, now)
        application.note(session, "customer", "chose preferences", person=person.id)
        return True


def say(
    application: Application,
    session: Session,
    person_id: int,
    channel: str,
    state: str,
    source: str,
    wording: str | None = None,
    evidence: Mapping[str, str] | None = None,
) -> None:
    """One line of the consent log, where it changes anything. ``evidence``: page, form, language."""
    if consent_now(session, [person_id], channel).get(person_id) == state:
        return
    entry = ConsentEntry(
        person_id=person_id,
        channel=channel,
        state=state,
        at=application.clock.now(),
        source=source,
        by="customer",
        wording=wording,
        evidence=dict(evidence or {}),
    )
    session.add(entry)
    session.flush()
    announce_consent(session, entry, application.clock.now())


def _companions(session: Session, person: Person, form: Mapping[str, Any]) -> None:
    for companion in session.scalars(select(Companion).where(Companion.person_id == person.id)):
        name = one_line(str(form.get(f"companion-{companion.id}", "")))[:80]
        companion.name = name or companion.name


def keep_on_list(application: Application, token: str) -> Person | None:
    """Pressed “keep me on the list”: consent is said anew, and a tag tells sequences and segments."""
    with application.database.transaction() as session:
        delivery = delivery_behind(session, KEEP, token)
        if delivery is None:
            return None
        person = session.get_one(Person, delivery.person_id)
        if delivery.origin_kind == PROOF:
            return person
        now = application.clock.now()
        say(application, session, person.id, delivery.channel, "agreed", KEPT_SOURCE)
        tag = session.scalar(select(Tag).where(Tag.name == KEPT_TAG))
        if tag is None:
            tag = Tag(name=KEPT_TAG)
            session.add(tag)
            session.flush()
        held = select(PersonTag.id).where(
            PersonTag.person_id == person.id, PersonTag.tag_id == tag.id, PersonTag.removed_at.is_(None)
        )
        if session.scalar(held) is None:
            session.add(PersonTag(person_id=person.id, tag_id=tag.id, at=now))
        return person


def shown_again(application: Application, token: str) -> str | None:
    """The page of an email as it went out, for a browser; ``None`` for no such link."""
    with application.database.transaction() as session:
        delivery = delivery_behind(session, VIEW, token)
        if delivery is None or delivery.channel != "email" or delivery.state not in HANDED_OVER:
            return None
        shop = session.get_one(Shop, 1)
        made = compiled_version(session, shop, delivery.message_version_id, "email", delivery.language)
        person = session.get_one(Person, delivery.person_id)
        if made is None:
            return None
        then = delivery.sent_at or application.clock.now()
        facts = ContentFiller(application, session, shop, then).facts_of(delivery, person, made)
        filled = fill_for_delivery(session, made, facts, delivery, shop, then)
        return filled if isinstance(filled, str) else filled.html or filled.text


def offer_shown(application: Application, code: str) -> tuple[OfferCode, Offer] | None:
    with application.database.reading() as session:
        found = session.scalar(select(OfferCode).where(OfferCode.code == code))
        return (found, session.get_one(Offer, found.offer_id)) if found else None


def language_of(application: Application, token: str) -> str | None:
    """The language on file of whom a link stands for, signed or not: the page to leave by is in it too."""
    query = select(Person).join(Delivery, Delivery.person_id == Person.id)
    with application.database.reading() as session:
        of_message = session.scalar(query.where(Delivery.token == token.partition(".")[0]))
        person = of_message or person_of(session, token)
        return person.language if person else None
