"""Which people on file may be one and the same."""

import re
import unicodedata
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field
from difflib import SequenceMatcher
from functools import cache, lru_cache
from itertools import combinations

import numpy as np
from nicknames import NickNamer
from rapidfuzz.distance import Indel
from rapidfuzz.process import cdist

CLOSE, ROUNDING = 0.82, 1e-3
LARGEST_BLOCK, FEW = 30, 3
BY_NAME = ("same phone", "close names at one address", "close names and one birthday")
MAILBOX = "one mailbox, written differently"
REASONS = (
    "same email",
    "same phone",
    "same id",
    "close names at one address",
    "close names and one phone",
    "close names and one birthday",
    MAILBOX,
)
WEIGHTS = (4, 3, 4, 2, 3, 2, 3)
DOTLESS = ("gmail.com", "googlemail.com")
"""Mail hosts for which dots before the @ mean nothing (common practice, no source)."""


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
    birthday: tuple[int, int, int] | None = None


@dataclass
class Pair:
    """Two people who may be one; ``low`` is the smaller id."""

    low: int
    high: int
    reasons: list[str] = field(default_factory=list)

    @property
    def strength(self) -> int:
        """Higher is likelier: an email or an id weighs more than a phone, that more than a name."""
        weights = dict(zip(REASONS, WEIGHTS, strict=True))
        return sum(weights[reason] for reason in self.reasons)


WORDS, UNWRITTEN = re.compile(r"\w+"), str.maketrans("", "", "'’`.")


def plain(text: str | None) -> str:
    """Small letters and figures only, without marks above letters."""
    said = (text or "").casefold().translate(UNWRITTEN)
    if not said.isascii():
        parts = unicodedata.normalize("NFKD", said)
        said = "".join(c for c in parts if not unicodedata.combining(c))
    return " ".join(WORDS.findall(said))


@lru_cache(maxsize=500_000)
def words_of(name: str) -> tuple[str, ...]:
    """The words of a name, whatever their order."""
    return tuple(sorted(plain(name).split()))


def close_names(one: str, other: str) -> bool:
    """Whether two names are nearly the same, whatever the order of their words, or the same but for a
    nickname (*Bill* and *William*).

    An empty name is close to none.
    """
    first, second = words_of(one), words_of(other)
    if not first or not second:
        return False
    if first == second or _nearly_the_same(" ".join(first), " ".join(second)):
        return True
    left, right = set(first) - set(second), set(second) - set(first)
    return len(left) == len(right) == 1 and len(first) > 1 and is_nickname(left.pop(), right.pop())


def _nearly_the_same(one: str, other: str) -> bool:
    """By the share of letters in matching runs (``difflib``). Those runs are a common subsequence, so that
    the longest one, which is found much quicker, tells most pairs apart.
    """
    if Indel.normalized_similarity(one, other) < CLOSE - ROUNDING:
        return False
    return SequenceMatcher(None, one, other).ratio() >= CLOSE


@cache
def _nicknames() -> NickNamer:
    return NickNamer()


def is_nickname(one: str, other: str) -> bool:
    """Whether one of two first names is a short form of the other, or both are of a third (English names,
    from the data of the package nicknames).
    """
    names = _nicknames()
    short, other_short = names.nicknames_of(one), names.nicknames_of(other)
    long, other_long = names.canonicals_of(one), names.canonicals_of(other)
    return other in short | long or one in other_short | other_long or bool(long & other_long)


def of_one_household(one: str, other: str) -> bool:
    """Whether two names that share a phone are two people: both have a first name, and they differ."""
    return len(words_of(one)) > 1 and len(words_of(other)) > 1 and not close_names(one, other)


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
        ("close names and one birthday", _blocks(everyone, _born)),
        (MAILBOX, _blocks(everyone, lambda one: [mailbox(one.email)])),
    ):
        for block in blocks:
            _add_pairs(found, block, reason)
    return sorted(found.values(), key=lambda pair: (-pair.strength, pair.low, pair.high))


def plain_email(email: str | None) -> str:
    return (email or "").casefold()


def mailbox(email: str | None) -> str:
    """An address without what does not name the mailbox: a tag after a plus, dots that the host ignores."""
    local, _, host = plain_email(email).partition("@")
    local = local.partition("+")[0]
    return f"{local.replace('.', '') if host in DOTLESS else local}@{host}" if host else ""


def _born(one: Record) -> list[str]:
    return ["-".join(map(str, one.birthday))] if one.birthday else []


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


def _worth_a_look(block: list[Record], reason: str) -> Iterator[tuple[Record, Record]]:
    """Pairs of a block in the order of ids; where the names decide, only those whose names may be close
    (or who may be one on a shared phone, having one name only).
    """
    ordered = sorted(block, key=lambda record: record.person_id)
    if reason not in BY_NAME or len(block) <= FEW:
        yield from combinations(ordered, 2)
        return
    words = [words_of(one.name) for one in ordered]
    said = [" ".join(one) for one in words]
    near = cdist(said, said, scorer=Indel.normalized_similarity, dtype=np.float32) >= CLOSE - ROUNDING
    by_rest: dict[frozenset[str], list[int]] = {}
    for at, mine in enumerate(words):
        for word in set(mine):
            by_rest.setdefault(frozenset(mine) - {word}, []).append(at)
    for alike in by_rest.values():  # all words but one: a nickname, perhaps
        if len(alike) > 1:
            near[np.ix_(alike, alike)] = True
    if reason == "same phone":
        short = np.array([len(one) < 2 for one in words])
        near |= short[:, None] | short[None, :]
    for one, other in zip(*np.nonzero(np.triu(near, 1)), strict=True):
        yield ordered[one], ordered[other]


def _add_pairs(found: dict[tuple[int, int], Pair], block: list[Record], reason: str) -> None:
    for one, other in _worth_a_look(block, reason):
        if one.person_id == other.person_id:
            continue
        said = reason
        if reason == "same phone":
            if of_one_household(one.name, other.name):
                continue
            said = "close names and one phone" if close_names(one.name, other.name) else reason
        elif (reason.startswith("close names") and not close_names(one.name, other.name)) or (
            reason == "one mailbox, written differently"
            and plain_email(one.email) == plain_email(other.email)
        ):
            continue
        key = (one.person_id, other.person_id)
        pair = found.setdefault(key, Pair(*key))
        if said not in pair.reasons:
            pair.reasons.append(said)
