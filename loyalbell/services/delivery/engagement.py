"""What customers do with a message: open it, press a link, refuse, come back to the list."""

from sqlalchemy import select
from sqlalchemy.orm import Session

from loyalbell.core.messages.merge_fields import FieldProblem, fields_used, fill
from loyalbell.core.policy.origins import PROOF
from loyalbell.services.application import Application
from loyalbell.services.delivery.composing.facts_at_hand import facts_at_hand, put_over
from loyalbell.services.delivery.composing.merge_facts import field_facts
from loyalbell.services.delivery.composing.rendering import compiled_version, own_links
from loyalbell.services.response_queue import Clicked, Opened
from loyalbell.storage.consent import address_column, address_of, consent_now
from loyalbell.storage.schema import ConsentEntry, Delivery, DeliveryEvent, Item, Person, Shop
from loyalbell.storage.webhook_events import announce_consent

UNSUBSCRIBE_SOURCE = "unsubscribe link"
STAY_SOURCE = "unsubscribe page: stay on the list"


def find_delivery(application: Application, token: str) -> Delivery | None:
    with application.database.reading() as session:
        return session.scalar(select(Delivery).where(Delivery.token == token))


def opened(application: Application, token: str, agent: str) -> bool:
    """Notes that the pixel was loaded, and whether by a machine. False for a token nobody was sent."""
    responses = application.responses
    responses.put(Opened(token, agent))
    responses.settle()
    return find_delivery(application, token) is not None


def clicked(application: Application, token: str, link: str) -> str | None:
    """Notes the press and returns where it leads; ``None`` if there is no such link.

    ``link`` is the number of a link of the message, or ``i`` and the id of an item on one of its cards.
    """
    with application.database.reading() as session:
        delivery = session.scalar(select(Delivery).where(Delivery.token == token))
        if delivery is None:
            return None
        is_item = link.startswith("i")
        where = _item_link(session, link) if is_item else _link(application, session, delivery, link)
    if where is None:
        return None
    application.responses.put(Clicked(token, None if is_item else int(link), where))
    application.responses.settle()
    return where


def _item_link(session: Session, link: str) -> str | None:
    item = session.get(Item, int(link[1:])) if link[1:].isdecimal() and len(link) < 16 else None
    return None if item is None else item.link or session.get_one(Shop, 1).public_url


def _link(application: Application, session: Session, delivery: Delivery, link: str) -> str | None:
    """Where the link with this number leads for this person, its fields filled."""
    shop = session.get_one(Shop, 1)
    template = compiled_version(
        session, shop, delivery.message_version_id, delivery.channel, delivery.language
    )
    if template is None or not link.isdecimal() or len(link) > 4 or int(link) >= len(template.links):
        return None
    where = template.links[int(link)]
    if "{" not in where:
        return where
    person = session.get_one(Person, delivery.person_id)
    now, asked = application.clock.now(), fields_used(where)
    facts = field_facts(session, [person], shop, now, asked)[person.id]
    at_hand = facts_at_hand(session, [delivery], shop, now, asked).get(delivery.id, {})
    try:
        return fill(where, {**put_over(facts, at_hand), **own_links(session, shop, delivery.token)})
    except FieldProblem:
        return shop.public_url


def refuse(application: Application, token: str) -> bool:
    """Takes everyone at the touch's address off the channel, from this second on."""
    return _say(application, token, "refused", UNSUBSCRIBE_SOURCE)


def stay(application: Application, token: str) -> bool:
    """Takes a refusal made through this same touch back."""
    return _say(application, token, "agreed", STAY_SOURCE)


def _say(application: Application, token: str, state: str, source: str) -> bool:
    with application.database.transaction() as session:
        delivery = session.scalar(select(Delivery).where(Delivery.token == token))
        if delivery is None:
            return False
        if delivery.origin_kind == PROOF:
            return True
        if state == "agreed" and not _refused_here(session, delivery):
            return True
        entries = [
            ConsentEntry(
                person_id=person_id,
                channel=delivery.channel,
                state=state,
                at=application.clock.now(),
                source=source,
                by="customer",
            )
            for person_id in _sharing(session, delivery)
        ]
        session.add_all(entries)
        session.flush()
        for entry in entries:
            announce_consent(session, entry, application.clock.now())
        if state == "refused" and not _refused_here(session, delivery):
            _respond(
                session, DeliveryEvent(delivery_id=delivery.id, kind="refused", at=application.clock.now())
            )
        return True


def say_for_address(
    application: Application,
    session: Session,
    channel: str,
    address: str,
    person_id: int | None,
    kind: str,
    source: str,
) -> None:
    """A STOP takes everyone at an address off the channel.

    A START takes back what a STOP, or this link, ended.
    """
    column = address_column(channel)
    people = {
        *session.scalars(select(Person.id).where(column == address)),
        *([person_id] if person_id else []),
    }
    now_said = consent_now(session, people, channel)
    state = "refused" if kind == "stop" else "agreed"
    entries = [
        ConsentEntry(
            person_id=person,
            channel=channel,
            state=state,
            at=application.clock.now(),
            source=source,
            by="customer",
        )
        for person in sorted(people)
        if now_said.get(person) != state and (kind == "stop" or now_said.get(person) == "refused")
    ]
    session.add_all(entries)
    session.flush()
    for entry in entries:
        announce_consent(session, entry, application.clock.now())


def _respond(session: Session, event: DeliveryEvent) -> None:
    session.add(event)
    session.flush()


def _refused_here(session: Session, delivery: Delivery) -> bool:
    query = select(DeliveryEvent.id).where(
        DeliveryEvent.delivery_id == delivery.id, DeliveryEvent.kind == "refused"
    )
    return session.scalar(query) is not None


def _sharing(session: Session, delivery: Delivery) -> set[int]:
    person = session.get_one(Person, delivery.person_id)
    address = delivery.address or address_of(person, delivery.channel)
    column = address_column(delivery.channel)
    if not address:
        return {person.id}
    return {person.id, *session.scalars(select(Person.id).where(column == address))}


def word_on_channel(application: Application, person_id: int, channel: str) -> str | None:
    """What a person said last about a channel: agreed, refused, waiting.

    ``None`` where they were never asked.
    """
    query = (
        select(ConsentEntry.state)
        .where(ConsentEntry.person_id == person_id, ConsentEntry.channel == channel)
        .order_by(ConsentEntry.at.desc(), ConsentEntry.id.desc())
        .limit(1)
    )
    with application.database.reading() as session:
        return session.scalars(query).first()
