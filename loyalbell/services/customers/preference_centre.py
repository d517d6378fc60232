"""What customers settle for themselves, without signing in: preferences, staying on the list, signing up."""

import secrets
from collections.abc import Mapping
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any

from email_validator import EmailNotValidError, validate_email
from sqlalchemy import func, select
from sqlalchemy.orm import Session

from loyalbell.core.channels import CHANNELS
from loyalbell.core.messages import content as c
from loyalbell.core.messages.mime import one_line
from loyalbell.core.policy.delivery_state import HANDED_OVER, PLANNED
from loyalbell.core.policy.origins import CONFIRMATION, PROOF
from loyalbell.services.application import Application
from loyalbell.services.customers import asking
from loyalbell.services.customers.asking import AskingSettings, NotTaken
from loyalbell.services.delivery.composing.rendering import ContentFiller, compiled_version, fill_for_delivery
from loyalbell.services.delivery.link_tokens import new_token
from loyalbell.services.delivery.once_only import once_only
from loyalbell.services.translations import ENGLISH
from loyalbell.services.translations import catalogue as known_texts
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
    SignUp,
    Tag,
)
from loyalbell.storage.webhook_events import announce_consent

OFTEN = {
    "any": "whenever there is something",
    "weekly": "once a week at most",
    "monthly": "once a month at most",
}
PAUSES = {"0": "no pause", "14": "two weeks", "30": "a month", "90": "three months"}
SOURCE, KEPT_SOURCE, SIGN_UP = "preference page", "keep me on the list", "sign-up form"
KEPT_TAG = "Wants to stay"
CONFIRM_DAYS = 14
CONFIRM_SUBJECT = "Confirm your address for %(shop)s"
CONFIRM_WORDS = (
    "Somebody, we hope you, asked that %(shop)s may write to this address.\n\nYes, it was me: %(link)s\n\n"
    "If it was not you, do nothing: nobody will write again."
)


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
    """Whom a link’s token stands for: that of a touch, or of their page."""
    person_id = session.scalar(
        select(Delivery.person_id).where(Delivery.token == token, Delivery.origin_kind != PROOF)
    )
    if person_id is None:
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
        for channel in CHANNELS:
            if address_of(person, channel):
                say(
                    application,
                    session,
                    person.id,
                    channel,
                    "agreed" if form.get(channel) else "refused",
                    SOURCE,
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
) -> None:
    """One line of the consent log, where it changes anything."""
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
        delivery = session.scalar(select(Delivery).where(Delivery.token == token))
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
        delivery = session.scalar(
            select(Delivery).where(Delivery.token == token, Delivery.channel == "email")
        )
        if delivery is None or delivery.state not in HANDED_OVER:
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


def sign_up(
    application: Application,
    form: Mapping[str, Any],
    lists: Mapping[str, list[str]] | None = None,
    language: str = ENGLISH,
) -> None:
    """Keeps the wish and sends a mail to confirm it.

    The same address twice within an hour gets one mail. Raises ``NotTaken``.
    """
    try:
        email = validate_email(
            str(form.get("email", "")).strip(), check_deliverability=False
        ).normalized.lower()
    except EmailNotValidError as error:
        raise NotTaken("This does not look like an email address. Write it like ann@example.com.") from error
    with application.database.transaction() as session:
        given = asking.read_answers(session, "sign_up", form, lists or {}).given
        wording = AskingSettings.load(session).wording
        answers = {
            "first_name": str(given.get("first_name", ""))[:120],
            "last_name": str(given.get("last_name", ""))[:120],
            "given": given,
            "wording": wording,
            "language": language,
        }
        now, shop = application.clock.now(), session.get_one(Shop, 1)
        lately = select(SignUp.id).where(SignUp.email == email, SignUp.at > now - timedelta(hours=1))
        if session.scalar(lately) is not None:
            return
        row = SignUp(token=secrets.token_urlsafe(20), email=email, answers=answers, at=now)
        session.add(row)
        person = _person_for(session, email, answers, now)
        row.person_id = person.id
        _ask_to_confirm(application, session, shop, person, row)


def _person_for(session: Session, email: str, answers: Mapping[str, Any], now: datetime) -> Person:
    person = session.scalars(
        select(Person).where(func.lower(Person.email) == email).order_by(Person.id).limit(1)
    ).first()
    if person is None:
        person = Person(
            email=email,
            joined_at=now,
            first_name=answers["first_name"] or None,
            last_name=answers["last_name"] or None,
        )
        session.add(person)
        session.flush()
    return person


def _ask_to_confirm(
    application: Application, session: Session, shop: Shop, person: Person, row: SignUp
) -> None:
    now = application.clock.now()
    if consent_now(session, [person.id], "email").get(person.id) != "agreed":
        entry = ConsentEntry(
            person_id=person.id, channel="email", state="waiting", at=now, source=SIGN_UP, by="customer"
        )
        session.add(entry)
        session.flush()
    catalogue = known_texts(str(row.answers.get("language", ENGLISH)))
    values = {"shop": shop.name, "link": f"{shop.public_url}/confirm/{row.token}"}
    subject, words = (catalogue.get(text, text) % values for text in (CONFIRM_SUBJECT, CONFIRM_WORDS))
    content = c.EmailContent(form="plain", subject=subject, plain=words)
    version = once_only(
        session, CONFIRMATION, c.as_message(content).model_dump(mode="json"), now, "Loyal Bell"
    )
    session.add(
        Delivery(
            origin_kind=CONFIRMATION,
            origin_id=version,
            person_id=person.id,
            message_version_id=version,
            channel="email",
            address=row.email,
            token=new_token("email"),
            state=PLANNED,
            due_at=now,
        )
    )


def confirm(application: Application, token: str) -> bool | None:
    """True once confirmed; false where the link is too old; ``None`` for no such link."""
    with application.database.transaction() as session:
        row = session.scalar(select(SignUp).where(SignUp.token == token))
        if row is None or row.person_id is None:
            return None
        now = application.clock.now()
        if row.confirmed_at is None and row.at < now - timedelta(days=CONFIRM_DAYS):
            return False
        if row.confirmed_at is None:
            person = session.get_one(Person, row.person_id)
            asking.keep_answers(session, person, row.answers.get("given", {}), now)
            person.language = person.language or row.answers.get("language")
        row.confirmed_at = row.confirmed_at or now
        wording = row.answers.get("wording") or None
        say(application, session, row.person_id, "email", "agreed", f"{SIGN_UP}, confirmed", wording)
        return True


def sign_up_form(application: Application) -> tuple[list[asking.Question], str]:
    """What is asked of somebody who signs up, and the words that they agree to (empty for the usual ones)."""
    with application.database.reading() as session:
        return asking.questions(session, "sign_up"), AskingSettings.load(session).wording


def language_of(application: Application, token: str) -> str | None:
    """The language on file of whom a link stands for."""
    with application.database.reading() as session:
        person = person_of(session, token)
        return person.language if person else None
