"""Countries, currencies and time zones to choose from, and what goes with a country."""

import json
from collections.abc import Mapping
from dataclasses import dataclass
from datetime import datetime
from functools import cache
from pathlib import Path
from zoneinfo import ZoneInfo, available_timezones

from babel import Locale
from babel.dates import format_date, format_time
from babel.numbers import format_currency, get_currency_name, get_territory_currencies

from loyalbell.core.history.money import locale_of

CITIES = Path(__file__).with_name("cities.json")
ENGLISH = Locale("en")
OTHER_CODES = {"UK": "GB", "EL": "GR"}
"""Codes that people know a country by, and its ISO code."""
DAYS = ("Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday")


@dataclass(frozen=True)
class City:
    name: str
    country: str
    zone: str


@cache
def cities() -> tuple[City, ...]:
    """Large cities, the largest first (GeoNames, CC BY 4.0; see ``scripts/make_cities.py``)."""
    known = available_timezones()
    rows = json.loads(CITIES.read_text(encoding="utf-8"))
    return tuple(City(*row) for row in rows if row[2] in known)


@cache
def countries() -> Mapping[str, str]:
    """Name by two-letter code (ISO 3166-1), by name, as the CLDR lists them."""
    named = {
        code: name
        for code, name in ENGLISH.territories.items()
        if len(code) == 2 and code.isalpha() and get_territory_currencies(code)
    }
    return dict(sorted(named.items(), key=lambda item: item[1]))


@cache
def currencies() -> Mapping[str, str]:
    """Name by code (ISO 4217) of those that are legal tender somewhere today, by name."""
    codes = {code for country in countries() for code in get_territory_currencies(country)}
    return dict(
        sorted(((code, get_currency_name(code, locale=ENGLISH)) for code in codes), key=lambda item: item[1])
    )


@cache
def currency_of(country: str) -> str:
    """What one pays with there, or an empty string."""
    known = get_territory_currencies(country)
    return known[-1] if known else ""


def example(country: str, currency: str, zone: str, now: datetime) -> str:
    """An amount, a day and a time as they are written there; empty while something is not known yet."""
    if country not in countries() or currency not in currencies() or zone not in available_timezones():
        return ""
    locale, local = locale_of(country), now.astimezone(ZoneInfo(zone))
    money = format_currency(1234.5, currency, locale=locale)
    day, clock = format_date(local, "full", locale=locale), format_time(local, "short", locale=locale)
    week = DAYS[locale.first_week_day]
    return f"It is {day}, {clock} there. Amounts look like {money}. Weeks begin on {week}."


def search_zones(text: str, most: int) -> list[City]:
    """Cities whose name, country or zone holds what was typed; those that begin with it first."""
    wanted = text.strip().casefold()
    if len(wanted) < 2:
        return []
    beginning, within = [], []
    for city in cities():
        name = city.name.casefold()
        other = (name, city.zone.casefold().replace("_", " "), countries().get(city.country, "").casefold())
        if name.startswith(wanted):
            beginning.append(city)
        elif any(wanted in words for words in other):
            within.append(city)
    return [*beginning, *within][:most]


def guess(zone: str, language: str) -> dict[str, str]:
    """``zone``, ``country`` and ``currency`` by what a browser says; empty where that is no place."""
    there = [city.country for city in cities() if city.zone == zone]
    if not there:
        return {}
    region = language.replace("_", "-").split("-")[-1].upper()
    country = region if region in there else there[0]
    return {"zone": zone, "country": country, "currency": currency_of(country)}


def zone_named(text: str) -> str:
    """A zone by its own name, or by that of a city; the text itself where neither is known."""
    wanted = text.strip()
    if wanted in available_timezones():
        return wanted
    plain = wanted.casefold()
    for city in cities():
        if plain in (city.name.casefold(), say_city(city).casefold()):
            return city.zone
    return next(
        (zone for zone in available_timezones() if zone.casefold() == plain.replace(" ", "_")), wanted
    )


def say_city(city: City) -> str:
    return f"{city.name}, {countries().get(city.country, city.country)}"
