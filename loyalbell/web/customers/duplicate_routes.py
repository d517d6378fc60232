"""Customers who may stand in the book twice: the list, side by side, and making them one."""

from typing import Any

from fastapi import APIRouter
from fastapi.responses import Response
from starlette.datastructures import FormData

from loyalbell.services.customers import duplicates, profile
from loyalbell.services.customers import queries as customer_queries
from loyalbell.storage.schema import Person
from loyalbell.web.request import Form, NotFound, RequestContext, SignedIn, number_of, text_of

router = APIRouter()
PAGE = 30


@router.get("/duplicates")
def list_page(context: RequestContext = SignedIn, page: int = 1) -> Response:
    known = duplicates.candidates(context.application)
    found = known.pairs
    pages = max(-(-len(found) // PAGE), 1)
    page = min(max(page, 1), pages)
    shown = found[(page - 1) * PAGE : page * PAGE]
    ids = {one for pair in shown for one in (pair.low, pair.high)}
    people = customer_queries.people_by_id(context.application, ids)
    values: dict[str, Any] = {
        "pairs": shown,
        "people": people,
        "count": len(found),
        "fresh": known.fresh,
        "page": page,
        "pages": pages,
    }
    return context.page("customers/duplicates.html", "duplicates", **values)


@router.get("/duplicates/{one}/{other}")
def side_by_side(one: int, other: int, context: RequestContext = SignedIn) -> Response:
    return _pair(context, one, other)


def _pair(context: RequestContext, one: int, other: int, problem: str | None = None) -> Response:
    pages = [profile.page_of(context.application, at, {"order"}) for at in (one, other)]
    if pages[0] is None or pages[1] is None or one == other:
        raise NotFound("One of these two customers is not on file.")
    reasons = duplicates.reasons_of(context.application, one, other)
    values: dict[str, Any] = {
        "kept": pages[0],
        "gone": pages[1],
        "rows": duplicates.CHOSEN,
        "preset": duplicates.preset(pages[0].person, pages[1].person),
        "reasons": reasons,
        "problem": problem,
        "says": says,
    }
    return context.page("customers/pair.html", "duplicates", 422 if problem else 200, **values)


def says(person: Person, name: str) -> str:
    """What a record holds for one of the facts to choose between."""
    if name == "birthday":
        if not person.birthday_month:
            return ""
        year = f"{person.birthday_year}-" if person.birthday_year else ""
        return f"{year}{person.birthday_month:02}-{person.birthday_day:02}"
    value = getattr(person, name)
    return f"{value:%Y-%m-%d}" if name.endswith("_at") and value else str(value or "")


@router.post("/duplicates/{one}/{other}")
def decide(one: int, other: int, context: RequestContext = SignedIn, form: FormData = Form) -> Response:
    try:
        if text_of(form, "act") == "two":
            duplicates.not_the_same(context.application, one, other, context.by)
            return context.go("/duplicates")
        kept = number_of(form, "kept") or one
        gone = other if kept == one else one
        choice = {name: text_of(form, name) for name in duplicates.CHOSEN}
        if kept == other:
            choice = {name: {"kept": "gone", "gone": "kept"}.get(side, side) for name, side in choice.items()}
        duplicates.make_one(context.application, kept, gone, choice, context.by)
    except duplicates.CannotMerge as problem:
        return _pair(context, one, other, str(problem))
    return context.go(f"/customers/{kept}?said=The+two+records+are+one+now.")
