"""What customers do with a message: open it, press a link, refuse, come back to the list."""

from sqlalchemy import select
from sqlalchemy.orm import Session

from loyalbell.core.messages.content import read_content
from loyalbell.desk.desk import Desk
from loyalbell.store.consent import address_of
from loyalbell.store.happenings import announce, announce_consent
from loyalbell.store.journal import mark_rows
from loyalbell.store.tables import ConsentEntry, MessageVersion, Person, Touch, TouchEvent

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
        _respond(session, TouchEvent(touch_id=touch.id, kind="opened", at=desk.clock.now()))
        return True


def clicked(desk: Desk, token: str, link: int) -> str | None:
    """Notes the press and returns where the link leads; ``None`` if there is no such link."""
    with desk.book.writing() as session:
        touch = session.scalar(select(Touch).where(Touch.token == token))
        if touch is None:
            return None
        links = read_content(session.get_one(MessageVersion, touch.message_version_id).content).links()
        if not 0 <= link < len(links):
            return None
        now = desk.clock.now()
        _respond(session, TouchEvent(touch_id=touch.id, kind="clicked", at=now, link=link))
        announce(session, "message.clicked", now, person=touch.person_id, link=links[link])
        return links[link]


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
