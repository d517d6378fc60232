"""Passwords: how they are kept (argon2), and which are too easy to guess (``zxcvbn``, Wheeler, "zxcvbn:
Low-Budget Password Strength Estimation", USENIX Security 2016).
"""

import secrets
from collections.abc import Iterable
from functools import cache

from argon2 import PasswordHasher
from argon2.exceptions import InvalidHashError, VerificationError
from zxcvbn import zxcvbn

_hasher = PasswordHasher()
LEAST, MOST = 8, 200
LOOKED_AT = 72
"""Signs whose strength is worked out: more only makes it better, and takes long."""
LEAST_GUESSES = 1e6
"""Below it, a password falls to a patient guesser online (the same paper, section 5)."""


class WeakPassword(Exception):
    """What is wrong with a password that was chosen, in words."""


def hash_password(password: str) -> str:
    return _hasher.hash(password)


def holds(kept: str, password: str) -> bool:
    """Takes as long where nothing is kept (no such user, none chosen yet) as where it is."""
    try:
        return _hasher.verify(kept or _nobodys_hash(), password[:MOST]) and bool(kept)
    except (VerificationError, InvalidHashError):
        return False


@cache
def _nobodys_hash() -> str:
    return _hasher.hash(secrets.token_urlsafe(16))


def check_strength(password: str, about: Iterable[str] = ()) -> None:
    """``about``: the user's own name and email and the shop's name, which are guessed first. Raises
    ``WeakPassword``.
    """
    if len(password) < LEAST:
        raise WeakPassword(f"The password needs at least {LEAST} characters.")
    if len(password) > MOST:
        raise WeakPassword(f"The password may have at most {MOST} characters.")
    known = [word for text in about for word in (text, *text.replace("@", " ").split()) if word]
    if float(zxcvbn(password[:LOOKED_AT], user_inputs=known)["guesses"]) < LEAST_GUESSES:
        raise WeakPassword(
            "This password is among those that are guessed first. Take three or four words that do not"
            " belong together, such as a fruit, a tool and a town."
        )
