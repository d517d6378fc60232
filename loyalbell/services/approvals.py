"""A second person's word before something large leaves: who may approve does so by sending it themselves,
from the page that shows what it does; whoever may not asks for it.
"""

from typing import Any, Literal

from pydantic import Field
from sqlalchemy import select

from loyalbell.services.accounts.permissions import Permission, may
from loyalbell.services.accounts.sessions import Visitor
from loyalbell.services.application import Application, UnitOfWork
from loyalbell.services.settings.channels import SettingsGroup, loaded
from loyalbell.storage.schema import ApprovalRequest

Kind = Literal["campaign", "sequence"]
LONGEST_WORDS = 500


class ApprovalSettings(SettingsGroup):
    """``people``: at once above so many needs it; ``None`` for never. ``publishing`` a sequence does."""

    kept_as = "approval"
    people: int | None = Field(default=None, ge=0, le=10_000_000)
    publishing: bool = False


def must_ask(application: Application, visitor: Visitor, people: int) -> bool:
    """Whether this person needs another to send to so many at once. Who is bound to departments always does
    for what goes to customers of the whole shop.
    """
    if may(visitor.role, Permission.APPROVE):
        return False
    most = loaded(application, ApprovalSettings).people
    return bool(visitor.departments) or (most is not None and people > most)


def must_ask_to_publish(application: Application, visitor: Visitor) -> bool:
    return not may(visitor.role, Permission.APPROVE) and loaded(application, ApprovalSettings).publishing


def ask(
    application: Application, kind: Kind, about: int, name: str, detail: dict[str, Any], visitor: Visitor
) -> ApprovalRequest:
    """A newer request takes the place of an older one about the same."""
    with application.database.transaction() as session:
        _close(session, application, kind, about, visitor.name or "", "asked again", "")
        request = ApprovalRequest(
            kind=kind,
            about_id=about,
            user_id=visitor.user_id,
            by=visitor.name or "",
            at=application.clock.now(),
            detail={"name": name} | detail,
            closed_by="",
            outcome="",
            words="",
        )
        session.add(request)
        session.flush()
        said = {key: value for key, value in detail.items() if key == "people"}
        application.note(session, visitor.name or "", "asked for approval", **{kind: name}, **said)
        return request


def newest(application: Application, kind: Kind, about: int) -> ApprovalRequest | None:
    """The newest request about it, open or closed."""
    query = (
        select(ApprovalRequest)
        .where(ApprovalRequest.kind == kind, ApprovalRequest.about_id == about)
        .order_by(ApprovalRequest.id.desc())
        .limit(1)
    )
    with application.database.reading() as session:
        return session.scalar(query)


def open_requests(session: UnitOfWork) -> list[ApprovalRequest]:
    query = select(ApprovalRequest).where(ApprovalRequest.closed_at.is_(None)).order_by(ApprovalRequest.id)
    return list(session.scalars(query))


def done(application: Application, kind: Kind, about: int, by: str) -> None:
    """It was sent or published: whatever was asked about it is settled."""
    with application.database.transaction() as session:
        for request in _close(session, application, kind, about, by, "approved", ""):
            application.note(session, by, "approved a request", **{kind: request.detail.get("name", "")})


def decline(
    application: Application, request_id: int, words: str, visitor: Visitor
) -> ApprovalRequest | None:
    """By who may approve; or taken back by who asked. Returns the request where it was still open."""
    with application.database.transaction() as session:
        request = session.get(ApprovalRequest, request_id)
        if request is None or request.closed_at is not None:
            return None
        outcome = "taken back" if request.user_id == visitor.user_id else "declined"
        by = visitor.name or ""
        _close(session, application, request.kind, request.about_id, by, outcome, words[:LONGEST_WORDS])
        application.note(
            session, by, f"{outcome} a request for approval", **{request.kind: request.detail.get("name", "")}
        )
        return request


def _close(
    session: UnitOfWork, application: Application, kind: str, about: int, by: str, outcome: str, words: str
) -> list[ApprovalRequest]:
    query = select(ApprovalRequest).where(
        ApprovalRequest.kind == kind,
        ApprovalRequest.about_id == about,
        ApprovalRequest.closed_at.is_(None),
    )
    found = list(session.scalars(query))
    for request in found:
        request.closed_at, request.closed_by = application.clock.now(), by
        request.outcome, request.words = outcome, words
    return found
