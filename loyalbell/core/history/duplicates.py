"""Which people on file may be one and the same."""

import re
import unicodedata
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field
from difflib import SequenceMatcher
from itertools import combinations

CLOSE = 0.82
LARGEST_BLOCK = 30
REASONS = ("same email", "same phone", "same id", "close names at one address", "close names and one phone")


@dataclass(frozen=True)
class Record:
    """What two records are compared by. ``ids`` are the ids other programs know the person by."""

    person_id: int
    name: str
    email: str | None = None
    phone: str | None = None
    street: str | None = None
    postal_code: str | None = None
    ids: tuple[str, ...] = ()


@dataclass
class Pair:
    """Two people who may be one; ``low`` is the smaller id."""

    low: int
    high: int
    reasons: list[str] = field(default_factory=list)

    @property
    def strength(self) -> int:
        """Higher is likelier: an email or an id weighs more than a phone, that more than a name."""
        weights = dict(zip(REASONS, (4, 3, 4, 2, 3), strict=True))
        return sum(weights[reason] for reason in self.reasons)


def plain(text: str | None) -> str:
    """Small letters and figures only, without marks above letters."""
    parts = unicodedata.normalize("NFKD", re.sub("['’`.]", "", (text or "").casefold()))
    return " ".join(re.findall(r"\w+", "".join(c for c in parts if not unicodedata.combining(c))))


def close_names(one: str, other: str) -> bool:
    """Whether two names are nearly the same, whatever the order of their words.

    An empty name is close to none.
    """
    first, second = (" ".join(sorted(plain(name).split())) for name in (one, other))
    if not first or not second:
        return False
    return first == second or SequenceMatcher(None, first, second).ratio() >= CLOSE


def pairs(records: Iterable[Record]) -> list[Pair]:
    """Every pair with a reason, the likeliest first.

    Blocks of more than 30 people are a shared address, not a person.
    """
    found: dict[tuple[int, int], Pair] = {}
    everyone = list(records)
    for reason, blocks in (
        ("same email", _blocks(everyone, lambda one: [plain_email(one.email)])),
        ("same phone", _blocks(everyone, lambda one: [one.phone or ""])),
        ("same id", _blocks(everyone, lambda one: [value for value in one.ids if len(value) > 3])),
        ("close names at one address", _blocks(everyone, _address)),
    ):
        for block in blocks:
            _add_pairs(found, block, reason)
    return sorted(found.values(), key=lambda pair: (-pair.strength, pair.low, pair.high))


def plain_email(email: str | None) -> str:
    return (email or "").casefold()


def _address(one: Record) -> list[str]:
    street = plain(one.street)
    return [f"{street}|{plain(one.postal_code)}"] if street and one.postal_code else []


def _blocks(records: Iterable[Record], keys: object) -> Iterator[list[Record]]:
    by_key: dict[str, list[Record]] = {}
    for record in records:
        for key in keys(record):  # type: ignore[operator]
            if key:
                by_key.setdefault(key, []).append(record)
    yield from (block for block in by_key.values() if 1 < len(block) <= LARGEST_BLOCK)


def _add_pairs(found: dict[tuple[int, int], Pair], block: list[Record], reason: str) -> None:
    for one, other in combinations(sorted(block, key=lambda record: record.person_id), 2):
        if one.person_id == other.person_id:
            continue
        said = reason
        if reason == "same phone" and close_names(one.name, other.name):
            said = "close names and one phone"
        elif reason == "close names at one address" and not close_names(one.name, other.name):
            continue
        key = (one.person_id, other.person_id)
        pair = found.setdefault(key, Pair(*key))
        if said not in pair.reasons:
            pair.reasons.append(said)
