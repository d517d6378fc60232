"""The shop's own fields: their kinds, reading what somebody writes into one, and saying it again."""

import math
import re
from collections.abc import Sequence
from datetime import datetime
from typing import Any

from loyalbell.storage.records.date_cells import read_moment
from loyalbell.storage.records.parsers import NO, YES, Unreadable
from loyalbell.storage.schema import CustomField

KINDS = ("text", "number", "yes or no", "date", "one choice", "several choices")
LONGEST = 2_000
_NUMBER = re.compile(r"^[+-]?\d{1,15}(\.\d{1,9})?$")


def read_field(field: CustomField, text: str, day_first: bool = False) -> Any:
    """The value that a text means in a field. Raises ``ValueError`` with the reason in words."""
    text = text.strip()
    if field.kind == "number":
        return _number(text)
    if field.kind == "yes or no":
        return _yes_or_no(text)
    if field.kind == "date":
        moment = read_moment(text, day_first)
        return (moment.date() if isinstance(moment, datetime) else moment).isoformat()
    if field.kind == "one choice":
        return _choice(field, text)
    if field.kind == "several choices":
        return _choices(field, [one.strip() for one in text.split(";") if one.strip()])
    if len(text) > LONGEST:
        raise ValueError(f"a text of {len(text):,} characters is too long; at most {LONGEST:,}")
    return text


def check_value(field: CustomField, value: Any) -> Any:
    """A value given as such (a number, a list, true or false) or as a text. Raises ``ValueError``."""
    if isinstance(value, str):
        return read_field(field, value)
    if field.kind == "yes or no" and isinstance(value, bool):
        return value
    if field.kind == "number" and isinstance(value, int | float) and not isinstance(value, bool):
        return _number(repr(value))
    if field.kind == "several choices" and isinstance(value, list):
        return _choices(field, [str(one) for one in value])
    raise ValueError(f"that is not a value of the kind “{field.kind}”")


def say_field(kind: str, value: Any) -> str:
    """A stored value as a text that ``read_field`` reads back to the same value."""
    if kind == "yes or no":
        return "yes" if value else "no"
    if kind == "several choices":
        return "; ".join(value)
    if kind == "number":
        return f"{value:.9f}".rstrip("0").rstrip(".") if isinstance(value, float) else str(value)
    return str(value)


def _number(text: str) -> int | float:
    plain = text.replace(",", "").replace(" ", "")
    if not _NUMBER.match(plain):
        raise Unreadable(text, "is not a number", "; write it like 12 or 12.5")
    value = float(plain)
    if not math.isfinite(value):
        raise Unreadable(text, "is not a number")
    return int(value) if value.is_integer() else value


def _yes_or_no(text: str) -> bool:
    if text.casefold() in YES:
        return True
    if text.casefold() in NO:
        return False
    raise Unreadable(text, "is not yes or no")


def _choice(field: CustomField, text: str) -> str:
    for choice in field.choices:
        if choice.casefold() == text.casefold():
            return str(choice)
    raise Unreadable(text, f"is not among the choices of {field.name}", f": {', '.join(field.choices)}")


def _choices(field: CustomField, texts: Sequence[str]) -> list[str]:
    return sorted({_choice(field, text) for text in texts}, key=str.casefold)
