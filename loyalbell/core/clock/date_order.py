"""Whether a country writes the day before the month, for dates that could be read either way."""

from functools import cache

from babel import Locale, UnknownLocaleError


@cache
def writes_day_first(country: str) -> bool:
    """By the short dates of CLDR. Where they are ISO 8601 dates (``2026-05-12``), which nobody shortens, the
    day comes first. ``country`` is an ISO 3166 code; one that is unknown counts as day first.
    """
    try:
        pattern = str(Locale.parse(f"und_{country}").date_formats["short"].pattern)
    except (UnknownLocaleError, ValueError):
        return True
    return "-" in pattern or pattern.index("d") < pattern.index("M")
