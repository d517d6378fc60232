"""Messages: keeping versions of what was written, and reading them as real people."""

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from loyalbell.core.messages import content as c
from loyalbell.core.references import Kind
from loyalbell.services.application import Application
from loyalbell.services.messages.queries import MessageProblem, Writing, _version, content_of
from loyalbell.services.references import refuse_if_used
from loyalbell.storage.schema import Delivery, Message, MessageVersion


def keep(
    application: Application,
    message_id: int | None,
    name: str,
    content: c.MessageContent | Writing,
    by: str,
    purpose: str = "",
) -> int:
    """Saves as a new version if anything changed. Raises ``MessageProblem``."""
    name = " ".join(name.split())
    if not name:
        raise MessageProblem("Give the message a name, so that you find it again.")
    whole = c.as_message(content)
    with application.database.transaction() as session:
        taken = session.scalar(select(Message.id).where(func.lower(Message.name) == name.lower()))
        if taken is not None and taken != message_id:
            raise MessageProblem(f"There is a message called “{name}” already. Choose another name.")
        message = session.get(Message, message_id) if message_id else None
        if message is None:
            message = Message()
            session.add(message)
        message.name, message.changed_at = name, application.clock.now()
        message.purpose = purpose or message.purpose or "marketing"
        session.flush()
        _add_version(application, session, message.id, whole, by)
        return message.id


def _add_version(
    application: Application, session: Session, message_id: int, content: c.MessageContent, by: str
) -> None:
    query = select(MessageVersion).where(MessageVersion.message_id == message_id)
    last = session.scalars(query.order_by(MessageVersion.number.desc()).limit(1)).first()
    data = content.model_dump(mode="json")
    if last is None or c.read_content(last.content).model_dump(mode="json") != data:
        number = last.number + 1 if last else 1
        session.add(
            MessageVersion(
                message_id=message_id, number=number, content=data, made_at=application.clock.now(), by=by
            )
        )


def name_version(application: Application, message_id: int, number: int, name: str) -> None:
    with application.database.transaction() as session:
        _version(session, message_id, number).name = " ".join(name.split())[:80] or None


def restore(application: Application, message_id: int, number: int, by: str) -> None:
    """Makes what an earlier version said the newest one; nothing is lost."""
    with application.database.transaction() as session:
        content = c.read_content(_version(session, message_id, number).content)
        session.get_one(Message, message_id).changed_at = application.clock.now()
        _add_version(application, session, message_id, content, by)


def drop(application: Application, message_id: int, by: str) -> None:
    """Raises ``InUse`` while anything leans on it, ``MessageProblem`` where it has gone to customers."""
    with application.database.transaction() as session:
        message = session.get_one(Message, message_id)
        refuse_if_used(session, Kind.MESSAGE, message_id, f"The message “{message.name}”")
        gone = select(Delivery.id).join(MessageVersion).where(MessageVersion.message_id == message_id)
        if session.scalar(gone.limit(1)) is not None:
            raise MessageProblem(
                f"“{message.name}” was sent to customers and is in their diaries, so it cannot be deleted."
            )
        application.note(session, by, "deleted a message", message=message.name)
        session.query(MessageVersion).filter(MessageVersion.message_id == message_id).delete()
        session.delete(message)


def copy(application: Application, message_id: int, by: str) -> int:
    """A copy under a free name. Returns its id."""
    with application.database.reading() as session:
        name = session.get_one(Message, message_id).name
        taken = {one.lower() for one in session.scalars(select(Message.name))}
    free = next(
        one
        for one in (f"{name}, copy", *(f"{name}, copy {n}" for n in range(2, 1_000)))
        if one.lower() not in taken
    )
    return keep(application, None, free, content_of(application, message_id), by)
