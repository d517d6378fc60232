"""Tokens of pages that show or change what is on file: signed for that one purpose.

The token of a message stands in its pixel and in every link that is clicked; whoever sees one of those must
not reach the preferences page with it. So these pages ask for the token and a signature with the book's key.
Messages that left before there were signatures keep their links.
"""

import hashlib
import hmac
import secrets

from sqlalchemy import select
from sqlalchemy.orm import Session

from loyalbell.services.settings.channels import SettingsGroup
from loyalbell.storage.database import WRITES
from loyalbell.storage.schema import Delivery

PREFERENCES, KEEP, VIEW = "preferences", "keep", "view"
BETWEEN, LENGTH = ".", 16


class PageKey(SettingsGroup):
    """Made with the first message that is filled, and part of the book’s backups."""

    kept_as = "page key"
    key: str = ""


class SignedLinks(SettingsGroup):
    """``after``: deliveries up to this id may have left with links that are not signed."""

    kept_as = "signed links"
    after: int = 0


def page_token(session: Session, purpose: str, token: str) -> str:
    """What stands in the link. Without a key, where none can be made, the bare token, which opens nothing."""
    key = _key(session)
    return f"{token}{BETWEEN}{_signature(key, purpose, token)}" if key else token


def delivery_behind(session: Session, purpose: str, given: str) -> Delivery | None:
    """The message that a link belongs to; ``None`` where it was not signed for this purpose."""
    token, is_signed, signature = given.partition(BETWEEN)
    delivery = session.scalar(select(Delivery).where(Delivery.token == token))
    if delivery is None:
        return None
    if not is_signed:
        return delivery if delivery.id <= SignedLinks.load(session).after else None
    key = _key(session)
    if not key:
        return None
    right = _signature(key, purpose, token)
    return delivery if hmac.compare_digest(right.encode(), signature.encode("utf-8", "replace")) else None


def ensure_key(session: Session) -> None:
    """In the transaction before messages are made."""
    if not PageKey.load(session).key:
        PageKey(key=secrets.token_hex(32)).save(session)
        session.flush()


def _key(session: Session) -> str:
    if session.info.get(WRITES):
        ensure_key(session)
    return PageKey.load(session).key


def _signature(key: str, purpose: str, token: str) -> str:
    return hmac.new(key.encode(), f"{purpose}|{token}".encode(), hashlib.sha256).hexdigest()[:LENGTH]
