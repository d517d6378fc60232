"""Signing a mail with DKIM (RFC 6376)."""

import dkim

HEADERS = [
    b"from",
    b"to",
    b"subject",
    b"date",
    b"message-id",
    b"mime-version",
    b"content-type",
    b"reply-to",
    b"list-unsubscribe",
    b"list-unsubscribe-post",
]


class BadKey(ValueError):
    """The key cannot be used, in words."""


def signed(mail: bytes, domain: str, selector: str, key: str) -> bytes:
    """The mail with its signature in front. ``key`` is an RSA or Ed25519 key as PEM. Raises ``BadKey``."""
    try:
        head = dkim.sign(
            mail,
            selector.encode(),
            domain.encode(),
            key.encode(),
            canonicalize=(b"relaxed", b"relaxed"),
            include_headers=HEADERS,
        )
    except (dkim.DKIMException, ValueError) as error:
        raise BadKey(f"The DKIM key in Settings cannot be used: {error}.") from error
    return bytes(head) + mail
