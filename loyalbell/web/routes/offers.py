"""Offers: their terms, what they cost, and the till page that finds a code, explains it and uses it once."""

from datetime import timedelta
from typing import Any

from fastapi import APIRouter
from fastapi.responses import HTMLResponse, Response
from pydantic import ValidationError
from sqlalchemy import select
from starlette.datastructures import FormData

from loyalbell.core.money import minor_digits, parse_money
from loyalbell.core.offers import (
    Line,
    Names,
    OfferProblem,
    Terms,
    expires,
    given,
    read_terms,
    say_benefit,
    say_terms,
)
from loyalbell.desk import offers
from loyalbell.store.tables import Department, Item, Offer, OfferCode, Redemption
from loyalbell.web.visit import Form, NotFound, SignedIn, Visit, number_of, text_of

router = APIRouter()
SHOWN_CODES = 50


@router.get("/offers")
def list_page(visit: Visit = SignedIn) -> Response:
    now, shop = visit.desk.clock.now(), visit.desk.the_shop()
    with visit.desk.book.reading() as session:
        known = offers.names(session)
        rows = [
            (offer, say_benefit(offers.terms_of(offer), shop.currency, known), say_terms(offers.terms_of(offer), shop.currency), offers.figures(session, offer, now))
            for offer in session.scalars(select(Offer).order_by(Offer.archived_at.is_not(None), Offer.name))
        ]  # fmt: skip
    return visit.page("offers/offers.html", "messages", rows=rows)


@router.get("/offers/new")
def new(visit: Visit = SignedIn) -> Response:
    return _editor(visit, None, "", Terms(days=30))


@router.get("/offers/{offer_id}")
def edit(offer_id: int, visit: Visit = SignedIn, saved: str = "") -> Response:
    with visit.desk.book.reading() as session:
        offer = session.get(Offer, offer_id)
    if offer is None:
        raise NotFound("No such offer is on file.")
    return _editor(visit, offer, offer.name, offers.terms_of(offer), saved=bool(saved))


def _editor(visit: Visit, offer: Offer | None, name: str, terms: Terms, problem: str | None = None, saved: bool = False) -> Response:  # fmt: skip
    now, shop = visit.desk.clock.now(), visit.desk.the_shop()
    with visit.desk.book.reading() as session:
        values: dict[str, Any] = {
            "items": list(session.execute(select(Item.id, Item.name).order_by(Item.name)).all()),
            "departments": list(session.execute(select(Department.id, Department.name).order_by(Department.name)).all()),
            "categories": [one for one in session.scalars(select(Item.category).distinct().order_by(Item.category)) if one],
            "figures": offers.figures(session, offer, now) if offer else None,
            "codes": _codes(session, offer.id) if offer else [],
        }  # fmt: skip
    values |= {
        "offer": offer,
        "name": name,
        "terms": terms,
        "problem": problem,
        "saved": saved,
        **_reading(visit, terms),
        "money": lambda minor: f"{minor / 10 ** minor_digits(shop.currency):.2f}" if minor else "",
    }
    return visit.page("offers/offer.html", "messages", 422 if problem else 200, **values)


def _reading(visit: Visit, terms: Terms) -> dict[str, Any]:
    """What these terms say, until when a code given now would hold, and what it is worth on a usual purchase."""
    now, shop = visit.desk.clock.now(), visit.desk.the_shop()
    until = expires(terms, now, shop.zone)
    with visit.desk.book.reading() as session:
        known, usual = offers.names(session), offers.typical_purchase(session)
        whole = terms.whole and terms.kind != "item" and usual
        worth = given(terms, [Line(usual)]) if whole else None
    return {
        "said": say_benefit(terms, shop.currency, known),
        "small_print": say_terms(terms, shop.currency),
        "last_day": until - timedelta(seconds=1) if until else None,
        "usual": usual,
        "worth": worth,
        "unclear": "",
    }


@router.post("/offers/reading")
def reading(visit: Visit = SignedIn, form: FormData = Form) -> Response:
    """The rail while one types."""
    try:
        values = _reading(visit, _terms_from(visit, form))
    except (OfferProblem, ValidationError) as problem:
        values = {"unclear": str(problem)}
    return HTMLResponse(visit.piece("offers/reading.html", **values))


def _codes(session: Any, offer_id: int) -> list[Any]:
    """The newest codes with who holds them and how often they were used."""
    query = (
        select(OfferCode)
        .where(OfferCode.offer_id == offer_id)
        .order_by(OfferCode.id.desc())
        .limit(SHOWN_CODES)
    )
    found = []
    for code in session.scalars(query):
        used = session.scalars(select(Redemption).where(Redemption.code_id == code.id)).all()
        found.append((code, offers.holder(session, code), used))
    return found


def _terms_from(visit: Visit, form: FormData) -> Terms:
    """Raises ``OfferProblem``."""
    digits = minor_digits(visit.desk.the_shop().currency)

    def money(name: str) -> int | None:
        text = text_of(form, name).strip()
        try:
            return parse_money(text, digits) if text else None
        except ValueError as error:
            raise OfferProblem(f"{error}. Write amounts like 12.50.") from error

    kind = text_of(form, "kind", "percent")
    data: dict[str, Any] = {
        "kind": kind, "percent": number_of(form, "percent") if kind == "percent" else 10, "amount": money("amount") or 0 if kind == "amount" else 0,
        "item": number_of(form, "item") if kind == "item" else None, "least": money("least") or 0, "most": money("most"),
        "days": number_of(form, "days"), "until": text_of(form, "until") or None, "uses": number_of(form, "uses") or 1,
        "departments": [int(str(one)) for one in form.getlist("departments") if str(one).isdigit()],
        "categories": [str(one) for one in form.getlist("categories")],
        "items": [int(str(one)) for one in form.getlist("items") if str(one).isdigit()],
    }  # fmt: skip
    return read_terms(data)


@router.post("/offers")
def save(visit: Visit = SignedIn, form: FormData = Form) -> Response:
    try:
        kept = offers.keep(
            visit.desk, number_of(form, "offer_id"), text_of(form, "name"), _terms_from(visit, form), visit.by
        )
    except (OfferProblem, ValidationError) as problem:
        return visit.problem(str(problem))
    return visit.go(f"/offers/{kept}?saved=yes")


@router.post("/offers/{offer_id}/archive")
def archive(offer_id: int, visit: Visit = SignedIn, form: FormData = Form) -> Response:
    offers.archive(visit.desk, offer_id, text_of(form, "away") == "1", visit.by)
    return visit.go("/offers")


@router.get("/till")
def till(visit: Visit = SignedIn, code: str = "") -> Response:
    return _till(visit, code)


def _till(visit: Visit, typed: str, problem: str | None = None, done: Any = None) -> Response:
    found: dict[str, Any] = {"code": None}
    if typed.strip() and done is None:
        try:
            found = _look_up(visit, typed)
        except offers.CannotRedeem as words:
            problem = problem or str(words)
    values = {"typed": typed, "problem": problem, "done": done} | found
    return visit.page("offers/till.html", "messages", 422 if problem else 200, **values)


def _look_up(visit: Visit, typed: str) -> dict[str, Any]:
    now, shop = visit.desk.clock.now(), visit.desk.the_shop()
    with visit.desk.book.reading() as session:
        code = offers.find(session, typed)
        offer = session.get_one(Offer, code.offer_id)
        terms = offers.terms_of(offer)
        known: Names = offers.names(session)
        return {
            "code": code,
            "offer": offer,
            "person": offers.holder(session, code),
            "benefit": say_benefit(terms, shop.currency, known),
            "small_print": say_terms(terms, shop.currency),
            "why_not": offers.why_not(code, now, shop.zone),
            "uses": list(session.scalars(select(Redemption).where(Redemption.code_id == code.id).order_by(Redemption.at))),
        }  # fmt: skip


@router.post("/till")
def redeem(visit: Visit = SignedIn, form: FormData = Form) -> Response:
    typed = text_of(form, "code")
    try:
        purchase = parse_money(text_of(form, "purchase"), minor_digits(visit.desk.the_shop().currency))
        found = offers.redeem(visit.desk, typed, purchase, visit.by)
    except offers.CannotRedeem as problem:
        return _till(visit, typed, str(problem))
    except ValueError as problem:
        return _till(visit, typed, f"{problem}. Write the purchase like 42.50.")
    return _till(visit, typed, done=(found, purchase))
