"""Offers: their terms, what they cost, and the till page that finds a code, explains it and uses it once."""

from datetime import timedelta
from typing import Any

from fastapi import APIRouter
from fastapi.responses import HTMLResponse, Response
from pydantic import ValidationError
from starlette.datastructures import FormData

from loyalbell.core.history.money import minor_digits, parse_money
from loyalbell.core.offers.terms import (
    Line,
    OfferProblem,
    Terms,
    expires,
    given,
    read_terms,
    say_benefit,
    say_terms,
)
from loyalbell.services.catalogue import queries as catalogue_queries
from loyalbell.services.offers import commands as offer_commands
from loyalbell.services.offers import queries as offer_queries
from loyalbell.storage.schema import Offer
from loyalbell.web.request import Form, NotFound, RequestContext, SignedIn, number_of, text_of

router = APIRouter()
SHOWN_CODES = 50


@router.get("/offers")
def list_page(context: RequestContext = SignedIn) -> Response:
    shop, known = context.application.the_shop(), offer_queries.names_for_words(context.application)
    rows = []
    for offer, figures in offer_queries.with_figures(context.application):
        terms = offer_queries.terms_of(offer)
        benefit = say_benefit(terms, shop.currency, known, shop.country)
        small_print = say_terms(terms, shop.currency, country=shop.country)
        rows.append((offer, benefit, small_print, figures))
    return context.page("offers/offers.html", "messages", rows=rows)


@router.get("/offers/new")
def new(context: RequestContext = SignedIn) -> Response:
    return _editor(context, None, "", Terms(days=30))


@router.get("/offers/{offer_id}")
def edit(offer_id: int, context: RequestContext = SignedIn, saved: str = "") -> Response:
    offer = context.application.find(Offer, offer_id)
    if offer is None:
        raise NotFound("No such offer is on file.")
    return _editor(context, offer, offer.name, offer_queries.terms_of(offer), saved=bool(saved))


def _editor(
    context: RequestContext,
    offer: Offer | None,
    name: str,
    terms: Terms,
    problem: str | None = None,
    saved: bool = False,
) -> Response:
    application, shop = context.application, context.application.the_shop()
    values: dict[str, Any] = {
        "items": catalogue_queries.item_names(application),
        "departments": catalogue_queries.department_names(application),
        "categories": catalogue_queries.categories(application),
        "figures": offer_queries.figures_of(application, offer) if offer else None,
        "codes": offer_queries.newest_codes(application, offer.id, SHOWN_CODES) if offer else [],
    }
    values |= {
        "offer": offer,
        "name": name,
        "terms": terms,
        "problem": problem,
        "saved": saved,
        **_reading(context, terms),
        "money": lambda minor: f"{minor / 10 ** minor_digits(shop.currency):.2f}" if minor else "",
    }
    return context.page("offers/offer.html", "messages", 422 if problem else 200, **values)


def _reading(context: RequestContext, terms: Terms) -> dict[str, Any]:
    """What these terms say, until when a code given now would hold, and what it is worth on a usual
    purchase.
    """
    now, shop = context.application.clock.now(), context.application.the_shop()
    until = expires(terms, now, shop.zone)
    known = offer_queries.names_for_words(context.application)
    usual = offer_queries.usual_purchase(context.application)
    whole = terms.whole and terms.kind != "item" and usual
    worth = given(terms, [Line(usual)]) if whole else None
    return {
        "said": say_benefit(terms, shop.currency, known, shop.country),
        "small_print": say_terms(terms, shop.currency, country=shop.country),
        "last_day": until - timedelta(seconds=1) if until else None,
        "usual": usual,
        "worth": worth,
        "unclear": "",
    }


@router.post("/offers/reading")
def reading(context: RequestContext = SignedIn, form: FormData = Form) -> Response:
    """The rail while one types."""
    try:
        values = _reading(context, _terms_from(context, form))
    except (OfferProblem, ValidationError) as problem:
        values = {"unclear": str(problem)}
    return HTMLResponse(context.piece("offers/reading.html", **values))


def _terms_from(context: RequestContext, form: FormData) -> Terms:
    """Raises ``OfferProblem``."""
    digits = minor_digits(context.application.the_shop().currency)

    def money(name: str) -> int | None:
        text = text_of(form, name).strip()
        try:
            return parse_money(text, digits) if text else None
        except ValueError as error:
            raise OfferProblem(f"{error}. Write amounts like 12.50.") from error

    kind = text_of(form, "kind", "percent")
    data: dict[str, Any] = {
        "kind": kind,
        "percent": number_of(form, "percent") if kind == "percent" else 10,
        "amount": money("amount") or 0 if kind == "amount" else 0,
        "item": number_of(form, "item") if kind == "item" else None,
        "least": money("least") or 0,
        "most": money("most"),
        "days": number_of(form, "days"),
        "until": text_of(form, "until") or None,
        "uses": number_of(form, "uses") or 1,
        "departments": [int(str(one)) for one in form.getlist("departments") if str(one).isdecimal()],
        "categories": [str(one) for one in form.getlist("categories")],
        "items": [int(str(one)) for one in form.getlist("items") if str(one).isdecimal()],
    }
    return read_terms(data)


@router.post("/offers")
def save(context: RequestContext = SignedIn, form: FormData = Form) -> Response:
    try:
        kept = offer_commands.keep(
            context.application,
            number_of(form, "offer_id"),
            text_of(form, "name"),
            _terms_from(context, form),
            context.by,
        )
    except (OfferProblem, ValidationError) as problem:
        return context.problem(str(problem))
    return context.go(f"/offers/{kept}?saved=yes")


@router.post("/offers/{offer_id}/archive")
def archive(offer_id: int, context: RequestContext = SignedIn, form: FormData = Form) -> Response:
    offer_commands.archive(context.application, offer_id, text_of(form, "away") == "1", context.by)
    return context.go("/offers")


@router.get("/till")
def till(context: RequestContext = SignedIn, code: str = "") -> Response:
    return _till(context, code)


def _till(context: RequestContext, typed: str, problem: str | None = None, done: Any = None) -> Response:
    found: dict[str, Any] = {"code": None}
    if typed.strip() and done is None:
        try:
            found = _look_up(context, typed)
        except offer_queries.CannotRedeem as words:
            problem = problem or str(words)
    values = {"typed": typed, "problem": problem, "done": done} | found
    return context.page("offers/till.html", "messages", 422 if problem else 200, **values)


def _look_up(context: RequestContext, typed: str) -> dict[str, Any]:
    shop = context.application.the_shop()
    found = offer_queries.look_up(context.application, typed)
    terms, known = offer_queries.terms_of(found.offer), offer_queries.names_for_words(context.application)
    return {
        "code": found.code,
        "offer": found.offer,
        "person": found.person,
        "benefit": say_benefit(terms, shop.currency, known, shop.country),
        "small_print": say_terms(terms, shop.currency, country=shop.country),
        "why_not": found.why_not,
        "uses": found.uses,
    }


@router.post("/till")
def redeem(context: RequestContext = SignedIn, form: FormData = Form) -> Response:
    typed = text_of(form, "code")
    try:
        purchase = parse_money(
            text_of(form, "purchase"), minor_digits(context.application.the_shop().currency)
        )
        found = offer_commands.redeem(context.application, typed, purchase, context.by)
    except offer_queries.CannotRedeem as problem:
        return _till(context, typed, str(problem))
    except ValueError as problem:
        return _till(context, typed, f"{problem}. Write the purchase like 42.50.")
    return _till(context, typed, done=(found, purchase))
