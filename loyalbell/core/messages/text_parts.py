"""A text message as the network counts it: alphabet, units and parts (3GPP TS 23.038 and TS 23.040).

The basic alphabet of seven bits holds 160 septets in one message and 153 in each part of a
longer one; a character of its extension table takes two. Anything else makes the whole
message UCS-2: 70 units of 16 bits alone, 67 in each part. A pair is never parted.
"""

import unicodedata
from collections.abc import Iterable
from dataclasses import dataclass
from typing import Literal

BASIC = (
    "@£$¥èéùìòÇ\nØø\rÅåΔ_ΦΓΛΩΠΨΣΘΞÆæßÉ !\"#¤%&'()*+,-./0123456789:;<=>?"
    "¡ABCDEFGHIJKLMNOPQRSTUVWXYZÄÖÑÜ§¿abcdefghijklmnopqrstuvwxyzäöñüà"
)
EXTENSION = "\f^{}\\[~]|€"
GSM_7, UCS_2 = "GSM-7", "UCS-2"
ALONE = {GSM_7: 160, UCS_2: 70}
JOINED = {GSM_7: 153, UCS_2: 67}
_SEPTETS = dict.fromkeys(BASIC, 1) | dict.fromkeys(EXTENSION, 2)
_TWINS = {
    "‘": "'",
    "’": "'",
    "‚": "'",
    "‛": "'",
    "“": '"',
    "”": '"',
    "„": '"',
    "«": '"',
    "»": '"',
    "–": "-",
    "—": "-",
    "‐": "-",
    "‑": "-",
    "−": "-",
    "…": "...",
    "•": "-",
    "·": ".",
    "×": "x",
    "\u00a0": " ",
    "\u202f": " ",
    "\u2009": " ",
    "\u200b": "",
    "\ufeff": "",
    "\t": " ",
    "`": "'",
    "´": "'",
    "™": "(TM)",
    "©": "(c)",
    "®": "(R)",
    "½": "1/2",
    "¼": "1/4",
    "¾": "3/4",
    "ł": "l",
    "Ł": "L",
    "đ": "d",
    "Đ": "D",
}


@dataclass(frozen=True)
class Parts:
    """``units`` are septets or 16-bit units of the whole text; ``texts`` are the parts as they go out."""

    encoding: Literal["GSM-7", "UCS-2"]
    units: int
    units_per_part: int
    texts: tuple[str, ...]

    @property
    def parts(self) -> int:
        return len(self.texts)


@dataclass(frozen=True)
class Wide:
    """A character that makes the message UCS-2.

    ``twin`` is a plain one instead; ``None`` where there is none.
    """

    character: str
    at: int
    twin: str | None


def parts(text: str) -> Parts:
    """How the network takes this text; an empty text is one part."""
    encoding: Literal["GSM-7", "UCS-2"] = GSM_7 if all(one in _SEPTETS for one in text) else UCS_2  # type: ignore[assignment]
    sizes = [_size(one, encoding) for one in text]
    units = sum(sizes)
    if units <= ALONE[encoding]:
        return Parts(encoding, units, ALONE[encoding], (text,))
    return Parts(encoding, units, JOINED[encoding], tuple(_cut(text, sizes, JOINED[encoding])))


def _size(character: str, encoding: str) -> int:
    return _SEPTETS[character] if encoding == GSM_7 else 2 if ord(character) > 0xFFFF else 1


def _cut(text: str, sizes: list[int], most: int) -> Iterable[str]:
    begin = held = 0
    for at, size in enumerate(sizes):
        if held + size > most:
            yield text[begin:at]
            begin, held = at, 0
        held += size
    yield text[begin:]


def wide_characters(text: str) -> list[Wide]:
    """Each different character outside the seven-bit alphabet, in the order of its first place."""
    found: dict[str, Wide] = {}
    for at, one in enumerate(text):
        if one not in _SEPTETS and one not in found:
            found[one] = Wide(one, at, twin_of(one))
    return list(found.values())


def twin_of(character: str) -> str | None:
    """What says nearly the same in seven bits; ``None`` where nothing does."""
    if character in _TWINS:
        return _TWINS[character]
    plain = "".join(one for one in unicodedata.normalize("NFKD", character) if not unicodedata.combining(one))
    return plain if plain != character and plain and all(one in _SEPTETS for one in plain) else None


def with_twins(text: str) -> str:
    """The text with every plain twin there is."""
    twins = {wide.character: wide.twin for wide in wide_characters(text)}
    return "".join(one if twins.get(one) is None else str(twins[one]) for one in text)


@dataclass(frozen=True)
class Spread:
    """Parts over an audience: the fewest, the most, and how many people get each number of parts."""

    people: dict[int, int]
    wide: int

    @property
    def fewest(self) -> int:
        return min(self.people, default=0)

    @property
    def most(self) -> int:
        return max(self.people, default=0)

    @property
    def all_parts(self) -> int:
        return sum(parts * count for parts, count in self.people.items())


def spread(texts: Iterable[str]) -> Spread:
    """Of the text as each person gets it."""
    people: dict[int, int] = {}
    wide = 0
    for text in texts:
        found = parts(text)
        people[found.parts] = people.get(found.parts, 0) + 1
        wide += found.encoding == UCS_2
    return Spread(dict(sorted(people.items())), wide)
