"""Dates as messages say them."""

from datetime import date


def say_date(day: date) -> str:
    """``12 May``."""
    return f"{day.day} {day:%B}"
