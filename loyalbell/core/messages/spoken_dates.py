"""Dates as messages say them."""

from datetime import date, datetime
from zoneinfo import ZoneInfo


def say_date(day: date) -> str:
    """``12 May``."""
    return f"{day.day} {day:%B}"


def say_instant(instant: datetime, now: datetime, zone: str) -> str:
    """``9:40`` on the same local day, else ``12 May, 9:40``."""
    local = instant.astimezone(ZoneInfo(zone))
    clock = f"{local.hour}:{local:%M}"
    is_today = local.date() == now.astimezone(ZoneInfo(zone)).date()
    return clock if is_today else f"{say_date(local.date())}, {clock}"
