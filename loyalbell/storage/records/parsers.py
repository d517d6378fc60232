"""From the text of a cell to a value. Every reader remembers what it has read before."""

import re
from collections.abc import Mapping
from datetime import UTC, date, datetime, time, timedelta
from typing import Any

import phonenumbers
from email_validator import EmailNotValidError, validate_email

from loyalbell.core.clock.local_time import at_local
from loyalbell.core.history.money import parse_money

_NUMBERS = re.compile(
    r"^(\d{1,4})[/.\-](\d{1,2})[/.\-](\d{1,4})(?:[ ,T]+(\d{1,2}):(\d{2})(?::(\d{2}))?\s*([ap]m)?)?$", re.I
)
_WORDED = ("%d %B %Y", "%d %b %Y", "%B %d %Y", "%b %d %Y", "%d %B", "%B %d")
YES = frozenset({"yes", "y", "true", "1", "agreed", "subscribed", "on", "opted in", "x"})
NO = frozenset({"no", "n", "false", "0", "refused", "unsubscribed", "off", "opted out"})


DAY = 86_400


class Bad:
    """A cell that cannot be used, and why."""

    __slots__ = ("reason",)

    def __init__(self, reason: str) -> None:
        self.reason = reason


class CellReader(dict[str, Any]):
    """Reads cells by ``reader[text]``; blank cells are ``None``, unusable ones ``Bad``."""

    MOST_KEPT = 200_000
    has_bad = False

    def read(self, text: str) -> Any:
        raise NotImplementedError

    def __missing__(self, text: str) -> Any:
        stripped = text if text.isalnum() else plain_cell(text)
        value: Any = None
        if stripped:
            try:
                value = self.read(stripped)
            except ValueError as error:
                value, self.has_bad = Bad(str(error)), True
        if len(self) >= self.MOST_KEPT:
            self.clear()
        self[text] = value
        return value


def plain_cell(text: str) -> str:
    """The cell without outer white space and without an apostrophe that guards a formula."""
    text = text.strip()
    guards = text[:1] == "'" and text[1:].lstrip()[:1] in ("=", "+", "-", "@")
    return text[1:].strip() if guards else text


class Text(CellReader):
    """Text of at most 2,000 characters, control characters taken out."""

    def read(self, text: str) -> str:
        if len(text) > 2_000:
            raise ValueError(f"a text of {len(text):,} characters is too long; at most 2,000")
        return text if text.isprintable() else "".join(c for c in text if c.isprintable() or c == "\n")


class Money(CellReader):
    """Minor units; ``least`` refuses amounts below it."""

    def __init__(self, digits: int) -> None:
        super().__init__()
        self.digits = digits

    def read(self, text: str) -> int:
        minor = parse_money(text, self.digits)
        if minor < 0:
            raise ValueError(
                f"“{text}” is negative; give money that went back as the status “refunded” or as a refund"
            )
        if minor > 10**13:
            raise ValueError(f"“{text}” is too large to be an amount")
        return minor


class Quantity(CellReader):
    """Thousandths of a unit; none at all is what a till writes for a charge or a discount line."""

    def read(self, text: str) -> int:
        try:
            thousandths = parse_money(text, 3)
        except ValueError:
            raise ValueError(f"“{text}” is not a quantity") from None
        if not 0 <= thousandths <= 10**12:
            raise ValueError(f"a quantity of {text} cannot be bought")
        return thousandths


class When(CellReader):
    """Seconds since 1970 of a time with an offset, a local time, or a plain local day."""

    def __init__(self, zone: str, day_first: bool) -> None:
        super().__init__()
        self.zone = zone
        self.day_first = day_first
        self._starts: dict[date, int | None] = {}
        self._iso_starts: dict[str, int] = {}

    def read(self, text: str) -> int:
        quick = self._quick(text)
        if quick is not None:
            return quick
        moment = read_moment(text, self.day_first)
        if not 1900 <= moment.year <= 2200:
            raise ValueError(f"“{text}” lies in the year {moment.year}")
        if isinstance(moment, datetime) and moment.tzinfo:
            instant = moment.astimezone(UTC)
        elif isinstance(moment, datetime):
            return self._local(moment)
        else:
            instant = at_local(moment, time(), self.zone)
        return int(instant.timestamp())

    def _quick(self, text: str) -> int | None:
        """``2026-05-12T09:40:00`` on a day of 24 hours that was read before."""
        start_of = self._iso_starts.get(text[:10])
        clock = text[11:]
        if start_of is None or len(clock) != 8 or clock[2] + clock[5] != "::" or text[10] not in "T ":
            return None
        digits = clock[:2] + clock[3:5] + clock[6:]
        hours, minutes, seconds = clock[:2], clock[3:5], clock[6:]
        if not (digits.isascii() and digits.isdigit()) or hours > "23" or minutes > "59" or seconds > "59":
            return None
        return start_of + int(hours) * 3600 + int(minutes) * 60 + int(seconds)

    def _local(self, moment: datetime) -> int:
        """Counts from the day's start where the day has 24 hours; asks the zone where the clocks change."""
        day = moment.date()
        if day not in self._starts:
            start, end = (
                int(at_local(d, time(), self.zone).timestamp()) for d in (day, day + timedelta(days=1))
            )
            self._starts[day] = start if end - start == DAY else None
            if end - start == DAY:
                self._iso_starts[day.isoformat()] = start
        start_of = self._starts[day]
        if start_of is None:
            return int(at_local(day, moment.time(), self.zone).timestamp())
        return start_of + moment.hour * 3600 + moment.minute * 60 + moment.second


class Birthday(CellReader):
    """(year or None, month, day). A year of two digits is the newest that is not after ``this_year``."""

    def __init__(self, day_first: bool, this_year: int | None = None) -> None:
        super().__init__()
        self.day_first, self.this_year = day_first, this_year

    def read(self, text: str) -> tuple[int | None, int, int]:
        without_year = re.match(r"^-{0,2}(\d{1,2})[/.\-](\d{1,2})$", text)
        if without_year:
            first, second = int(without_year[1]), int(without_year[2])
            month, day = (second, first) if self.day_first and not text.startswith("--") else (first, second)
            date(2000, month, day)
            return None, month, day
        moment = read_moment(text, self.day_first)
        year = None if moment.year <= 1904 else moment.year
        is_short = re.search(r"\d{4}", text) is None
        if year is not None and self.this_year is not None and is_short and year > self.this_year:
            year -= 100
        return year, moment.month, moment.day


def read_moment(text: str, day_first: bool) -> datetime | date:
    """ISO 8601, ``5/12/2026 9:40 pm`` in the stated order, or ``12 May 2026``. Raises ``ValueError``."""
    try:
        return date.fromisoformat(text) if len(text) <= 10 else datetime.fromisoformat(text)
    except ValueError:
        pass
    found = _NUMBERS.match(text)
    if found:
        return _from_numbers(found, day_first, text)
    worded = re.sub(r"(\d)(st|nd|rd|th)\b|[,.]", r"\1", text).strip()
    for pattern in _WORDED:
        try:
            base = worded if "%Y" in pattern else f"{worded} 1904"
            full = pattern if "%Y" in pattern else f"{pattern} %Y"
            return datetime.strptime(base, full).date()  # noqa: DTZ007
        except ValueError:
            continue
    raise ValueError(f"“{text}” is not a date; write it like 2026-05-12 or 2026-05-12 09:40")


def _from_numbers(found: re.Match[str], day_first: bool, text: str) -> datetime | date:
    first, second, third = int(found[1]), int(found[2]), int(found[3])
    if first > 31:
        year, month, day = first, second, third
    else:
        day, month = (first, second) if day_first else (second, first)
        year = third + 2000 if third < 100 else third
    try:
        whole = date(year, month, day)
        if not found[4]:
            return whole
        hour = int(found[4]) % 12 + 12 * (found[7].lower() == "pm") if found[7] else int(found[4])
        return datetime.combine(whole, time(hour, int(found[5]), int(found[6] or 0)))
    except ValueError:
        order = "day first" if day_first else "month first"
        raise ValueError(f"“{text}” is not a date when read {order}") from None


class Email(CellReader):
    """An address with its domain in lower case."""

    def read(self, text: str) -> str:
        try:
            return validate_email(text, check_deliverability=False).normalized
        except EmailNotValidError as error:
            raise ValueError(f"“{text}” is not an email address: {error}") from None


class Phone(CellReader):
    """A number in E.164."""

    def __init__(self, region: str) -> None:
        super().__init__()
        self.region = region

    def read(self, text: str) -> str:
        try:
            number = phonenumbers.parse(text, self.region)
        except phonenumbers.NumberParseException:
            raise ValueError(f"“{text}” is not a phone number") from None
        if not phonenumbers.is_possible_number(number):
            raise ValueError(f"“{text}” has too few or too many digits for a phone number")
        return phonenumbers.format_number(number, phonenumbers.PhoneNumberFormat.E164)


class YesNo(CellReader):
    def read(self, text: str) -> bool:
        known = text.casefold()
        if known in YES:
            return True
        if known in NO:
            return False
        raise ValueError(f"“{text}” is neither yes nor no")


def looks_day_first(samples: list[str], otherwise: bool) -> bool:
    """Whether dates written in figures put the day first, judged by a part above 12."""
    for text in samples:
        found = _NUMBERS.match(text.strip())
        if found and int(found[1]) <= 31:
            if int(found[1]) > 12:
                return True
            if int(found[2]) > 12:
                return False
    return otherwise


def values_of(
    readers: Mapping[str, CellReader], columns: Mapping[str, int], cells: list[str]
) -> dict[str, Any] | str:
    """What a row says under each of our names, blanks left out.

    Or why the first unusable cell cannot be used.
    """
    values: dict[str, Any] = {}
    for target, at in columns.items():
        value = readers[target][cells[at]] if at < len(cells) else None
        if isinstance(value, Bad):
            return value.reason
        if value is not None:
            values[target] = value
    return values
