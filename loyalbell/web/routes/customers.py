"""The customer book and one customer's page."""

from typing import Any

from fastapi import APIRouter
from fastapi.responses import HTMLResponse, Response

from loyalbell.desk import customers
from loyalbell.web.visit import NotFound, SignedIn, Visit

router = APIRouter()


@router.get("/customers")
def book(visit: Visit = SignedIn, q: str = "", after: int = 0) -> Response:
    q = q.strip()[:200]
    lines = customers.find(visit.desk, q, after, customers.PAGE + 1)
    more = len(lines) > customers.PAGE
    lines = lines[: customers.PAGE]
    values: dict[str, Any] = {"lines": lines, "q": q, "more": lines[-1].person.id if more else None}
    if visit.request.headers.get("HX-Target") == "book":
        return HTMLResponse(visit.piece("customers/lines.html", **values))
    return visit.page("customers/book.html", "customers", count=customers.count(visit.desk), **values)


@router.get("/customers/{person_id}")
def person(person_id: int, visit: Visit = SignedIn) -> Response:
    page = customers.page_of(visit.desk, person_id)
    if page is None:
        raise NotFound("No such customer is on file.")
    return visit.page("customers/customer.html", "customers", page=page)
