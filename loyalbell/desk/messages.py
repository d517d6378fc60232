"""Messages: keeping versions of what was written, and reading them as real people."""

import difflib

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from loyalbell.core.messages import content as c
from loyalbell.desk.desk import Desk
from loyalbell.desk.letters import newest_version
from loyalbell.store.tables import Campaign, Letterhead, Message, MessageVersion

Writing = c.EmailContent | c.TextContent | c.ChatContent


class MessageProblem(Exception):
    """Why a message cannot be kept, in words."""


def content_of(desk: Desk, message_id: int) -> c.MessageContent:
    with desk.book.reading() as session:
        return c.read_content(newest_version(session, message_id).content)


def keep(
    desk: Desk, message_id: int | None, name: str, content: c.MessageContent | Writing, by: str, purpose: str = ""
) -> int:  # fmt: skip
    """Saves as a new version if anything changed. Raises ``MessageProblem``."""
    name = " ".join(name.split())
    if not name:
        raise MessageProblem("Give the message a name, so that you find it again.")
    whole = c.as_message(content)
    with desk.book.writing() as session:
        taken = session.scalar(select(Message.id).where(func.lower(Message.name) == name.lower()))
        if taken is not None and taken != message_id:
            raise MessageProblem(f"There is a message called “{name}” already. Choose another name.")
        message = session.get(Message, message_id) if message_id else None
        if message is None:
            message = Message()
            session.add(message)
        message.name, message.changed_at = name, desk.clock.now()
        message.purpose = purpose or message.purpose or "marketing"
        session.flush()
        _add_version(desk, session, message.id, whole, by)
        return message.id


def _add_version(desk: Desk, session: Session, message_id: int, content: c.MessageContent, by: str) -> None:
    query = select(MessageVersion).where(MessageVersion.message_id == message_id)
    last = session.scalars(query.order_by(MessageVersion.number.desc()).limit(1)).first()
    data = content.model_dump(mode="json")
    if last is None or c.read_content(last.content).model_dump(mode="json") != data:
        number = last.number + 1 if last else 1
        session.add(
            MessageVersion(
                message_id=message_id, number=number, content=data, made_at=desk.clock.now(), by=by
            )
        )


def versions(desk: Desk, message_id: int) -> list[MessageVersion]:
    """The newest first."""
    query = select(MessageVersion).where(MessageVersion.message_id == message_id)
    with desk.book.reading() as session:
        return list(session.scalars(query.order_by(MessageVersion.number.desc())))


def name_version(desk: Desk, message_id: int, number: int, name: str) -> None:
    with desk.book.writing() as session:
        _version(session, message_id, number).name = " ".join(name.split())[:80] or None


def _version(session: Session, message_id: int, number: int) -> MessageVersion:
    query = select(MessageVersion).where(
        MessageVersion.message_id == message_id, MessageVersion.number == number
    )
    return session.scalars(query).one()


def restore(desk: Desk, message_id: int, number: int, by: str) -> None:
    """Makes what an earlier version said the newest one; nothing is lost."""
    with desk.book.writing() as session:
        content = c.read_content(_version(session, message_id, number).content)
        session.get_one(Message, message_id).changed_at = desk.clock.now()
        _add_version(desk, session, message_id, content, by)


def compare(desk: Desk, message_id: int, older: int, newer: int) -> list[tuple[str, str]]:
    """Lines of (mark, words): `` `` in both, ``-`` only in the older, ``+`` only in the newer."""
    with desk.book.reading() as session:
        before, after = (
            _lines(c.read_content(_version(session, message_id, at).content)) for at in (older, newer)
        )
    found = difflib.ndiff(before, after)
    return [(line[0], line[2:]) for line in found if line[0] in " -+"]


def _lines(content: c.MessageContent) -> list[str]:
    found = []
    for one in content.writings:
        found.append(f"{one.channel.capitalize()}{f', {one.language}' if one.language else ''}")
        for where, text in c.texts_of(one):
            found += [f"{where}: {line}" for line in text.splitlines() if line.strip()]
    return found


def used_in(session: Session, message_id: int) -> list[str]:
    names = session.scalars(
        select(Campaign.name).where(Campaign.message_id == message_id).order_by(Campaign.name)
    )
    return [f"the campaign “{name}”" for name in names]


def drop(desk: Desk, message_id: int, by: str) -> None:
    """Raises ``MessageProblem`` while something refers to it."""
    with desk.book.writing() as session:
        used = used_in(session, message_id)
        if used:
            raise MessageProblem(f"This message is used in {used[0]}; it cannot be deleted.")
        message = session.get_one(Message, message_id)
        desk.note(session, by, "deleted a message", message=message.name)
        session.query(MessageVersion).filter(MessageVersion.message_id == message_id).delete()
        session.delete(message)


def copy(desk: Desk, message_id: int, by: str) -> int:
    """A copy under a free name. Returns its id."""
    with desk.book.reading() as session:
        name = session.get_one(Message, message_id).name
        taken = {one.lower() for one in session.scalars(select(Message.name))}
    free = next(
        one
        for one in (f"{name}, copy", *(f"{name}, copy {n}" for n in range(2, 1_000)))
        if one.lower() not in taken
    )
    return keep(desk, None, free, content_of(desk, message_id), by)


def letterheads(desk: Desk) -> list[Letterhead]:
    with desk.book.reading() as session:
        return list(session.scalars(select(Letterhead).order_by(Letterhead.name)))
