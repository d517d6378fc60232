"""Signing in and out: argon2 passwords, sessions kept in the book, a CSRF token each."""

import hashlib
import hmac
import secrets
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from functools import cache

from argon2 import PasswordHasher
from argon2.exceptions import InvalidHashError, VerificationError
from sqlalchemy import delete, select

from loyalbell.services.accounts.failed_sign_ins import LONGEST_EMAIL
from loyalbell.services.application import Application
from loyalbell.storage.schema import Session, User

_hasher = PasswordHasher()
STAYS = timedelta(days=14)
LEAST_PASSWORD = 8
FAILED_ACT = "failed to sign in"


@dataclass(frozen=True)
class Visitor:
    """A browser's session; ``name`` is missing until somebody signs in."""

    csrf: str
    user_id: int | None
    name: str | None
    role: str | None


def hash_password(password: str) -> str:
    return _hasher.hash(password)


def _digest(token: str) -> str:
    return hashlib.sha256(token.encode()).hexdigest()


def real_now() -> datetime:
    """Sessions run out by the time of day, whatever the demo's clock says."""
    return datetime.now(UTC)


def new_session(application: Application, user_id: int | None = None) -> tuple[str, Visitor]:
    """A fresh session and the token its browser keeps."""
    token, csrf = secrets.token_urlsafe(32), secrets.token_urlsafe(32)
    with application.database.transaction() as session:
        session.execute(delete(Session).where(Session.expires_at < real_now()))
        session.add(
            Session(token_hash=_digest(token), csrf=csrf, user_id=user_id, expires_at=real_now() + STAYS)
        )
        user = session.get(User, user_id) if user_id else None
    return token, Visitor(csrf, user_id, user.name if user else None, user.role if user else None)


def find_session(application: Application, token: str | None) -> Visitor | None:
    """The visitor behind a token, or ``None`` when it is unknown or has run out."""
    if not token:
        return None
    query = (
        select(Session, User)
        .outerjoin(User, User.id == Session.user_id)
        .where(Session.token_hash == _digest(token), Session.expires_at > real_now())
    )
    with application.database.reading() as session:
        found = session.execute(query).first()
    if found is None:
        return None
    kept, user = found
    return Visitor(kept.csrf, kept.user_id, user.name if user else None, user.role if user else None)


def end_session(application: Application, token: str | None) -> None:
    with application.database.transaction() as session:
        session.execute(delete(Session).where(Session.token_hash == _digest(token or "")))


def csrf_holds(visitor: Visitor, given: str | None) -> bool:
    return hmac.compare_digest(visitor.csrf.encode(), (given or "").encode("utf-8", "replace"))


def check_password(application: Application, email: str, password: str) -> int | None:
    """The id of the user with this email and password, or ``None``."""
    with application.database.reading() as session:
        user = session.scalar(select(User).where(User.email == email.strip().lower()))
    try:
        _hasher.verify(user.password_hash if user else _nobodys_hash(), password)
    except (VerificationError, InvalidHashError):
        return None
    return user.id if user else None


@cache
def _nobodys_hash() -> str:
    """Checked where there is no such user, so that an answer takes as long as for one that is there."""
    return _hasher.hash(secrets.token_urlsafe(16))


def guest(token: str) -> Visitor:
    """Somebody who has not signed in: nothing of it is in the book. The form token follows from the cookie,
    which another site can neither read nor set.
    """
    return Visitor(_digest(f"guest {token}"), None, None, None)


def note_failure(application: Application, email: str, source: str) -> None:
    """Writes a wrong password into the log."""
    with application.database.transaction() as session:
        application.note(session, email.strip()[:LONGEST_EMAIL] or "nobody", FAILED_ACT, source=source)


def everyone(application: Application) -> list[User]:
    """All who may sign in, by name."""
    with application.database.reading() as session:
        return list(session.scalars(select(User).order_by(User.name)))
