"""What comes in: delivery reports, complaints, and what customers write back on any channel."""

import re
from collections.abc import Mapping, Sequence
from datetime import datetime, timedelta

from sqlalchemy import select
from sqlalchemy.orm import Session

from loyalbell.core.messages.delivery_reports import read_report
from loyalbell.core.messages.incoming_mail import read_mail
from loyalbell.core.messages.mime import one_line
from loyalbell.core.messages.reply_keywords import Kind, keyword, newest_words
from loyalbell.core.policy.delivery_state import BOUNCED, SENT, TRANSITIONS
from loyalbell.services.application import Application
from loyalbell.services.customers.signing_up import ask_who_wrote_start
from loyalbell.services.delivery import bounces
from loyalbell.services.delivery.engagement import say_for_address
from loyalbell.services.replies import inbox
from loyalbell.services.settings.channels import LinkSettings, loaded
from loyalbell.storage.consent import address_column
from loyalbell.storage.schema import Delivery, DeliveryEvent, Person, Reply
from loyalbell.storage.webhook_events import announce

_KEY = re.compile(r"^(?:bounce|reply)\+([0-9a-zA-Z_-]{8,64})@")
LATELY = timedelta(days=60)
MOST_TEXT = 20_000
STOPPED = "{shop}: you will get no more messages here. Reply START to hear from us again."
STARTED = "{shop}: you are on the list again. Reply STOP to end."
HELPED = "{shop}, {phone}. Reply STOP to end messages. A person reads all other replies."


def delivered(application: Application, channel: str, message_id: str) -> bool:
    """A network says that a message has arrived. False for a message that is not ours.

    Said of a message that it had refused before, or of an address that was marked as gone just after: it was
    wrong then, and the mark is lifted.
    """
    with application.database.transaction() as session:
        delivery = _delivery_of(session, message_id)
        if delivery is None or delivery.channel != channel:
            return False
        now = application.clock.now()
        delivery.delivered_at = delivery.delivered_at or now
        bounces.lift_wrong_mark(session, delivery, now)
        return True


def failed(application: Application, channel: str, message_id: str, permanent: bool, words: str) -> bool:
    """A network says that a message could not be delivered. What has arrived has arrived: said after that,
    it changes nothing.
    """
    with application.database.transaction() as session:
        delivery = _delivery_of(session, message_id)
        if delivery is None or delivery.channel != channel:
            return False
        if BOUNCED in TRANSITIONS[delivery.state] and delivery.delivered_at is None:
            bounces.bounced(session, delivery, application.clock.now(), permanent, words)
        return True


def _delivery_of(session: Session, message_id: str) -> Delivery | None:
    key = message_id.strip().strip("<>").partition("@")[0]
    return session.scalar(select(Delivery).where(Delivery.message_key == key)) if key else None


def take_mail(application: Application, recipients: Sequence[str], raw: bytes) -> None:
    """One mail that came in: a report, a machine's answer, or words of a customer."""
    report = read_report(raw)
    with application.database.transaction() as session:
        delivery = _named(session, recipients) or (
            _delivery_of(session, report.message_id) if report else None
        )
        if report is not None:
            if delivery is not None and report.kind == "complaint":
                bounces.complained(application, session, delivery)
            elif delivery is not None:
                for bounce in report.bounces:
                    if bounce.action == "failed" and BOUNCED in TRANSITIONS[delivery.state]:
                        bounces.bounced(session, delivery, application.clock.now(), bounce.hard, bounce.words)
            return
    mail = read_mail(raw)
    words = newest_words(mail.words)
    kind: Kind = "auto-reply" if mail.is_automatic else keyword(words)
    take_reply(
        application,
        "email",
        mail.network_id,
        mail.sender,
        words,
        application.clock.now(),
        kind,
        mail.subject,
        delivery.id if delivery else None,
    )


def _named(session: Session, recipients: Sequence[str]) -> Delivery | None:
    """The message that an address such as ``reply+KEY@…`` names, by its key; older ones by their token."""
    keys = [found[1] for recipient in recipients if (found := _KEY.match(recipient))]
    if not keys:
        return None
    named = select(Delivery).where(Delivery.message_key.in_(keys)).limit(1)
    return session.scalar(named) or session.scalar(select(Delivery).where(Delivery.token.in_(keys)).limit(1))


def take_reply(
    application: Application,
    channel: str,
    network_id: str,
    address: str,
    text: str,
    at: datetime,
    kind: Kind | None = None,
    subject: str = "",
    delivery_id: int | None = None,
) -> int | None:
    """Keeps what somebody wrote, once, and does at once what it asks.

    Returns its id; ``None`` where it was here before.
    """
    kind = kind or keyword(text)
    with application.database.transaction() as session:
        there = select(Reply.id).where(Reply.channel == channel, Reply.network_id == network_id)
        if session.scalar(there) is not None:
            return None
        delivery = (
            session.get(Delivery, delivery_id) if delivery_id else _last_to(session, channel, address, at)
        )
        person = delivery.person_id if delivery else _person_at(session, channel, address)
        reply = Reply(
            channel=channel,
            network_id=network_id,
            address=address,
            person_id=person,
            delivery_id=delivery.id if delivery else None,
            inward=True,
            at=at,
            subject=one_line(subject)[:300] or None,
            text=text.strip()[:MOST_TEXT],
            kind=kind,
            state="new" if kind == "answer" else "done",
            done_at=None if kind == "answer" else at,
        )
        session.add(reply)
        session.flush()
        if delivery is not None and kind != "auto-reply":
            _note_answer(session, delivery, at)
        if kind == "start" and channel == "email":
            ask_who_wrote_start(session, address, at)  # a sender is easily made up: whoever owns it is asked
        elif kind in ("stop", "start") and address:
            say_for_address(application, session, channel, address, person, kind, f"answered {kind.upper()}")
        announce(session, "message.replied", at, person=person, channel=channel, reply=reply.id, kind=kind)
        reply_id = reply.id
    if kind in ("stop", "start", "help") and channel != "email":
        inbox.answer_by_itself(application, reply_id, _confirmation(application, kind))
    return reply_id


def _confirmation(application: Application, kind: str) -> str:
    shop = application.the_shop()
    words: Mapping[str, str] = {"stop": STOPPED, "start": STARTED, "help": HELPED}
    phone = loaded(application, LinkSettings).phone or shop.postal_address
    return words[kind].format(shop=shop.name, phone=phone)


def _note_answer(session: Session, delivery: Delivery, at: datetime) -> None:
    event = DeliveryEvent(delivery_id=delivery.id, kind="replied", at=at)
    session.add(event)
    session.flush()


def _last_to(session: Session, channel: str, address: str, at: datetime) -> Delivery | None:
    """What was sent to this address last, within two months."""
    query = (
        select(Delivery)
        .where(
            Delivery.channel == channel,
            Delivery.address == address,
            Delivery.state == SENT,
            Delivery.sent_at.is_not(None),
            Delivery.sent_at <= at,
            Delivery.sent_at > at - LATELY,
            Delivery.origin_kind != "proof",
        )
        .order_by(Delivery.sent_at.desc(), Delivery.id.desc())
    )
    return session.scalars(query.limit(1)).first()


def _person_at(session: Session, channel: str, address: str) -> int | None:
    column = address_column(channel)
    return session.scalars(select(Person.id).where(column == address).order_by(Person.id).limit(1)).first()
