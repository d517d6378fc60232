"""The table of what uses what, written by itself whenever something that can use others is saved.

Session events do it, so that no act can forget it; ``rebuild`` makes it anew from everything that is kept.
"""

from collections.abc import Callable, Iterable
from typing import Any

import structlog
from sqlalchemy import Connection, Table, delete, event, insert, inspect, select
from sqlalchemy.orm import Session, UOWTransaction

from loyalbell.core.campaigns.plan import CampaignPlan
from loyalbell.core.messages.content import EmailContent, read_content
from loyalbell.core.offers.terms import read_terms
from loyalbell.core.references import Kind, Reference, references_of
from loyalbell.core.segments.model import read_rule
from loyalbell.core.sequences.plan import read_plan
from loyalbell.storage.schema import (
    Campaign,
    Letterhead,
    Message,
    MessageVersion,
    Offer,
    ReferenceRow,
    SavedBlock,
    SavedView,
    Segment,
    Sequence,
    SequenceVersion,
)
from loyalbell.storage.schema.base import Base

log = structlog.get_logger()
Uses = set[Reference]
TABLE: Table = ReferenceRow.__table__  # type: ignore[assignment]


def _of_segment(connection: Connection, row: Any) -> Uses:
    return set(references_of(read_rule(row.rule)))


def _of_message(connection: Connection, row: Any) -> Uses:
    """Of its newest version: what an older one leaned on may go."""
    newest = (
        select(MessageVersion.content)
        .where(MessageVersion.message_id == row.id)
        .order_by(MessageVersion.number.desc())
        .limit(1)
    )
    content = connection.execute(newest).scalar()
    return set(references_of(read_content(content))) if content is not None else set()


def _of_sequence(connection: Connection, row: Any) -> Uses:
    """Of its draft and of the version that people are under way in; nothing once it is put away."""
    if row.archived_at is not None:
        return set()
    plans = [row.draft]
    if row.live_version_id is not None:
        live = select(SequenceVersion.plan).where(SequenceVersion.id == row.live_version_id)
        plans.append(connection.execute(live).scalar())
    return {reference for plan in plans if plan for reference in references_of(read_plan(plan))}


def _of_campaign(connection: Connection, row: Any) -> Uses:
    own = {Reference(Kind.SEGMENT, str(row.segment_id)), Reference(Kind.MESSAGE, str(row.message_id))}
    return own | references_of(CampaignPlan.model_validate(row.plan or {}))


def _of_offer(connection: Connection, row: Any) -> Uses:
    return set(references_of(read_terms(row.terms)))


def _of_saved_block(connection: Connection, row: Any) -> Uses:
    return set(references_of(EmailContent.model_validate({"blocks": [row.block]})))


def _of_letterhead(connection: Connection, row: Any) -> Uses:
    return {Reference(Kind.PICTURE, str(row.logo_id))} if row.logo_id is not None else set()


def _of_saved_view(connection: Connection, row: Any) -> Uses:
    own = {Reference(Kind.SEGMENT, str(row.segment_id))} if row.segment_id is not None else set()
    return own | (set(references_of(read_rule(row.rule))) if row.rule else set())


USERS: dict[type[Base], tuple[str, Callable[[Connection, Any], Uses], tuple[str, ...]]] = {
    Segment: ("segment", _of_segment, ("rule",)),
    Message: ("message", _of_message, ()),
    Sequence: ("sequence", _of_sequence, ("draft", "live_version_id", "archived_at")),
    Campaign: ("campaign", _of_campaign, ("segment_id", "message_id", "plan")),
    Offer: ("offer", _of_offer, ("terms",)),
    SavedBlock: ("saved block", _of_saved_block, ("block",)),
    Letterhead: ("letterhead", _of_letterhead, ("logo_id",)),
    SavedView: ("saved view", _of_saved_view, ("segment_id", "rule")),
}
"""Each kind of thing that can use others: its word, what it uses, and the columns that say so."""


@event.listens_for(Session, "after_flush")
def _follow(session: Session, _flush: UOWTransaction) -> None:
    for row in session.deleted:
        if type(row) in USERS:
            _replace(session.connection(), USERS[type(row)][0], row.id, set())
    for row in [*session.new, *session.dirty]:
        if isinstance(row, MessageVersion):
            message = Message.__table__.c
            kept = session.connection().execute(select(message.id).where(message.id == row.message_id)).one()
            _write(session.connection(), Message, kept)
        elif type(row) in USERS and _says_otherwise(session, row):
            _write(session.connection(), type(row), row)


def _says_otherwise(session: Session, row: Base) -> bool:
    """Whether what it uses may have changed; a tick that only moves a sequence's clock on changes nothing."""
    columns = USERS[type(row)][2]
    state = inspect(row)
    return row in session.new or any(state.attrs[name].history.has_changes() for name in columns)


def _write(connection: Connection, kind: type[Base], row: Any) -> None:
    word, uses_of, _ = USERS[kind]
    try:
        uses = uses_of(connection, row)
    except ValueError:
        log.warning("what this uses cannot be read", kind=word, number=row.id)
        return
    _replace(connection, word, row.id, uses)


def _replace(connection: Connection, word: str, user_id: int, uses: Iterable[Reference]) -> None:
    connection.execute(delete(TABLE).where(TABLE.c.user_kind == word, TABLE.c.user_id == user_id))
    rows = [
        {"user_kind": word, "user_id": user_id, "used_kind": kind.value, "used_key": key}
        for kind, key in sorted(uses)
    ]
    if rows:
        connection.execute(insert(TABLE), rows)


def rebuild(session: Session) -> None:
    """Makes the whole table anew; what cannot be read is left out and written to the log."""
    session.flush()
    connection = session.connection()
    connection.execute(delete(TABLE))
    for kind in USERS:
        for row in connection.execute(select(kind.__table__)).all():
            _write(connection, kind, row)


def all_users_of(session: Session, kind: Kind) -> list[tuple[str, str, int]]:
    """(key, kind of the user, its number) of everything of a kind that is used."""
    query = select(ReferenceRow.used_key, ReferenceRow.user_kind, ReferenceRow.user_id).where(
        ReferenceRow.used_kind == kind.value
    )
    return [(key, user, number) for key, user, number in session.execute(query)]


def users_of(session: Session, kind: Kind, key: int | str) -> list[tuple[str, int]]:
    """(kind, number) of everything that leans on it, in a lasting order."""
    rows = session.execute(
        select(ReferenceRow.user_kind, ReferenceRow.user_id)
        .where(ReferenceRow.used_kind == kind.value, ReferenceRow.used_key == str(key))
        .order_by(ReferenceRow.user_kind, ReferenceRow.user_id)
    )
    return [(user_kind, user_id) for user_kind, user_id in rows]
