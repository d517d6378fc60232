"""From the text of a cell to a value. Every reader remembers what it has read before."""

import re
import unicodedata
from collections.abc import Mapping
from types import MappingProxyType
from typing import Any

import phonenumbers
from email_validator import EmailNotValidError, validate_email

from loyalbell.core.history.money import parse_money

YES = frozenset(
    "yes,y,yeah,true,1,agreed,subscribed,on,ok,okay,x,✓,✔,opted in,opt in,ja,j,wahr,oui,o,vrai,si,sí,s,"
    "verdadero,sim,はい".split(",")
)
NO = frozenset(
    "no,n,false,0,refused,unsubscribed,off,opted out,opt out,nein,falsch,non,faux,falso,não,nee,いいえ,"
    "✗,✘".split(",")
)
BLANKS = frozenset(
    "- -- --- – — ? ?? ??? . n/a #n/a n.a. n.v. k.a. s/d null (null) nil none nan unknown unbekannt inconnu"
    " desconocido (blank) (leer) #value! #ref! #name? #wert! undefined 0000-00-00 00/00/0000 00.00.0000"
    " 0000-00-00T00:00:00".split()
) | {
    "keine",
    "kein",
    "keiner",
    "ninguno",
    "ninguna",
    "aucun",
    "aucune",
    "k. a.",
    "n. a.",
    "s. o.",
    "0000-00-00 00:00:00",
    "not given",
    "not known",
    "no email",
}
"""What people write into a cell to say that there is nothing (common practice, no source)."""
LONGEST_SHOWN = 60


class Unreadable(ValueError):
    """A cell that cannot be used. ``cause`` is what all such cells have in common: the sentence without
    the cell.
    """

    def __init__(self, value: str, cause: str, more: str = "") -> None:
        shown = value if len(value) <= LONGEST_SHOWN else value[:LONGEST_SHOWN] + "…"
        super().__init__(f"“{shown}” {cause}{more}")
        self.value, self.cause = value, cause


class Bad:
    """A cell that cannot be used: why, and what it holds."""

    __slots__ = ("cause", "reason", "value")

    def __init__(self, reason: str, cause: str = "", value: str = "") -> None:
        self.reason, self.cause, self.value = reason, cause or reason, value


class CellReader(dict[str, Any]):
    """Reads cells by ``reader[text]``; blank cells are ``None``, unusable ones ``Bad``."""

    MOST_KEPT = 200_000
    has_bad = False
    instead: Mapping[str, str] = MappingProxyType({})
    """What somebody said that a cell means, by its text in small letters; blank for nothing."""
    odd_is_blank = False

    def read(self, text: str) -> Any:
        raise NotImplementedError

    def __missing__(self, text: str) -> Any:
        stripped = text if text.isalnum() else plain_cell(text)
        if self.instead:
            stripped = self.instead.get(stripped.casefold(), stripped)
        value: Any = None
        if stripped and stripped.casefold() not in BLANKS:
            value = self._read(stripped)
        if len(self) >= self.MOST_KEPT:
            self.clear()
        self[text] = value
        return value

    def _read(self, text: str) -> Any:
        try:
            return self.read(text)
        except ValueError as error:
            return None if self.odd_is_blank else self._bad(error, text)

    def _bad(self, error: ValueError, text: str) -> Bad:
        self.has_bad = True
        if isinstance(error, Unreadable):
            return Bad(str(error), error.cause, error.value)
        return Bad(str(error), value=text)


def plain_cell(text: str) -> str:
    """The cell without outer white space and without an apostrophe that guards a formula."""
    text = text.strip()
    guards = text[:1] == "'" and text[1:].lstrip()[:1] in ("=", "+", "-", "@")
    return text[1:].strip() if guards else text


class Text(CellReader):
    """Text of at most 2,000 characters, control characters taken out."""

    def read(self, text: str) -> str:
        if len(text) > 2_000:
            raise Unreadable(text, "is too long a text", "; at most 2,000 characters")
        return text if text.isprintable() else "".join(c for c in text if c.isprintable() or c == "\n")


class Money(CellReader):
    """Minor units. ``mark`` is the file's decimal mark, where it is known."""

    def __init__(self, digits: int, mark: str | None = None) -> None:
        super().__init__()
        self.digits, self.mark = digits, mark

    def read(self, text: str) -> int:
        try:
            minor = parse_money(unicodedata.normalize("NFKC", text), self.digits, self.mark)
        except ValueError as error:
            decimals = "has more than" in str(error)
            cause = f"has more than {self.digits} decimals" if decimals else "is not an amount"
            raise Unreadable(text, cause) from None
        if minor < 0:
            raise Unreadable(
                text, "is negative", "; give money that went back as the status “refunded” or as a refund"
            )
        if minor > 10**13:
            raise Unreadable(text, "is too large to be an amount")
        return minor


class Quantity(CellReader):
    """Thousandths of a unit; none at all is what a till writes for a charge or a discount line."""

    def __init__(self, mark: str | None = None) -> None:
        super().__init__()
        self.mark = mark

    def read(self, text: str) -> int:
        plain = re.sub(r"\s*(x|×|pcs?|pieces?|stk|st|kg|g|l|ml|ud|uds|個)\.?$", "", text, flags=re.I)
        try:
            thousandths = parse_money(unicodedata.normalize("NFKC", plain), 3, self.mark)
        except ValueError:
            raise Unreadable(text, "is not a quantity") from None
        if not 0 <= thousandths <= 10**12:
            raise Unreadable(text, "cannot be a quantity that is bought")
        return thousandths


class Email(CellReader):
    """An address with its domain in lower case. Of several in one cell the first that is one."""

    def read(self, text: str) -> str:
        parts = [part for part in re.split(r"[;,/\s<>]+", text) if "@" in part]
        if len(parts) > 1 or (parts and "<" in text):
            for part in parts:
                try:
                    return self._one(part.removeprefix("mailto:"))
                except Unreadable:
                    continue
        return self._one(text.removeprefix("mailto:"))

    def _one(self, text: str) -> str:
        try:
            return validate_email(text, check_deliverability=False).normalized
        except EmailNotValidError as error:
            raise Unreadable(text, "is not an email address", f": {error}") from None


OF_FICTION = {
    44: re.compile(r"7700900\d{3}|1632960\d{3}|2079460\d{3}|808157\d{4}"),
    33: re.compile(r"63998\d{4}|[1-5](99|26191|35301|49100|53654)\d+"),
    61: re.compile(r"491570\d{3}|491571\d{3}|[2378]5550\d{4}|[2378]7010\d{4}"),
}
"""Numbers that regulators keep for films and examples, by country code: Ofcom, ARCEP and ACMA, which the
library's plan holds for unassigned (memory). 555-0100 to 555-0199 of North America are valid to it anyway.
"""


class Phone(CellReader):
    """A number in E.164 that could be somebody's. Of several in one cell the first that is one."""

    def __init__(self, region: str) -> None:
        super().__init__()
        self.region = region

    def read(self, text: str) -> str:
        text = unicodedata.normalize("NFKC", text)
        parts = [part for part in re.split(r"\s*(?:[;,|]|\s/\s|\bor\b|\boder\b|\bou\b)\s*", text) if part]
        for part in parts if len(parts) > 1 else ():
            try:
                return self._one(part)
            except Unreadable:
                continue
        return self._one(text)

    def _one(self, text: str) -> str:
        try:
            number = phonenumbers.parse(_whole_number(text), self.region)
        except phonenumbers.NumberParseException:
            raise Unreadable(text, "is not a phone number") from None
        if not phonenumbers.is_valid_number(number) and not _is_of_fiction(number):
            raise Unreadable(text, f"is not a phone number that exists{self._where(text)}")
        return phonenumbers.format_number(number, phonenumbers.PhoneNumberFormat.E164)

    def _where(self, text: str) -> str:
        return "" if text.lstrip().startswith(("+", "00")) else f" in {self.region}"


def _whole_number(text: str) -> str:
    """A number that a spreadsheet made a decimal of: ``2125550124.0``."""
    return text.removesuffix(".0")


def _is_of_fiction(number: phonenumbers.PhoneNumber) -> bool:
    known = OF_FICTION.get(number.country_code or 0)
    return known is not None and known.fullmatch(str(number.national_number)) is not None


class YesNo(CellReader):
    def read(self, text: str) -> bool:
        known = text.casefold()
        if known in YES:
            return True
        if known in NO:
            return False
        raise Unreadable(text, "is not yes or no")


def values_of(
    readers: Mapping[str, CellReader], columns: Mapping[str, int], cells: list[str]
) -> tuple[dict[str, Any], dict[str, Bad]]:
    """What a row says under each of our names, blanks left out; and the cells that cannot be used."""
    values: dict[str, Any] = {}
    bad: dict[str, Bad] = {}
    for target, at in columns.items():
        value = readers[target][cells[at]] if at < len(cells) else None
        if isinstance(value, Bad):
            bad[target] = value
        elif value is not None:
            values[target] = value
    return values, bad
