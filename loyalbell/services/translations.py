"""Customers' own pages in their language: gettext catalogues (PO files) beside this module, one a language.

Another language needs one more file. What a catalogue lacks is shown in English.
"""

from collections.abc import Callable, Mapping
from functools import cache
from pathlib import Path

from babel import Locale, UnknownLocaleError, negotiate_locale
from babel.dates import get_month_names
from babel.messages.pofile import read_po
from markupsafe import Markup, escape

FOLDER = Path(__file__).with_name("locale")
ENGLISH = "en"
Say = Callable[..., Markup]


@cache
def languages() -> tuple[str, ...]:
    """Those there is a catalogue of, and English."""
    return (ENGLISH, *sorted(file.stem for file in FOLDER.glob("*.po")))


@cache
def catalogue(language: str) -> Mapping[str, str]:
    """Translations by the English text."""
    if language == ENGLISH:
        return {}
    with (FOLDER / f"{language}.po").open("rb") as file:
        found = read_po(file, locale=language)
    return {str(message.id): str(message.string) for message in found if message.id and message.string}


def language_for(wanted: str | None, accepts: str) -> str:
    """The language of a person, where there is one on file that we have; else what their browser asks for."""
    if wanted and (language := _known(wanted)):
        return language
    asked = [part.partition(";")[0].strip() for part in accepts.split(",") if part.strip()][:20]
    found = negotiate_locale(asked, [*languages()], sep="-")
    return _known(found) or ENGLISH if found else next(filter(None, map(_known, asked)), ENGLISH)


def _known(tag: str) -> str | None:
    language = tag.replace("_", "-").split("-")[0].casefold()
    return language if language in languages() else None


@cache
def translator(language: str) -> Say:
    """Says an English text in a language, ``%(name)s`` filled; all of it is escaped for a page."""
    known = catalogue(language)

    def say(text: str, **values: object) -> Markup:
        translated = escape(known.get(text, text))
        return translated % values if values else translated

    return say


@cache
def month_names(language: str) -> list[str]:
    """January to December (CLDR through babel)."""
    try:
        names = get_month_names("wide", "stand-alone", Locale.parse(language))
    except (UnknownLocaleError, ValueError):
        names = get_month_names("wide", "stand-alone", Locale(ENGLISH))
    return [names[month] for month in range(1, 13)]
