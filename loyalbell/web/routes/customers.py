"""The customer book and one customer's page."""

import shutil
import tempfile
from pathlib import Path
from typing import Any

from fastapi import APIRouter
from fastapi.responses import FileResponse, HTMLResponse, Response
from starlette.background import BackgroundTask

from loyalbell.desk import customers, exporting
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


@router.get("/export/{kind}.{form}")
def download(kind: str, form: str, visit: Visit = SignedIn) -> Response:
    return send_file(visit, kind, form)


def send_file(visit: Visit, kind: str, form: str, only: list[int] | None = None) -> Response:
    """A file made for this request and deleted after it. Raises ``NotFound`` for a kind or format we lack."""
    path = Path(tempfile.mkdtemp()) / f"{kind}.{form}"
    try:
        exporting.check(kind, form)
        exporting.to_file(visit.desk, kind, form, path, only)
    except exporting.CannotExport as problem:
        raise NotFound(str(problem)) from problem
    clean = BackgroundTask(shutil.rmtree, path.parent, ignore_errors=True)
    return FileResponse(path, media_type=exporting.MEDIA[form], filename=path.name, background=clean)


@router.get("/customers/{person_id}")
def person(person_id: int, visit: Visit = SignedIn) -> Response:
    page = customers.page_of(visit.desk, person_id)
    if page is None:
        raise NotFound("No such customer is on file.")
    return visit.page("customers/customer.html", "customers", page=page)
