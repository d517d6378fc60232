"""How figures, days and times are said on the pages."""

from datetime import UTC, date, datetime
from zoneinfo import ZoneInfo

from markupsafe import Markup, escape

from loyalbell.core.history.money import say_money
from loyalbell.storage.files.customers.custom_columns import day_triple
from loyalbell.storage.schema import Shop

MONTHS = "January February March April May June July August September October November December".split()


def say_day(day: date) -> str:
    """``Tue 12 May``."""
    return f"{day:%a} {day.day} {day:%b}"


def say_month(month: str) -> str:
    """``May 2026`` from ``2026-05``; other text as it is."""
    year, _, number = month.partition("-")
    return f"{MONTHS[int(number) - 1]} {year}" if number.isdecimal() and 1 <= int(number) <= 12 else month


def _say_date(day: date, other_year: bool) -> str:
    return f"{day.day} {day:%b %Y}" if other_year else say_day(day)


class Formatter:
    """Says things in the shop's zone and currency."""

    def __init__(self, shop: Shop | None, now: datetime) -> None:
        self.zone = ZoneInfo(shop.zone if shop else "UTC")
        self.currency = shop.currency if shop else "USD"
        self.country = shop.country if shop else "US"
        self.now = now

    def when(self, instant: datetime | None) -> Markup:
        """``Tue 12 May, 9:40``, with the exact instant as its tooltip."""
        if instant is None:
            return Markup("–")
        local = instant.astimezone(self.zone)
        other_year = local.year != self.now.astimezone(self.zone).year
        said = f"{_say_date(local.date(), other_year)}, {local.hour}:{local:%M}"
        return _time(local, said)

    def plain_when(self, instant: datetime) -> str:
        """``Wed 20 May, 10:00``, for a sentence or a button."""
        local = instant.astimezone(self.zone)
        other_year = local.year != self.now.astimezone(self.zone).year
        return f"{_say_date(local.date(), other_year)}, {local.hour}:{local:%M}"

    def hour(self, instant: datetime) -> str:
        """The time of day alone, as the shop's clock says it."""
        local = instant.astimezone(self.zone)
        return f"{local.hour}:{local:%M}"

    def day(self, instant: datetime | None) -> Markup:
        if instant is None:
            return Markup("–")
        local = instant.astimezone(self.zone)
        other_year = local.year != self.now.astimezone(self.zone).year
        return _time(local, _say_date(local.date(), other_year))

    def day_of(self, seconds: int) -> Markup:
        """The day of an instant in seconds since 1970."""
        return self.day(datetime.fromtimestamp(seconds, UTC))

    def plain_day(self, day: date | None) -> str:
        """``Tue 12 May``, with the year where it is not this one."""
        return "" if day is None else _say_date(day, day.year != self.now.astimezone(self.zone).year)

    def iso_day(self, instant: datetime) -> str:
        return instant.astimezone(self.zone).date().isoformat()

    @staticmethod
    def yearly(year: int | None, month: int | None, day: int | None) -> str:
        """``12 May 1990``, or ``12 May`` where the year is not known."""
        if not month or not day:
            return ""
        return f"{day} {MONTHS[month - 1]}" + (f" {year}" if year else "")

    @staticmethod
    def day_triple(year: int | None, month: int | None, day: int | None) -> str:
        """``1990-05-12`` or ``--05-12``, as a form takes it."""
        return day_triple(year, month, day) if month and day else ""

    def money(self, minor: int, whole: bool = False) -> str:
        return say_money(minor, self.currency, whole, self.country)


def _time(local: datetime, said: str) -> Markup:
    exact = f"{local:%Y-%m-%d %H:%M:%S %Z}"
    return Markup('<time datetime="{}" title="{}">{}</time>').format(local.isoformat(), exact, said)


def number(value: int) -> str:
    return f"{value:,}"


def signed(value: int) -> str:
    """``+318`` or ``−12``, with the sign of the trade for minus."""
    return f"{value:+,}".replace("-", "−") if value else "0"


def about(value: float) -> str:
    """A mean as one says it: ``33`` from 32.5, and ``2.5`` where it is below ten."""
    return f"{value:,.0f}" if value >= 10 else f"{value:.1f}" if value else "0"


def percent(share: float | None, digits: int = 0) -> str:
    """``38 %``, and ``–`` where there is no base."""
    return "–" if share is None else f"{100 * share:.{digits}f} %"


def people(count: int) -> str:
    return "1 person" if count == 1 else f"{count:,} people"


def phone(e164: str | None) -> str:
    if not e164:
        return ""
    if e164.startswith("+1") and len(e164) == 12:
        return f"({e164[2:5]}) {e164[5:8]}-{e164[8:]}"
    return e164


def settings_link(words: str) -> Markup:
    """A finding whose word *Settings* leads to the page where it is mended."""
    page = "/settings" if "sender address" in words or "mail server" in words else "/settings/channels"
    return escape(words).replace("in Settings", Markup('in <a href="{}">Settings</a>').format(page))


def with_breaks(text: str) -> Markup:
    return Markup("<br>").join(escape(line) for line in text.splitlines())
