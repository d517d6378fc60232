"""Versions of what is written once only: an answer, a proof, a confirmation."""

from datetime import datetime

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from loyalbell.storage.schema import Message, MessageVersion


def hidden_message(session: Session, kind: str, now: datetime) -> Message:
    """The message that holds what is written once only, by its kind."""
    name = f"({kind})"
    message = session.scalar(select(Message).where(Message.name == name))
    if message is None:
        message = Message(name=name, changed_at=now, purpose="service", hidden=True)
        session.add(message)
        session.flush()
    return message


def once_only(session: Session, kind: str, content: dict[str, object], now: datetime, by: str) -> int:
    """A version for what is written once only. Returns its id."""
    message = hidden_message(session, kind, now)
    last = session.scalar(
        select(func.max(MessageVersion.number)).where(MessageVersion.message_id == message.id)
    )
    version = MessageVersion(
        message_id=message.id, number=(last or 0) + 1, content=content, made_at=now, by=by
    )
    session.add(version)
    session.flush()
    return version.id
