"""From the text of a cell to a day or a time."""

import re
import unicodedata
from collections.abc import Iterator
from datetime import UTC, date, datetime, time, timedelta
from functools import cache

from babel.dates import get_month_names

from loyalbell.core.clock.local_time import at_local
from loyalbell.storage.records.parsers import CellReader, Unreadable

_TIME = (
    r"(?:[ ,T]+(?:um |at |à |a las )?(\d{1,2})[:.h](\d{2})(?:[:.](\d{2})(?:[.,]\d+)?)?"
    r"\s*(?:([ap])\.?m\.?|uhr|h)?)?"
)
_NUMBERS = re.compile(r"^(\d{1,4})[/.\-](\d{1,2})[/.\-](\d{1,4})\.?" + _TIME + "$", re.I)
_CJK = re.compile(r"^(\d{4})年(\d{1,2})月(\d{1,2})日" + _TIME + "$", re.I)
_DAY_WORD = re.compile(
    r"^(\d{1,2})(?:st|nd|rd|th|er|º|\.)?[ \-/.]*(?:de |of )?([^\W\d_]{3,})\.?"
    r"(?:[ \-/.,]*(?:de |del )?'?(\d{4}|\d{2}))?,?" + _TIME + "$",
    re.I,
)
_WORD_DAY = re.compile(
    r"^([^\W\d_]{3,})\.?[ \-]*(\d{1,2})(?:st|nd|rd|th)?(?:[ ,\-]+'?(\d{4}))?,?" + _TIME + "$", re.I
)
_SERIAL = re.compile(r"^\d{4,5}(?:[.,]\d+)?$")
LANGUAGES = ("en", "de", "fr", "es", "it", "nl", "pt")
NOBODYS_YEARS = (1899, 1900, 1901)
"""Whose 1 January programs write where they have no date (common practice, no source)."""
Clock = tuple[str | None, ...]
NO_YEAR = 1904
"""Stands for a year that is not given; it has a 29 February."""
DAY = 86_400
NO_DATE = "is not a date"
HOW = "; write it like 2026-05-12 or 2026-05-12 09:40"


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
            raise Unreadable(text, f"lies in the year {moment.year}")
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
        if not (digits.isascii() and digits.isdecimal()) or hours > "23" or minutes > "59" or seconds > "59":
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
        without_year = re.match(r"^-{0,2}(\d{1,2})[/.\-](\d{1,2})\.?$", text)
        if without_year:
            first, second = int(without_year[1]), int(without_year[2])
            month, day = (second, first) if self.day_first and not text.startswith("--") else (first, second)
            try:
                date(2000, month, day)
            except ValueError:
                raise Unreadable(text, NO_DATE) from None
            return None, month, day
        moment = read_moment(text, self.day_first, earliest=1880)
        if moment.year in NOBODYS_YEARS and (moment.month, moment.day) == (1, 1):
            raise Unreadable(text, "stands for a date that is not known")
        year = None if moment.year <= NO_YEAR else moment.year
        is_short = re.search(r"\d{4}", text) is None
        if year is not None and self.this_year is not None and is_short and year > self.this_year:
            year -= 100
        return year, moment.month, moment.day


def read_moment(text: str, day_first: bool, earliest: int = 1954) -> datetime | date:
    """ISO 8601, ``5/12/2026 9:40 pm`` in the stated order, ``12 May 2026`` in some languages, or a
    spreadsheet's number of a day from the year ``earliest`` on. Raises ``Unreadable``.
    """
    text = unicodedata.normalize("NFKC", text).strip()
    try:
        return date.fromisoformat(text) if len(text) <= 10 else datetime.fromisoformat(text)
    except ValueError:
        pass
    if found := _NUMBERS.match(text):
        return _from_numbers(found, day_first, text)
    if found := _CJK.match(text):
        return _whole(int(found[1]), int(found[2]), int(found[3]), found.groups()[3:], text)
    if found := _DAY_WORD.match(text):
        return _from_words(found[1], found[2], found[3], found.groups()[3:], text)
    if found := _WORD_DAY.match(text):
        return _from_words(found[2], found[1], found[3], found.groups()[3:], text)
    if _SERIAL.match(text):
        return _from_serial(float(text.replace(",", ".")), text, earliest)
    raise Unreadable(text, NO_DATE, HOW)


def _from_serial(days: float, text: str, earliest: int) -> datetime | date:
    """The number of days since 30 December 1899 in which spreadsheets keep dates (ECMA-376, part 1,
    18.17.4.1), the time as its fraction.
    """
    moment = datetime(1899, 12, 30) + timedelta(seconds=round(days * DAY))  # noqa: DTZ001
    if not earliest <= moment.year <= 2119:
        raise Unreadable(text, NO_DATE, HOW)
    return moment.date() if moment.time() == time() else moment


@cache
def month_words() -> dict[str, int]:
    """Names of months, whole and short, in several languages (CLDR through babel), without accents."""
    found: dict[str, int] = {"sept": 9, "mrz": 3}
    for language in LANGUAGES:
        for width in ("wide", "abbreviated"):
            for context in ("format", "stand-alone"):
                for month, word in get_month_names(width, context, language).items():
                    found.setdefault(_plain_word(word), month)
    return found


def _plain_word(word: str) -> str:
    bare = "".join(c for c in unicodedata.normalize("NFD", word.casefold()) if not unicodedata.combining(c))
    return bare.strip(". ")


def _from_words(
    day: str, word: str, year: str | None, clock: tuple[str | None, ...], text: str
) -> datetime | date:
    month = month_words().get(_plain_word(word))
    if month is None:
        raise Unreadable(text, NO_DATE, HOW)
    return _whole(_year(year) if year else NO_YEAR, month, int(day), clock, text)


def _year(text: str) -> int:
    """Two digits mean 1970 to 2069 (POSIX, strptime: 69 to 99 are the last century's)."""
    year = int(text)
    return year if len(text) > 2 else year + (2000 if year < 69 else 1900)


def _whole(year: int, month: int, day: int, clock: Clock, text: str) -> datetime | date:
    hour, minute, second, half = clock
    try:
        found = date(year, month, day)
        if hour is None:
            return found
        hours = int(hour) % 12 + 12 * (half.lower() == "p") if half else int(hour)
        return datetime.combine(found, time(hours, int(minute or 0), int(second or 0)))
    except ValueError:
        raise Unreadable(text, NO_DATE) from None


def _from_numbers(found: re.Match[str], day_first: bool, text: str) -> datetime | date:
    first, second, third = int(found[1]), int(found[2]), int(found[3])
    if first > 31:
        year, month, day = first, second, third
    else:
        day, month = (first, second) if day_first else (second, first)
        year = _year(found[3])
    try:
        return _whole(year, month, day, found.groups()[3:], text)
    except Unreadable:
        order = "day first" if day_first else "month first"
        raise Unreadable(text, f"is not a date when read {order}") from None


def dates_in_figures(samples: list[str]) -> Iterator[tuple[int, int]]:
    """The first two figures of dates such as 5/12/2026."""
    for text in samples:
        found = _NUMBERS.match(text.strip())
        if found and int(found[1]) <= 31:
            yield int(found[1]), int(found[2])


def looks_day_first(samples: list[str], otherwise: bool) -> bool:
    """Whether dates written in figures put the day first, judged by a part above 12."""
    for first, second in dates_in_figures(samples):
        if first > 12:
            return True
        if second > 12:
            return False
    return otherwise
