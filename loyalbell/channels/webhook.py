"""Telling another program over HTTP, signed as Standard Webhooks 1.0 says (standardwebhooks.com)."""

import base64
import binascii
import hashlib
import hmac
import secrets
from dataclasses import dataclass

import httpcore

from loyalbell.channels.outward import NotOutside, post

ERRORS = (
    httpcore.NetworkError,
    httpcore.TimeoutException,
    httpcore.ProtocolError,
    httpcore.UnsupportedProtocol,
)
PREFIX = "whsec_"
SHOWN = 300


@dataclass(frozen=True)
class Answer:
    """``status`` is the answer's; ``None`` with a problem where there was none."""

    status: int | None
    problem: str | None

    @property
    def taken(self) -> bool:
        return self.status is not None and 200 <= self.status < 300


def new_secret() -> str:
    """24 random bytes, in base 64 behind ``whsec_``."""
    return PREFIX + base64.b64encode(secrets.token_bytes(24)).decode()


def signature(secret: str, message_id: str, timestamp: int, body: str) -> str:
    """``v1,`` and the HMAC-SHA256 of ``id.timestamp.body`` in base 64.

    Raises ``ValueError`` for no secret of ours.
    """
    try:
        key = base64.b64decode(secret.removeprefix(PREFIX), validate=True)
    except binascii.Error as error:
        raise ValueError("the secret is not base 64") from error
    signed = hmac.new(key, f"{message_id}.{timestamp}.{body}".encode(), hashlib.sha256)
    return "v1," + base64.b64encode(signed.digest()).decode()


def deliver(
    url: str, secret: str, message_id: str, timestamp: int, body: str, inside: bool = False
) -> Answer:
    """One attempt. Redirects are not followed: a webhook's address is the one that was entered. ``inside``
    allows one in our own network.
    """
    headers = {
        "Content-Type": "application/json",
        "User-Agent": "LoyalBell-Webhooks/1",
        "webhook-id": message_id,
        "webhook-timestamp": str(timestamp),
        "webhook-signature": signature(secret, message_id, timestamp, body),
    }
    try:
        found = post(url, headers, body.encode(), inside)
    except NotOutside as error:
        return Answer(None, f"Not sent: {error}. Add it anew and say that it is one of ours.")
    except (*ERRORS, OSError, ValueError) as error:
        return Answer(None, f"{type(error).__name__}: {error}"[:SHOWN])
    return Answer(found.status, None if 200 <= found.status < 300 else found.text[:SHOWN])
