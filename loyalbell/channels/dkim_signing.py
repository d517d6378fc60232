"""Signing a mail with DKIM (RFC 6376), by an RSA key."""

from base64 import b64encode

import dkim
from cryptography.hazmat.primitives.asymmetric import rsa
from cryptography.hazmat.primitives.serialization import (
    Encoding,
    NoEncryption,
    PrivateFormat,
    PublicFormat,
    load_pem_private_key,
)

LEAST_BITS, NEW_BITS = 1_024, 2_048
"""RFC 8301: signers use at least 1,024 bits, and should use 2,048."""

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
    """The mail with its signature in front. ``key`` is an RSA key as PEM. Raises ``BadKey``."""
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


def new_key() -> str:
    """A new RSA key as PEM."""
    made = rsa.generate_private_key(public_exponent=65_537, key_size=NEW_BITS)
    return made.private_bytes(Encoding.PEM, PrivateFormat.PKCS8, NoEncryption()).decode()


def public_key(key: str) -> str:
    """What the DNS holds of a key: Base64 of its public part in DER. Raises ``BadKey``."""
    try:
        loaded = load_pem_private_key(key.encode(), None)
    except (ValueError, TypeError) as error:
        raise BadKey("The DKIM key is not a private key as PEM without a password.") from error
    if not isinstance(loaded, rsa.RSAPrivateKey):
        # few mail servers check an Ed25519 signature (RFC 8463) yet, and a mail so signed counts as unsigned
        raise BadKey("The DKIM key is not an RSA key. Mail servers do not all check other kinds; use RSA.")
    if loaded.key_size < LEAST_BITS:
        raise BadKey(f"The DKIM key has {loaded.key_size} bits. Use one of {NEW_BITS:,}.")
    shown = loaded.public_key().public_bytes(Encoding.DER, PublicFormat.SubjectPublicKeyInfo)
    return b64encode(shown).decode()
