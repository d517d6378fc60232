"""Where a shop is: what belongs together, found by a city or by the browser. Tells nothing of the shop, so
that the first day can ask it too.
"""

from datetime import UTC, datetime
from typing import Any

from fastapi import APIRouter, Request
from fastapi.responses import HTMLResponse, JSONResponse, Response
from markupsafe import Markup

from loyalbell.services.settings import places

router = APIRouter(prefix="/places")
SHOWN_CITIES = 12


@router.get("/zones")
def zones(zone: str = "") -> Response:
    """Options for a list: zones whose name or city begins with, or holds, what was typed."""
    option = Markup('<option value="{}">{}</option>')
    found = places.search_zones(zone, SHOWN_CITIES)
    return HTMLResponse(Markup("").join(option.format(place.zone, places.say_city(place)) for place in found))


@router.get("/guess")
def guess(zone: str = "", language: str = "") -> Response:
    """What the browser's zone and language tell: ``country``, ``currency`` and ``zone``, or nothing."""
    return JSONResponse(places.guess(zone, language))


@router.get("/example")
def example(request: Request, zone: str = "", currency: str = "", country: str = "") -> Response:
    """A sentence that shows a day and an amount as they will look."""
    words = places.example(country, currency.upper(), places.zone_named(zone), datetime.now(UTC))
    return HTMLResponse(Markup("{}").format(words))


def choices() -> dict[str, Any]:
    """What the chooser of a place needs."""
    return {
        "countries": places.countries(),
        "currencies": places.currencies(),
        "currency_of": {country: places.currency_of(country) for country in places.countries()},
    }
