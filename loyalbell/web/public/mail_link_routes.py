"""What customers reach from their mail, without signing in. Tokens name nobody in the clear."""

import re
from urllib.parse import urlsplit

from fastapi import APIRouter, Request
from fastapi.concurrency import run_in_threadpool
from fastapi.responses import RedirectResponse, Response

from loyalbell.services.delivery import engagement
from loyalbell.services.messages import gallery, letterheads
from loyalbell.services.response_queue import Opened
from loyalbell.web.public.pages import UNKNOWN, page
from loyalbell.web.request import NotFound, application_of

router = APIRouter()
MOST_TOKEN, MOST_AGENT = 64, 300
PIXEL = bytes.fromhex(
    "47494638396101000100800000000000ffffff21f90401000000002c00000000010001000002024401003b"
)


@router.get("/o/{token}.gif")
async def pixel(token: str, request: Request) -> Response:
    """Only gathered here, without a look at the book: after a campaign they come by the hundred a second."""
    responses = application_of(request).responses
    responses.put(Opened(token[:MOST_TOKEN], request.headers.get("user-agent", "")[:MOST_AGENT]))
    if not responses.is_served:
        await run_in_threadpool(responses.settle)
    return Response(PIXEL, media_type="image/gif", headers={"Cache-Control": "no-store"})


@router.get("/s/{token}/{link}")
@router.get("/l/{token}/{link}")
def follow(token: str, link: str, request: Request) -> Response:
    where = engagement.clicked(application_of(request), token, link)
    if where is None:
        raise NotFound(UNKNOWN)
    if (urlsplit(where).hostname or "").endswith(".example"):
        return page(request, "public/made_up_link.html", where=where)
    return RedirectResponse(where, status_code=302)


@router.get("/shop.css")
def shop_colours(request: Request) -> Response:
    """The colour of the shop's first letterhead, for customers' pages."""
    accent = letterheads.first_accent(application_of(request))
    colour = accent if accent and re.fullmatch(r"#[0-9a-f]{6}", accent) else "#173b39"
    text = (
        f".bar {{ --bar: {colour}; background: {colour}; }} .public .btn-act {{ background: {colour};"
        f" border-color: {colour}; color: #fff; }}"
    )
    return Response(text, media_type="text/css")


@router.get("/picture/{token}")
def picture(token: str, request: Request) -> Response:
    """A picture of the gallery, as mails show it."""
    found = gallery.picture_of(application_of(request), token)
    if found is None:
        raise NotFound("There is no such picture.")
    return Response(found.data, media_type=found.kind, headers={"Cache-Control": "public, max-age=86400"})


@router.get("/u/{token}")
def refusal_page(token: str, request: Request) -> Response:
    """Shows; only a press (or a mail program's one-click POST) acts, so that link checkers refuse nothing."""
    delivery = engagement.find_delivery(application_of(request), token)
    if delivery is None:
        raise NotFound(UNKNOWN)
    return page(
        request,
        "public/refusal.html",
        token=token,
        channel=delivery.channel,
        refused=_refused(request, token),
    )


def _refused(request: Request, token: str) -> bool:
    application = application_of(request)
    delivery = engagement.find_delivery(application, token)
    if delivery is None:
        return False
    newest = engagement.word_on_channel(application, delivery.person_id, delivery.channel)
    return newest == "refused"


@router.post("/u/{token}")
def refuse(token: str, request: Request) -> Response:
    """RFC 8058 one-click, and the press on the page alike: no sign-in, no cookie, no questions."""
    if not engagement.refuse(application_of(request), token):
        raise NotFound(UNKNOWN)
    return page(request, "public/refusal.html", token=token, channel=_channel(request, token), refused=True)


@router.post("/u/{token}/stay")
def stay(token: str, request: Request) -> Response:
    if not engagement.stay(application_of(request), token):
        raise NotFound(UNKNOWN)
    return page(
        request,
        "public/refusal.html",
        token=token,
        channel=_channel(request, token),
        refused=_refused(request, token),
    )


def _channel(request: Request, token: str) -> str:
    delivery = engagement.find_delivery(application_of(request), token)
    return delivery.channel if delivery else "email"
