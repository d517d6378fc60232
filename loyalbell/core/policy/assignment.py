"""Arms and held-back groups by a keyed hash: stable for a person, independent between sequences,
reproducible.
"""

from collections.abc import Sequence
from hashlib import blake2b

_PARTS = 10_000


def draw(key: str, person: int, about: str) -> int:
    """From 0 to 9,999, evenly; always the same for the same key, person and matter (BLAKE2b, RFC 7693)."""
    digest = blake2b(f"{person}:{about}".encode(), key=key.encode()[:64], digest_size=8).digest()
    return int.from_bytes(digest, "big") % _PARTS


def held_back(key: str, person: int, percent: int) -> bool:
    return bool(percent) and draw(key, person, "held back") < percent * 100


def held_back_among(key: str, people: Sequence[int], percent: int) -> list[bool]:
    """``held_back`` of many at once, faster: what does not depend on the person is made once."""
    if not percent:
        return [False] * len(people)
    begun, least = blake2b(key=key.encode()[:64], digest_size=8), percent * 100
    found = []
    for person in people:
        digest = begun.copy()
        digest.update(b"%d:held back" % person)
        found.append(int.from_bytes(digest.digest(), "big") % _PARTS < least)
    return found


def arm_of(key: str, person: int, step: str, shares: Sequence[int]) -> int:
    """The place of the arm whose share, of 100, the person falls into."""
    drawn, upto = draw(key, person, step), 0
    for at, share in enumerate(shares):
        upto += share * 100
        if drawn < upto:
            return at
    return len(shares) - 1


def uniform(key: str, person: int, about: str) -> float:
    """From 0 to below 1."""
    return draw(key, person, about) / _PARTS
