"""What links to our own pages hold instead of anything about a person."""

import secrets
import string

SHORT_SIGNS = string.ascii_letters + string.digits
SHORT_LENGTH = 10


def new_token(channel: str) -> str:
    """Links hold this and nothing about the person: 128 random bits, or 60 in a text, where every sign is
    paid for.
    """
    if channel == "email":
        return secrets.token_hex(16)
    return "".join(secrets.choice(SHORT_SIGNS) for _ in range(SHORT_LENGTH))
