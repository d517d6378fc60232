"""The links of one message of a campaign or sequence, and the email with who pressed what drawn on it."""

from dataclasses import dataclass
from typing import Annotated, Any, Literal
from urllib.parse import urlencode

from fastapi import APIRouter, Depends
from fastapi.responses import HTMLResponse, Response

from loyalbell.services.results.links import MessageLinks, links_of
from loyalbell.services.results.ranges import Days
from loyalbell.web.request import NotFound, RequestContext, SignedIn
from loyalbell.web.results.routes import Asked, days_asked
from loyalbell.web.results.views import Address

router = APIRouter()
Kind = Literal["campaign", "sequence"]


@dataclass(frozen=True)
class OfMessage:
    """Which message is meant: of what, and of a sequence at which step."""

    kind: Kind
    number: int
    step: str = ""
    writing: int = 0


def _found(context: RequestContext, of: OfMessage, asked: Asked) -> tuple[MessageLinks, Days]:
    days, _ = days_asked(context, asked)
    found = links_of(context.application, (of.kind, of.number), days, of.step, of.writing)
    if found is None:
        raise NotFound("Nothing of it was delivered in these days, so nobody could click a link.")
    return found, days


@router.get("/results/{kind}/{number}/links")
def links_page(
    of: Annotated[OfMessage, Depends()],
    asked: Annotated[Asked, Depends()],
    context: RequestContext = SignedIn,
) -> Response:
    """Which links were pressed, and by how many."""
    found, days = _found(context, of, asked)
    query = Address(days, "").link().partition("?")[2]
    back = f"/results/sequence/{of.number}" if of.kind == "sequence" else f"/results/{of.number}"
    here = f"/results/{of.kind}/{of.number}/links"
    writings = [
        (f"{here}?{urlencode({'step': of.step, 'writing': place})}&{query}", words, place == found.place)
        for place, words in enumerate(found.writings)
    ]
    frame = f"{here}/mail?{urlencode({'step': of.step, 'writing': found.place})}&{query}"
    values: dict[str, Any] = {
        "found": found,
        "days": days,
        "back": f"{back}?{query}",
        "frame": frame,
        "writings": writings,
    }
    return context.page("results/links.html", "results", **values)


@router.get("/results/{kind}/{number}/links/mail")
def drawn_mail(
    of: Annotated[OfMessage, Depends()],
    asked: Annotated[Asked, Depends()],
    context: RequestContext = SignedIn,
) -> Response:
    """The email alone in its frame."""
    found, _ = _found(context, of, asked)
    return HTMLResponse(found.html, headers={"X-Mail-Page": "yes"})
