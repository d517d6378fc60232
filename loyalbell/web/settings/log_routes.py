"""The log and how long things are kept."""

from collections.abc import Mapping
from datetime import date
from typing import Any
from urllib.parse import urlencode

from fastapi import APIRouter
from fastapi.responses import Response, StreamingResponse
from pydantic import ValidationError
from starlette.datastructures import FormData

from loyalbell.services.log import queries
from loyalbell.services.log.queries import KINDS, PAGE, LogFilter
from loyalbell.services.retention import RetentionSettings, would_go
from loyalbell.services.settings.channels import keep, loaded
from loyalbell.web.request import Form, RequestContext, SignedIn, text_of

router = APIRouter()
SHOWN_PARTS = ("before", "after")
WRONG = {
    "log_months": "Give the months of the log as a whole number from 0 (for good) to 240.",
    "upload_days": "Give the days of uploaded files as a whole number from 1 to 3,650.",
    "event_months": "Give the months of events as a whole number from 0 (for good) to 240.",
}


def _asked(given: Mapping[str, Any]) -> LogFilter:
    kind = str(given.get("kind") or "")
    return LogFilter(
        str(given.get("who") or "")[:200],
        kind if kind in KINDS else "",
        " ".join(str(given.get("words") or "").split())[:200],
        _day(given.get("first")),
        _day(given.get("last")),
    )


def _day(text: object) -> date | None:
    try:
        return date.fromisoformat(str(text)) if text else None
    except ValueError:
        return None


def _query_of(asked: LogFilter) -> str:
    said = {name: str(value) for name, value in vars(asked).items() if value}
    return urlencode(said)


@router.get("/log")
def log_page(context: RequestContext = SignedIn, before: int = 0) -> Response:
    asked = _asked(context.request.query_params)
    found = queries.entries(context.application, asked, max(before, 0), PAGE + 1)
    values: dict[str, Any] = {
        "entries": found[:PAGE],
        "more": found[PAGE - 1].id if len(found) > PAGE else 0,
        "asked": asked,
        "query": _query_of(asked),
        "kinds": KINDS,
        "everyone": queries.everyone(context.application),
        "later": before > 0,
        "parts": SHOWN_PARTS,
    }
    return context.page("settings/log.html", "log", **values)


@router.get("/log/check")
def check(context: RequestContext = SignedIn) -> Response:
    """Whether anybody changed what stands in the log."""
    return context.page("settings/log_checked.html", "log", found=queries.checked(context.application))


@router.get("/log.csv")
def download(context: RequestContext = SignedIn) -> Response:
    asked = _asked(context.request.query_params)
    context.note("downloaded the log", **{name: str(value) for name, value in vars(asked).items() if value})
    headers = {"Content-Disposition": 'attachment; filename="log.csv"'}
    lines = queries.as_csv(context.application, asked)
    return StreamingResponse(lines, media_type="text/csv; charset=utf-8", headers=headers)


@router.get("/settings/retention")
def retention_page(context: RequestContext = SignedIn, saved: str = "") -> Response:
    return _retention(context, loaded(context.application, RetentionSettings).model_dump(), saved=bool(saved))


def _retention(
    context: RequestContext,
    typed: Mapping[str, Any],
    problem: str = "",
    saved: bool = False,
    asks: bool = False,
) -> Response:
    going = None
    if not problem:
        going = would_go(context.application, RetentionSettings.model_validate(typed))
    values = {"typed": typed, "problem": problem, "saved": saved, "asks": asks, "going": going}
    return context.page("settings/retention.html", "settings", 422 if problem else 200, **values)


@router.post("/settings/retention")
def save_retention(context: RequestContext = SignedIn, form: FormData = Form) -> Response:
    """First shows what would go; the second click keeps it."""
    typed = {name: text_of(form, name).strip() for name in RetentionSettings.model_fields}
    try:
        made = RetentionSettings.model_validate(typed)
    except ValidationError as error:
        return _retention(context, typed, WRONG[str(error.errors()[0]["loc"][0])])
    if text_of(form, "sure") != "yes":
        return _retention(context, made.model_dump(), asks=True)
    keep(context.application, made, "retention", context.by)
    return context.go("/settings/retention?saved=yes")
