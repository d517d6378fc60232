"""People as vCards (RFC 6350, and version 3.0, RFC 2426): in as rows of a table, out as version 4.0."""

import re
from collections.abc import Iterable, Iterator
from typing import Any

import vobject
from vobject.base import ParseError

from loyalbell.storage.files.tables.problems import FileProblem

HEADINGS = (
    "Customer ID",
    "First name",
    "Last name",
    "Email",
    "Mobile phone",
    "Language",
    "Time zone",
    "Birthday",
    "Street",
    "City",
    "Region",
    "Postal code",
    "Tags",
    "Anniversary (yearly)",
    "Note",
)
_BASIC_DATE = re.compile(r"^(\d{4})(\d{2})(\d{2})(T.*)?$")
_NO_YEAR = re.compile(r"^--(\d{2})-?(\d{2})(T.*)?$")


class Cards:
    """The cards of a file, each read by itself, so that a broken one costs nobody else.

    ``left_out`` says, once the rows are read, which could not be.
    """

    def __init__(self, text: str) -> None:
        self.text, self.left_out = text, list[str]()

    def rows(self) -> Iterator[list[str]]:
        """A heading row, then a row a card. Raises ``FileProblem`` where none can be read."""
        yield list(HEADINGS)
        some = False
        for number, (line, card) in enumerate(self._cards(), 1):
            row = self._read(number, line, card)
            if row is not None:
                some = True
                yield row
        if not some:
            raise FileProblem("The cards of this file cannot be read, not one of them. Export it again.")

    def _cards(self) -> Iterator[tuple[int, str]]:
        """Each card with the number of its first line. A card that has no end stops where the next begins."""
        start, lines = 0, list[str]()
        for number, line in enumerate(self.text.splitlines(), 1):
            word = line.strip().upper()
            if word == "BEGIN:VCARD" and lines:
                yield start, "\n".join(lines)
                lines = []
            if word == "BEGIN:VCARD":
                start = number
            if lines or word == "BEGIN:VCARD":
                lines.append(line)
            if word == "END:VCARD":
                yield start, "\n".join(lines)
                lines = []
        if lines:
            yield start, "\n".join(lines)

    def _read(self, number: int, line: int, card: str) -> list[str] | None:
        if not card:
            return None
        try:
            return _row(vobject.readOne(card + "\n", allowQP=True))
        except _UNREADABLE as error:
            near = line + (getattr(error, "lineNumber", None) or 1) - 1
            self.left_out.append(f"Card {number} could not be read, near line {near}, and is left out.")
            return None


_UNREADABLE = (ParseError, ValueError, AttributeError, IndexError, UnicodeError, StopIteration, TypeError)


def _row(card: Any) -> list[str]:
    first, last = _names(card)
    street, city, region, code = _address(card)
    return [
        _first(card, "uid").removeprefix("urn:uuid:"),
        first,
        last,
        _first(card, "email").removeprefix("mailto:"),
        _phone(card),
        _first(card, "lang"),
        _zone(card),
        _day(_first(card, "bday")),
        street,
        city,
        region,
        code,
        _tags(card),
        _day(_first(card, "anniversary")),
        _first(card, "note"),
    ]


def _preferred(card: Any, name: str) -> list[Any]:
    """The values of a property, the preferred ones first (PREF, or TYPE=pref in version 3.0)."""
    lines = card.contents.get(name, [])

    def rank(line: Any) -> int:
        pref = (line.params.get("PREF") or ["101"])[0]
        is_pref = "pref" in _types(line)
        return 0 if is_pref else int(pref) if str(pref).isdecimal() else 101

    return sorted(lines, key=rank)


def _types(line: Any) -> set[str]:
    return {one.casefold() for kind in line.params.get("TYPE", []) for one in str(kind).split(",")}


def _first(card: Any, name: str) -> str:
    found = _preferred(card, name)
    value = found[0].value if found else ""
    return " ".join(map(str, value)) if isinstance(value, list) else str(value).strip()


def _names(card: Any) -> tuple[str, str]:
    if "n" in card.contents:
        name = card.contents["n"][0].value
        given, family = (_plain(part) for part in (name.given, name.family))
        if given or family:
            return given, family
    whole = _first(card, "fn")
    if whole in ("?", _first(card, "email"), _first(card, "tel")):
        return "", ""
    given, _, family = whole.partition(" ")
    return given, family


def _plain(part: Any) -> str:
    return " ".join(part) if isinstance(part, list) else str(part or "")


def _phone(card: Any) -> str:
    """A mobile number where one is marked so, else the preferred number."""
    lines = _preferred(card, "tel")
    mobile = [line for line in lines if _types(line) & {"cell", "text", "mobile"}]
    if not lines:
        return ""
    return str((mobile or lines)[0].value).removeprefix("tel:").partition(";")[0]


def _zone(card: Any) -> str:
    zone = _first(card, "tz")
    return zone if "/" in zone else ""


def _address(card: Any) -> tuple[str, str, str, str]:
    lines = _preferred(card, "adr")
    if not lines:
        return "", "", "", ""
    found = lines[0].value
    street = ", ".join(part for part in (_plain(found.street), _plain(found.extended)) if part)
    return street, _plain(found.city), _plain(found.region), _plain(found.code)


def _day(text: str) -> str:
    """ISO 8601 in the extended form, or ``--MM-DD`` where the card names no year."""
    basic, no_year = _BASIC_DATE.match(text), _NO_YEAR.match(text)
    if basic:
        return "-".join(basic.groups()[:3])
    if no_year:
        return f"--{no_year[1]}-{no_year[2]}"
    return text.partition("T")[0]


def _tags(card: Any) -> str:
    found = []
    for line in card.contents.get("categories", []):
        found += line.value if isinstance(line.value, list) else [line.value]
    return "; ".join(str(one).replace(";", " ").strip() for one in found if str(one).strip())


def write_cards(rows: Iterable[dict[str, str]]) -> Iterator[str]:
    """Each customer, by the headings of the customers' export, as one vCard of version 4.0."""
    for row in rows:
        yield _card(row)


def _card(row: dict[str, str]) -> str:
    card = vobject.vCard()
    card.add("version").value = "4.0"
    first, last = row.get("First name", ""), row.get("Last name", "")
    card.add("fn").value = (
        " ".join(filter(None, (first, last))) or row.get("Email") or row.get("Mobile phone") or "?"
    )
    card.add("n").value = vobject.vcard.Name(given=first, family=last)
    for name, heading in (
        ("uid", "Customer ID"),
        ("email", "Email"),
        ("lang", "Language"),
        ("tz", "Time zone"),
    ):
        if row.get(heading):
            card.add(name).value = row[heading]
    if row.get("Mobile phone"):
        line = card.add("tel")
        line.value, line.type_param = row["Mobile phone"], "cell"
    if row.get("Birthday"):
        card.add("bday").value = _basic(row["Birthday"])
    if row.get("Anniversary (yearly)"):
        card.add("anniversary").value = _basic(row["Anniversary (yearly)"])
    if any(row.get(part) for part in ("Street", "City", "Region", "Postal code")):
        card.add("adr").value = vobject.vcard.Address(
            street=row.get("Street", ""),
            city=row.get("City", ""),
            region=row.get("Region", ""),
            code=row.get("Postal code", ""),
        )
    if row.get("Tags"):
        card.add("categories").value = [tag.strip() for tag in row["Tags"].split(";")]
    return str(card.serialize())


def _basic(day: str) -> str:
    return "--" + day[2:].replace("-", "") if day.startswith("--") else day.replace("-", "")
