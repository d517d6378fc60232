"""Signing in and out: sessions kept in the book, a CSRF token each."""

import hashlib
import hmac
import secrets
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta

from sqlalchemy import delete, select

from loyalbell.services.accounts import passwords
from loyalbell.services.accounts.failed_sign_ins import LONGEST_EMAIL
from loyalbell.services.application import FROM_WHERE, Application, UnitOfWork
from loyalbell.storage.schema import Session, User

STAYS = timedelta(days=14)
WAITS_FOR_CODE = timedelta(minutes=10)
LONGEST_BROWSER = 200
FAILED_ACT = "failed to sign in"


@dataclass(frozen=True)
class Visitor:
    """A browser's session; ``name`` is missing until somebody signs in. ``departments`` are ids of those that
    the person is bound to; none for all.
    """

    csrf: str
    user_id: int | None
    name: str | None
    role: str | None
    departments: tuple[int, ...] = ()
    session_id: int = 0


def digest(token: str) -> str:
    return hashlib.sha256(token.encode()).hexdigest()


def real_now() -> datetime:
    """Sessions run out by the time of day, whatever the demo's clock says."""
    return datetime.now(UTC)


def new_session(
    application: Application, user_id: int, waits_for_code: bool = False, browser: str = ""
) -> tuple[str, Visitor]:
    """A fresh session and the token its browser keeps."""
    token, csrf, now = secrets.token_urlsafe(32), secrets.token_urlsafe(32), real_now()
    with application.database.transaction() as session:
        session.execute(delete(Session).where(Session.expires_at < now))
        row = Session(
            token_hash=digest(token),
            csrf=csrf,
            user_id=user_id,
            made_at=now,
            expires_at=now + (WAITS_FOR_CODE if waits_for_code else STAYS),
            source=FROM_WHERE.get(),
            browser=browser[:LONGEST_BROWSER],
            waits_for_code=waits_for_code,
        )
        session.add(row)
        session.flush()
        user = session.get_one(User, user_id)
        if not waits_for_code:
            application.note(session, user.name, "signed in")
        return token, _visitor(row, user)


def _visitor(kept: Session, user: User) -> Visitor:
    return Visitor(kept.csrf, user.id, user.name, user.role, tuple(user.departments), kept.id)


def find_session(application: Application, token: str | None, waits_for_code: bool = False) -> Visitor | None:
    """The visitor behind a token, or ``None`` when it is unknown or has run out, or its user's access has
    ended.
    """
    if not token:
        return None
    query = (
        select(Session, User)
        .join(User, User.id == Session.user_id)
        .where(
            Session.token_hash == digest(token),
            Session.expires_at > real_now(),
            Session.waits_for_code.is_(waits_for_code),
            User.ended_at.is_(None),
        )
    )
    with application.database.reading() as session:
        found = session.execute(query).first()
    return _visitor(*found) if found else None


def sessions_of(application: Application, user_id: int) -> list[Session]:
    """Where somebody is signed in, the newest first."""
    query = (
        select(Session)
        .where(Session.user_id == user_id, Session.expires_at > real_now(), ~Session.waits_for_code)
        .order_by(Session.id.desc())
    )
    with application.database.reading() as session:
        return list(session.scalars(query))


def end_sessions(session: UnitOfWork, user_id: int, but: int | None = None, only: int | None = None) -> None:
    """All of a user's; ``but`` one that stays, or ``only`` one."""
    ending = delete(Session).where(Session.user_id == user_id)
    if but is not None:
        ending = ending.where(Session.id != but)
    if only is not None:
        ending = ending.where(Session.id == only)
    session.execute(ending)


def end_session(application: Application, token: str | None) -> None:
    with application.database.transaction() as session:
        session.execute(delete(Session).where(Session.token_hash == digest(token or "")))


def csrf_holds(visitor: Visitor, given: str | None) -> bool:
    return hmac.compare_digest(visitor.csrf.encode(), (given or "").encode("utf-8", "replace"))


def check_password(application: Application, email: str, password: str) -> int | None:
    """The id of the user with this email and password whose access has not ended, or ``None``."""
    with application.database.reading() as session:
        user = session.scalar(
            select(User).where(User.email == email.strip().lower(), User.ended_at.is_(None))
        )
    right = passwords.holds(user.password_hash if user else "", password)
    return user.id if user and right else None


def guest(token: str) -> Visitor:
    """Somebody who has not signed in: nothing of it is in the book. The form token follows from the cookie,
    which another site can neither read nor set.
    """
    return Visitor(digest(f"guest {token}"), None, None, None)


def note_failure(application: Application, email: str) -> None:
    """Writes a wrong password into the log."""
    with application.database.transaction() as session:
        application.note(session, email.strip()[:LONGEST_EMAIL] or "nobody", FAILED_ACT)


def note_sign_out(application: Application, name: str) -> None:
    with application.database.transaction() as session:
        application.note(session, name, "signed out")


def everyone(application: Application) -> list[User]:
    """All who may sign in or have been invited to, by name."""
    with application.database.reading() as session:
        return list(session.scalars(select(User).where(User.ended_at.is_(None)).order_by(User.name)))
