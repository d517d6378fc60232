"""What is being written and not yet saved: kept as it is typed, until it is saved or thrown away."""

import hashlib
import json
from collections.abc import Mapping
from datetime import timedelta
from typing import Any, Literal

from sqlalchemy import Select, delete, select

from loyalbell.services.application import Application
from loyalbell.storage.schema import UnsavedDraft

Kind = Literal["message", "segment", "sequence"]
KEPT_FOR = timedelta(days=90)


def mark_of(saved: Mapping[str, Any]) -> str:
    """Stands for all that is saved of something; ``{}`` for what is new."""
    return hashlib.sha256(json.dumps(saved, sort_keys=True, default=str).encode()).hexdigest()[:24]


def note_typed(
    application: Application,
    user_id: int,
    kind: Kind,
    about: str,
    base: str,
    saved: Mapping[str, Any],
    typed: Mapping[str, Any],
) -> None:
    """Keeps ``typed`` while it differs from ``saved``.

    ``base`` is the mark of what the writer's page was opened with: words that come in after it was saved, or
    from a page that is older than that, are not kept, since they would undo it later.
    """
    before = _row(application, user_id, kind, about)
    finished = before is not None and before.content is None and about.startswith("new-")
    if base != mark_of(saved) or finished:
        return
    if dict(typed) == dict(saved):
        drop_typed(application, user_id, kind, about)
        return
    now = application.clock.now()
    with application.database.transaction() as session:
        session.execute(delete(UnsavedDraft).where(UnsavedDraft.at < now - KEPT_FOR))
        row = session.scalar(_of(user_id, kind, about))
        if row is None:
            row = UnsavedDraft(user_id=user_id, kind=kind, about=about)
            session.add(row)
        row.base, row.content, row.at = base, dict(typed), now


def typed_of(application: Application, user_id: int, kind: Kind, about: str) -> UnsavedDraft | None:
    row = _row(application, user_id, kind, about)
    return row if row is not None and row.content is not None else None


def all_typed(application: Application, user_id: int, kind: Kind) -> list[UnsavedDraft]:
    """The newest first."""
    query = select(UnsavedDraft).where(UnsavedDraft.user_id == user_id, UnsavedDraft.kind == kind)
    with application.database.reading() as session:
        found = session.scalars(query.order_by(UnsavedDraft.at.desc(), UnsavedDraft.id.desc()))
        return [one for one in found if one.content is not None]


def drop_typed(application: Application, user_id: int, kind: Kind, about: str) -> None:
    """It was saved, or thrown away."""
    if _row(application, user_id, kind, about) is None and not about.startswith("new-"):
        return
    with application.database.transaction() as session:
        row = session.scalar(_of(user_id, kind, about))
        if not about.startswith("new-"):
            if row is not None:
                session.delete(row)
            return
        if row is None:
            row = UnsavedDraft(user_id=user_id, kind=kind, about=about, base="")
            session.add(row)
        # the row stays, so that words still under way do not bring it back
        row.content, row.at = None, application.clock.now()


def _row(application: Application, user_id: int, kind: Kind, about: str) -> UnsavedDraft | None:
    with application.database.reading() as session:
        return session.scalar(_of(user_id, kind, about))


def _of(user_id: int, kind: Kind, about: str) -> Select[UnsavedDraft]:
    return select(UnsavedDraft).where(
        UnsavedDraft.user_id == user_id, UnsavedDraft.kind == kind, UnsavedDraft.about == about
    )
