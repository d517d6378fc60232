"""Customers' own pages, without signing in: preferences, staying on the list, an email in the browser,
sign-up, an offer.
"""

import io

import segno
from fastapi import APIRouter, Request
from fastapi.responses import HTMLResponse, Response
from starlette.datastructures import FormData

from loyalbell.core.offers.terms import say_benefit, say_terms, tidy_code
from loyalbell.services.customers import preference_centre, signing_up
from loyalbell.services.customers.asking import NotTaken
from loyalbell.services.offers import queries as offer_queries
from loyalbell.services.settings import sender_address
from loyalbell.services.translations import language_for
from loyalbell.web.public.pages import UNKNOWN
from loyalbell.web.public.pages import page as _page
from loyalbell.web.request import Form, NotFound, application_of

router = APIRouter()
TOO_MANY = "Too many people signed up from here within an hour. Try again later."


@router.get("/preferences/{token}")
def preferences(token: str, request: Request, saved: str = "") -> Response:
    return _preferences(token, request, saved=bool(saved))


def _preferences(
    token: str, request: Request, saved: bool = False, problem: NotTaken | None = None
) -> Response:
    chosen = preference_centre.choices(application_of(request), token)
    if chosen is None:
        raise NotFound(UNKNOWN)
    return _page(
        request,
        "public/preferences.html",
        token=token,
        chosen=chosen,
        saved=saved,
        problem=problem,
        often=preference_centre.OFTEN,
        pauses=preference_centre.PAUSES,
    )


@router.post("/preferences/{token}")
def choose(token: str, request: Request, form: FormData = Form) -> Response:
    try:
        if not preference_centre.choose(application_of(request), token, dict(form), lists_of(form)):
            raise NotFound(UNKNOWN)
    except NotTaken as problem:
        return _preferences(token, request, problem=problem)
    return _preferences(token, request, saved=True)


@router.get("/keep/{token}")
def keep_page(token: str, request: Request) -> Response:
    """Shows; only the press acts."""
    if preference_centre.choices(application_of(request), token) is None:
        raise NotFound(UNKNOWN)
    return _page(request, "public/keep.html", token=token, done=False)


@router.post("/keep/{token}")
def keep(token: str, request: Request) -> Response:
    if preference_centre.keep_on_list(application_of(request), token) is None:
        raise NotFound(UNKNOWN)
    return _page(request, "public/keep.html", token=token, done=True)


@router.get("/view/{token}")
def view(token: str, request: Request) -> Response:
    page = preference_centre.shown_again(application_of(request), token)
    if page is None:
        raise NotFound(UNKNOWN)
    return HTMLResponse(page, headers={"X-Mail-Page": "yes"})


@router.get("/sign-up")
def sign_up_page(request: Request) -> Response:
    return _sign_up(request, {})


def _sign_up(
    request: Request, form: dict[str, str], asked: bool = False, problem: NotTaken | None = None
) -> Response:
    questions, wording = signing_up.sign_up_form(application_of(request))
    return _page(
        request,
        "public/sign_up.html",
        asked=asked,
        problem=problem,
        form=form,
        questions=questions,
        wording=wording,
    )


def lists_of(form: FormData) -> dict[str, list[str]]:
    """All values of each field, for what may be ticked several times."""
    found: dict[str, list[str]] = {}
    for key, value in form.multi_items():
        if isinstance(value, str):
            found.setdefault(key, []).append(value[:300])
    return found


def _page_of(request: Request) -> str:
    """Where the form stood: here, or on the shop's own site."""
    return request.headers.get("Referer", "") or str(request.url)


@router.post("/sign-up")
def sign_up(request: Request, form: FormData = Form) -> Response:
    given = {key: str(value)[:300] for key, value in form.items()}
    if given.get("website"):  # a field that people do not see and machines fill in
        return _sign_up(request, given, asked=True)
    try:
        if request.app.state.sign_ups.take(request.client.host if request.client else ""):
            raise NotTaken(TOO_MANY)
        language = language_for(None, request.headers.get("accept-language", ""))
        signing_up.sign_up(application_of(request), given, lists_of(form), language, _page_of(request))
    except NotTaken as problem:
        return _sign_up(request, given, problem=problem)
    if request.app.state.heartbeat:
        request.app.state.heartbeat.wake()
    return _sign_up(request, given, asked=True)


@router.get("/confirm/{token}")
def confirm_page(token: str, request: Request) -> Response:
    """Shows; only the press confirms, so that link checkers confirm nothing."""
    return _page(request, "public/confirm.html", token=token, done=None)


@router.post("/confirm/{token}")
def confirm(token: str, request: Request) -> Response:
    done = signing_up.confirm(application_of(request), token)
    if done is None:
        raise NotFound(UNKNOWN)
    return _page(request, "public/confirm.html", token=token, done=done)


@router.get("/sender/{token}")
def sender_page(token: str, request: Request) -> Response:
    """Shows; only the press confirms."""
    return _sender(request, token, sender_address.waiting(application_of(request), token), done=False)


@router.post("/sender/{token}")
def confirm_sender(token: str, request: Request) -> Response:
    return _sender(request, token, sender_address.confirm(application_of(request), token), done=True)


def _sender(request: Request, token: str, address: str | None, done: bool) -> Response:
    if address is None:
        raise NotFound("This link is not the newest one. Ask for another in Settings, Channels.")
    return _page(request, "public/sender.html", token=token, address=address, done=done)


@router.get("/offer/{code}")
def offer(code: str, request: Request) -> Response:
    found = preference_centre.offer_shown(application_of(request), tidy_code(code) or "")
    if found is None:
        if code == offer_queries.SAMPLE_CODE:
            return _page(request, "public/offer.html", sample=True)
        raise NotFound(UNKNOWN)
    held, terms = found[0], offer_queries.terms_of(found[1])
    application = application_of(request)
    shop = application.the_shop()
    facts = offer_queries.shown_to_its_holder(application, found[1], held)
    said = say_benefit(terms, shop.currency, offer_queries.names_for_words(application), shop.country)
    return _page(
        request,
        "public/offer.html",
        sample=False,
        code=held,
        said=said,
        until=facts["until"],
        small_print=say_terms(terms, shop.currency, str(facts["until"] or ""), shop.country),
        why_not=offer_queries.why_not(held, application.clock.now(), shop.zone),
    )


@router.get("/offer/{code}/qr.png")
def qr(code: str) -> Response:
    """A QR code (ISO/IEC 18004) of the code itself, for the till."""
    if tidy_code(code) is None and code != offer_queries.SAMPLE_CODE:
        raise NotFound(UNKNOWN)
    out = io.BytesIO()
    segno.make(code, error="m").save(out, kind="png", scale=8, border=2)
    return Response(
        out.getvalue(), media_type="image/png", headers={"Cache-Control": "public, max-age=86400"}
    )
