"""Money as integer minor units of an ISO 4217 currency."""

import re
import unicodedata
from functools import cache

from babel import Locale, UnknownLocaleError
from babel.numbers import format_currency, get_currency_precision

_GROUPED = re.compile(
    r"^\d{1,3}(?P<mark>[.,])\d{3}(?:(?P=mark)\d{3})*(?:(?!(?P=mark))[.,](?P<decimals>\d+))?$"
)
_PLAIN = re.compile(r"^([+-]?)(\d*)(?:\.(\d*))?$")


def minor_digits(currency: str) -> int:
    """How many decimals the currency has (ISO 4217, as the CLDR data in babel gives it)."""
    return int(get_currency_precision(currency))


def parse_money(text: str, digits: int, mark: str | None = None) -> int:
    """Minor units of an amount such as ``1,234.50``, ``1.234,50``, ``$12`` or ``(3.20)``.

    ``mark`` is the decimal mark, where it is known. Else the last of ``.`` and ``,`` is, when ``digits`` or
    fewer figures follow it; otherwise it groups thousands. Raises ``ValueError``.
    """
    cleaned = _without_currency(text).replace("−", "-")
    if cleaned.startswith("(") and cleaned.endswith(")"):
        cleaned = "-" + cleaned[1:-1]
    if cleaned.endswith("-"):
        cleaned = "-" + cleaned[:-1]
    found = _PLAIN.match(_marked(cleaned, mark) or _with_point(cleaned, digits))
    if not found or not (found[2] or found[3]):
        raise ValueError(f"“{text}” is not an amount")
    decimals = found[3] or ""
    if len(decimals.rstrip("0")) > digits:
        raise ValueError(f"“{text}” has more than {digits} decimals")
    minor: int = int(found[2] or "0") * 10**digits + int(decimals[:digits].ljust(digits, "0") or "0")
    return -minor if found[1] == "-" else minor


def _without_currency(text: str) -> str:
    """The figures: without blanks, the apostrophe of Swiss thousands, and the currency's sign or letters on
    either side.
    """
    # in Shift-JIS and the Korean code the yen and the won have the place of the backslash
    bare = "".join(c for c in text if not c.isspace() and c not in "'’\\" and unicodedata.category(c) != "Sc")
    bare = re.sub("^[△▲]", "-", bare)  # as Japanese books write what is owed
    bare = re.sub(r"[.,][-–—]+$", "", bare)  # as the Swiss write whole amounts
    return re.sub(r"^[^\W\d_]{1,4}\$?\.?(?=[-+(\d])|(?<=[\d),.-])[^\W\d_]{1,4}\.?$", "", bare)


def _marked(text: str, mark: str | None) -> str | None:
    """The amount with a point, by the decimal mark that is known; ``None`` where it does not fit."""
    if mark is None:
        return None
    other = re.escape("." if mark == "," else ",")
    fits = re.match(rf"^([+-]?(?:\d{{1,3}}(?:{other}\d{{3}})+|\d*))(?:{re.escape(mark)}(\d*))?$", text)
    if fits is None:
        return None
    return re.sub(other, "", fits[1]) + "." + (fits[2] or "")


def _with_point(text: str, digits: int) -> str:
    sign, figures = (text[:1], text[1:]) if text[:1] in "+-" else ("", text)
    grouped = _GROUPED.match(figures)
    if grouped and not _reads_as_decimals(figures, digits):
        whole = figures[: grouped.start("decimals") - 1] if grouped["decimals"] else figures
        return f"{sign}{re.sub('[.,]', '', whole)}.{grouped['decimals'] or ''}"
    return text.replace(",", ".")


def _reads_as_decimals(figures: str, digits: int) -> bool:
    """``1.234`` alone: a point before three figures groups nothing in English.

    With three decimals, nor does a comma.
    """
    marks = re.sub(r"\d", "", figures)
    return marks == "." or (marks == "," and digits >= 3)


def say_money(
    minor: int, currency: str, whole: bool = False, country: str = "US", language: str = "en"
) -> str:
    """``$1,204.50``, ``−$3.92``, in Germany ``1.204,50 €``; without decimals when ``whole``.

    As the ``language`` writes amounts in the ``country`` (CLDR, through babel).
    """
    amount, locale = minor / 10 ** minor_digits(currency), locale_of(country, language)
    said: str = format_currency(
        round(amount) if whole else amount,
        currency,
        locale=locale,
        currency_digits=not whole,
        format=_whole_pattern(locale) if whole else None,
    )
    return said.replace("-", "−")


@cache
def locale_of(country: str, language: str = "en") -> Locale:
    """How a language writes figures and dates in a country; American English where the CLDR knows neither."""
    for tag in (f"{language}_{country}", language):
        try:
            return Locale.parse(tag)
        except (UnknownLocaleError, ValueError):
            continue
    return Locale("en", "US")


@cache
def _whole_pattern(locale: Locale) -> str:
    return re.sub(r"\.0+", "", str(locale.currency_formats["standard"].pattern))
