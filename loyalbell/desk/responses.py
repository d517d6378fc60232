"""What customers do with a message: open it, press a link, refuse, come back to the list."""

from sqlalchemy import select
from sqlalchemy.orm import Session

from loyalbell.core.messages.fields import FieldProblem, fields_used, fill
from loyalbell.desk.desk import Desk
from loyalbell.desk.facts import field_facts
from loyalbell.desk.letters import compiled_version, own_links
from loyalbell.desk.outgoing import PROOF
from loyalbell.store.consent import address_of, consent_now
from loyalbell.store.happenings import announce, announce_consent
from loyalbell.store.journal import mark_rows
from loyalbell.store.tables import ConsentEntry, Item, Person, Shop, Touch, TouchEvent

UNSUBSCRIBE_SOURCE = "unsubscribe link"
STAY_SOURCE = "unsubscribe page: stay on the list"


def find_touch(desk: Desk, token: str) -> Touch | None:
    with desk.book.reading() as session:
        return session.scalar(select(Touch).where(Touch.token == token))


def opened(desk: Desk, token: str) -> bool:
    """Notes that the pixel was loaded. False for a token nobody was sent."""
    with desk.book.writing() as session:
        touch = session.scalar(select(Touch).where(Touch.token == token))
        if touch is None:
            return False
        if touch.origin_kind == PROOF:
            return True
        _respond(session, TouchEvent(touch_id=touch.id, kind="opened", at=desk.clock.now()))
        return True


def clicked(desk: Desk, token: str, link: str) -> str | None:
    """Notes the press and returns where it leads; ``None`` if there is no such link.

    ``link`` is the number of a link of the message, or ``i`` and the id of an item on one of its cards.
    """
    with desk.book.writing() as session:
        touch = session.scalar(select(Touch).where(Touch.token == token))
        if touch is None:
            return None
        where = _item_link(session, link) if link.startswith("i") else _link(desk, session, touch, link)
        if where is None:
            return None
        if touch.origin_kind == PROOF:
            return where
        now = desk.clock.now()
        number = None if link.startswith("i") else int(link)
        _respond(
            session, TouchEvent(touch_id=touch.id, kind="clicked", at=now, link=number, detail=where[:500])
        )
        announce(session, "message.clicked", now, person=touch.person_id, link=where)
        return where


def _item_link(session: Session, link: str) -> str | None:
    item = session.get(Item, int(link[1:])) if link[1:].isdigit() and len(link) < 16 else None
    return None if item is None else item.link or session.get_one(Shop, 1).public_url


def _link(desk: Desk, session: Session, touch: Touch, link: str) -> str | None:
    """Where the link with this number leads for this person, its fields filled."""
    shop = session.get_one(Shop, 1)
    template = compiled_version(session, shop, touch.message_version_id, touch.channel, touch.language)
    if template is None or not link.isdigit() or len(link) > 4 or int(link) >= len(template.links):
        return None
    where = template.links[int(link)]
    if "{" not in where:
        return where
    person = session.get_one(Person, touch.person_id)
    facts = field_facts(session, [person], shop, desk.clock.now(), fields_used(where))[person.id]
    try:
        return fill(where, {**facts, **own_links(shop, touch.token)})
    except FieldProblem:
        return shop.public_url


def refuse(desk: Desk, token: str) -> bool:
    """Takes everyone at the touch's address off the channel, from this second on."""
    return _say(desk, token, "refused", UNSUBSCRIBE_SOURCE)


def stay(desk: Desk, token: str) -> bool:
    """Takes a refusal made through this same touch back."""
    return _say(desk, token, "agreed", STAY_SOURCE)


def _say(desk: Desk, token: str, state: str, source: str) -> bool:
    with desk.book.writing() as session:
        touch = session.scalar(select(Touch).where(Touch.token == token))
        if touch is None:
            return False
        if touch.origin_kind == PROOF:
            return True
        if state == "agreed" and not _refused_here(session, touch):
            return True
        entries = [
            ConsentEntry(
                person_id=person_id,
                channel=touch.channel,
                state=state,
                at=desk.clock.now(),
                source=source,
                by="customer",
            )
            for person_id in _sharing(session, touch)
        ]
        session.add_all(entries)
        session.flush()
        mark_rows(session, "consents", [entry.id for entry in entries])
        for entry in entries:
            announce_consent(session, entry, desk.clock.now())
        if state == "refused" and not _refused_here(session, touch):
            _respond(session, TouchEvent(touch_id=touch.id, kind="refused", at=desk.clock.now()))
        return True


def say_for_address(
    desk: Desk, session: Session, channel: str, address: str, person_id: int | None, kind: str, source: str
) -> None:
    """A STOP takes everyone at an address off the channel; a START takes back what a STOP, or this link, ended."""
    column = {"email": Person.email, "text": Person.phone, "chat": Person.chat_handle}[channel]
    people = {
        *session.scalars(select(Person.id).where(column == address)),
        *([person_id] if person_id else []),
    }
    now_said = consent_now(session, people, channel)
    state = "refused" if kind == "stop" else "agreed"
    entries = [
        ConsentEntry(
            person_id=one, channel=channel, state=state, at=desk.clock.now(), source=source, by="customer"
        )
        for one in sorted(people)
        if now_said.get(one) != state and (kind == "stop" or now_said.get(one) == "refused")
    ]
    session.add_all(entries)
    session.flush()
    mark_rows(session, "consents", [entry.id for entry in entries])
    for entry in entries:
        announce_consent(session, entry, desk.clock.now())


def _respond(session: Session, event: TouchEvent) -> None:
    session.add(event)
    session.flush()
    mark_rows(session, "responses", [event.id])


def _refused_here(session: Session, touch: Touch) -> bool:
    query = select(TouchEvent.id).where(TouchEvent.touch_id == touch.id, TouchEvent.kind == "refused")
    return session.scalar(query) is not None


def _sharing(session: Session, touch: Touch) -> set[int]:
    person = session.get_one(Person, touch.person_id)
    address = touch.address or address_of(person, touch.channel)
    column = {"email": Person.email, "text": Person.phone, "chat": Person.chat_handle}[touch.channel]
    if not address:
        return {person.id}
    return {person.id, *session.scalars(select(Person.id).where(column == address))}
