"""Tokens by which other programs sign in: made once, shown once, kept as a hash."""

import hashlib
import secrets
from collections.abc import Sequence
from datetime import timedelta

from sqlalchemy import select

from loyalbell.services.application import Application
from loyalbell.storage.schema import ApiToken

PREFIX = "lb_"
SCOPES = {
    "people": "write customers",
    "history": "write orders, visits, appointments, memberships and events",
    "catalogue": "write items",
    "read": "read customers",
    "sequences": "add customers to sequences",
}
SEEN_EVERY = timedelta(minutes=1)


class CannotMakeToken(Exception):
    """Why a token cannot be made, in words."""


def make_token(application: Application, name: str, scopes: Sequence[str], by: str) -> str:
    """The token itself, which is not kept and cannot be shown again. Raises ``CannotMakeToken``."""
    name = " ".join(name.split())
    chosen = [scope for scope in SCOPES if scope in scopes]
    if not 1 <= len(name) <= 80:
        raise CannotMakeToken("Say which program the token is for.")
    if not chosen:
        raise CannotMakeToken("Choose at least one thing that the program may do.")
    token = PREFIX + secrets.token_urlsafe(32)
    with application.database.transaction() as session:
        session.add(
            ApiToken(
                name=name,
                shown=token[:9],
                token_hash=_hash(token),
                scopes=chosen,
                made_at=application.clock.now(),
                by=by,
            )
        )
        application.note(session, by, "made a token", name=name, scopes=", ".join(chosen))
    return token


def _hash(token: str) -> str:
    """Tokens are long and random, so one round of SHA-256 is enough."""
    return hashlib.sha256(token.encode()).hexdigest()


def find_token(application: Application, token: str) -> ApiToken | None:
    """The token in use with that text, noting that it was used."""
    now = application.clock.now()
    with application.database.reading() as session:
        found = session.scalar(
            select(ApiToken).where(ApiToken.token_hash == _hash(token), ApiToken.revoked_at.is_(None))
        )
    if found is not None and (found.used_at is None or found.used_at + SEEN_EVERY <= now):
        with application.database.transaction() as session:
            session.get_one(ApiToken, found.id).used_at = now
    return found


def revoke(application: Application, token_id: int, by: str) -> None:
    with application.database.transaction() as session:
        token = session.get_one(ApiToken, token_id)
        if token.revoked_at is None:
            token.revoked_at = application.clock.now()
            application.note(session, by, "revoked a token", name=token.name)


def all_tokens(application: Application) -> list[ApiToken]:
    with application.database.reading() as session:
        return list(session.scalars(select(ApiToken).order_by(ApiToken.revoked_at.is_not(None), ApiToken.id)))
