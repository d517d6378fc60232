"""Messages: keeping versions of what was written, and reading them as real people."""

from dataclasses import dataclass

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from loyalbell.core.messages.content import EmailContent, read_content
from loyalbell.core.messages.email import FilledEmail
from loyalbell.core.messages.fields import FieldProblem
from loyalbell.core.messages.preflight import Finding, preflight
from loyalbell.desk.campaigns import newest_version
from loyalbell.desk.desk import Desk
from loyalbell.desk.facts import field_facts
from loyalbell.desk.letters import compiled, fill_for_preview, look_of
from loyalbell.store.tables import Campaign, Companion, Letterhead, Message, MessageVersion, Person, Shop


class MessageProblem(Exception):
    """Why a message cannot be kept, in words."""


@dataclass(frozen=True)
class Reader:
    """A real customer to read a message as, and why this one."""

    id: int
    name: str
    why: str


def content_of(desk: Desk, message_id: int) -> EmailContent:
    with desk.book.reading() as session:
        return read_content(newest_version(session, message_id).content)


def keep(desk: Desk, message_id: int | None, name: str, content: EmailContent, by: str) -> int:
    """Saves as a new version if anything changed. Raises ``MessageProblem``."""
    name = " ".join(name.split())
    if not name:
        raise MessageProblem("Give the message a name, so that you find it again.")
    with desk.book.writing() as session:
        taken = session.scalar(select(Message.id).where(func.lower(Message.name) == name.lower()))
        if taken is not None and taken != message_id:
            raise MessageProblem(f"There is a message called “{name}” already. Choose another name.")
        message = session.get(Message, message_id) if message_id else None
        if message is None:
            message = Message()
            session.add(message)
        message.name, message.changed_at = name, desk.clock.now()
        session.flush()
        _add_version(desk, session, message.id, content, by)
        return message.id


def _add_version(desk: Desk, session: Session, message_id: int, content: EmailContent, by: str) -> None:
    query = select(MessageVersion).where(MessageVersion.message_id == message_id)
    last = session.scalars(query.order_by(MessageVersion.number.desc()).limit(1)).first()
    data = content.model_dump(mode="json")
    if last is None or last.content != data:
        number = last.number + 1 if last else 1
        session.add(
            MessageVersion(
                message_id=message_id, number=number, content=data, made_at=desk.clock.now(), by=by
            )
        )


def drop(desk: Desk, message_id: int, by: str) -> None:
    """Raises ``MessageProblem`` while a campaign refers to it."""
    with desk.book.writing() as session:
        used = session.scalar(select(Campaign.name).where(Campaign.message_id == message_id))
        if used:
            raise MessageProblem(f"This message is used in the campaign “{used}”; it cannot be deleted.")
        message = session.get_one(Message, message_id)
        desk.note(session, by, "deleted a message", message=message.name)
        session.query(MessageVersion).filter(MessageVersion.message_id == message_id).delete()
        session.delete(message)


def letterheads(desk: Desk) -> list[Letterhead]:
    with desk.book.reading() as session:
        return list(session.scalars(select(Letterhead).order_by(Letterhead.name)))


def readers(desk: Desk) -> list[Reader]:
    """Real customers that try a message: someone complete, someone without a name, the longest name."""
    complete = Person.first_name.is_not(None) & Person.last_name.is_not(None) & Person.email.is_not(None)
    cares = select(Companion.person_id)
    with desk.book.reading() as session:
        picks = [
            ("everything on file", select(Person).where(complete, Person.id.in_(cares))),
            (
                "no name on file",
                select(Person).where(Person.first_name.is_(None)).order_by(Person.last_name.is_not(None)),
            ),
            (
                "longest name",
                select(Person)
                .where(Person.first_name.is_not(None))
                .order_by(
                    func.length(Person.first_name + func.coalesce(Person.last_name, "")).desc(), Person.id
                ),
            ),
        ]
        found: list[Reader] = []
        for why, query in picks:
            person = session.scalars(query.limit(1)).first()
            if person is not None and person.id not in {reader.id for reader in found}:
                found.append(Reader(person.id, person.name or person.email or person.phone or "no name", why))
        return found


def read_as(desk: Desk, content: EmailContent, person_id: int | None) -> FilledEmail | str:
    """The message as this person would get it, or why they would not."""
    with desk.book.reading() as session:
        look = look_of(session, content.letterhead)
        shop = session.get_one(Shop, 1)
        person = session.get(Person, person_id) if person_id else None
        facts: dict[str, object] = {"shop_name": shop.name}
        if person is not None:
            facts = field_facts(session, [person], shop, desk.clock.now())[person.id]
    try:
        return fill_for_preview(compiled(content, look), facts)
    except FieldProblem as problem:
        return str(problem)


def findings_of(desk: Desk, content: EmailContent) -> list[Finding]:
    with desk.book.reading() as session:
        look = look_of(session, content.letterhead)
        return preflight(content, look, session.get_one(Shop, 1).sender_email)
