"""Dates as messages say them."""

from datetime import date, datetime
from zoneinfo import ZoneInfo


def say_date(day: date) -> str:
    """``12 May``."""
    return f"{day.day} {day:%B}"


def say_weekday(day: date) -> str:
    """``Tuesday 12 May``."""
    return f"{day:%A} {say_date(day)}"


def say_clock(local: datetime) -> str:
    """``9:40``, of an instant in its own zone."""
    return f"{local.hour}:{local:%M}"


def say_instant(instant: datetime, now: datetime, zone: str) -> str:
    """``9:40`` on the same local day, else ``12 May, 9:40``."""
    local = instant.astimezone(ZoneInfo(zone))
    clock = say_clock(local)
    is_today = local.date() == now.astimezone(ZoneInfo(zone)).date()
    return clock if is_today else f"{say_date(local.date())}, {clock}"
