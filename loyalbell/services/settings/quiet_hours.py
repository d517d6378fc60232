"""Quiet hours and closed days out of the shop's settings and its country's public holidays."""

from collections.abc import Iterable
from datetime import date
from functools import lru_cache

import holidays

from loyalbell.core.clock.send_windows import QuietHours
from loyalbell.core.clock.zones import day_number
from loyalbell.services.settings.channels import CareSettings
from loyalbell.storage.schema import Shop


def quiet_of(care: CareSettings, shop: Shop, years: Iterable[int]) -> QuietHours:
    """Quiet hours and closed days of the years."""
    closed = {day_number(day) for day in care.closed}
    if care.holidays:
        closed |= {day_number(day) for year in years for day in public_holidays(shop.country, year)}
    return QuietHours(care.quiet_begins, care.quiet_ends, frozenset(closed))


@lru_cache(maxsize=200)
def public_holidays(country: str, year: int) -> tuple[date, ...]:
    """The country's public holidays; none for a country that is not known."""
    try:
        return tuple(holidays.country_holidays(country, years=year))
    except NotImplementedError:
        return ()
