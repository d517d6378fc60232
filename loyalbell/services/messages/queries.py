"""Messages: keeping versions of what was written, and reading them as real people."""

import difflib
from collections.abc import Collection

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from loyalbell.core.messages import content as c
from loyalbell.core.references import Kind
from loyalbell.services import references
from loyalbell.services.application import Application
from loyalbell.services.delivery.composing.rendering import newest_version
from loyalbell.storage.schema import Letterhead, Message, MessageVersion, Person

Writing = c.AnyWriting


class MessageProblem(Exception):
    """Why a message cannot be kept, in words."""


def content_of(application: Application, message_id: int) -> c.MessageContent:
    with application.database.reading() as session:
        return c.read_content(newest_version(session, message_id).content)


def versions(application: Application, message_id: int) -> list[MessageVersion]:
    """The newest first."""
    query = select(MessageVersion).where(MessageVersion.message_id == message_id)
    with application.database.reading() as session:
        return list(session.scalars(query.order_by(MessageVersion.number.desc())))


def _version(session: Session, message_id: int, number: int) -> MessageVersion:
    query = select(MessageVersion).where(
        MessageVersion.message_id == message_id, MessageVersion.number == number
    )
    return session.scalars(query).one()


def compare(application: Application, message_id: int, older: int, newer: int) -> list[tuple[str, str]]:
    """Lines of (mark, words): `` `` in both, ``-`` only in the older, ``+`` only in the newer."""
    with application.database.reading() as session:
        before, after = (
            _lines(c.read_content(_version(session, message_id, at).content)) for at in (older, newer)
        )
    found = difflib.ndiff(before, after)
    return [(line[0], line[2:]) for line in found if line[0] in " -+"]


def _lines(content: c.MessageContent) -> list[str]:
    found = []
    for writing in content.writings:
        found.append(f"{writing.channel.capitalize()}{f', {writing.language}' if writing.language else ''}")
        for where, text in c.texts_of(writing):
            found += [f"{where}: {line}" for line in text.splitlines() if line.strip()]
    return found


def used_in(session: Session, message_id: int) -> list[str]:
    """What uses a message, in words."""
    return [str(use) for use in references.uses_of(session, Kind.MESSAGE, message_id)]


def letterheads(application: Application) -> list[Letterhead]:
    with application.database.reading() as session:
        return list(session.scalars(select(Letterhead).order_by(Letterhead.name)))


def library(application: Application) -> list[Message]:
    """The messages by name, without those that the program made for itself."""
    with application.database.reading() as session:
        return list(session.scalars(select(Message).where(~Message.hidden).order_by(Message.name)))


def names_with(application: Application, own: Collection[int]) -> dict[int, str]:
    """Names by id of the messages that can be chosen, and of those that were."""
    query = (
        select(Message.id, Message.name).where(~Message.hidden | Message.id.in_(own)).order_by(Message.name)
    )
    with application.database.reading() as session:
        return {message_id: name for message_id, name in session.execute(query)}


def uses_of(application: Application, message_id: int) -> list[str]:
    """What uses a message, in words."""
    with application.database.reading() as session:
        return used_in(session, message_id)


def uses_by_message(application: Application) -> dict[int, list[str]]:
    """By message what uses it, in words."""
    with application.database.reading() as session:
        return {
            int(key): [str(use) for use in uses]
            for key, uses in references.uses_by_key(session, Kind.MESSAGE).items()
        }


def languages_read(application: Application) -> list[str]:
    """The languages that people on file read, the commonest first."""
    query = (
        select(Person.language, func.count()).where(Person.language.is_not(None)).group_by(Person.language)
    )
    with application.database.reading() as session:
        counted = [(str(language), people) for language, people in session.execute(query)]
    return [language for language, _ in sorted(counted, key=lambda pair: -pair[1])]
