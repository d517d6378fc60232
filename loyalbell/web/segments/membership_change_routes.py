"""People behind a change: who came into a segment or left it, and who went from one band to another."""

from dataclasses import dataclass
from typing import Any

from fastapi import APIRouter
from fastapi.responses import Response
from starlette.datastructures import FormData

from loyalbell.core.history.columns import Ints
from loyalbell.core.segments.model import RuleProblem, read_rule
from loyalbell.services.rhythm import bands as rhythm_bands
from loyalbell.services.rhythm import page_figures
from loyalbell.services.rhythm.figures import NotAPart, read_instant
from loyalbell.services.segments import membership_changes
from loyalbell.services.segments import queries as segment_queries
from loyalbell.web.formatting import say_month
from loyalbell.web.json_text import read_json
from loyalbell.web.request import Form, NotFound, RequestContext, SignedIn, text_of
from loyalbell.web.rhythm.views import names_of

router = APIRouter()
PAGE = 50


@dataclass(frozen=True)
class Listed:
    """The people (numbers in the ledger) of a change; ``area`` is the word in the bar they belong under."""

    title: str
    about: str
    numbers: Ints
    area: str
    back: str


def _of_segment(context: RequestContext) -> Listed:
    asked, application = context.request.query_params, context.application
    came = asked.get("way", "came") == "came"
    try:
        rule = read_rule(read_json(asked.get("rule", "")[:20_000]))
        now = application.clock.now()
        since = min(read_instant(asked.get("since", ""), application.the_shop().zone, now), now)
        moved = membership_changes.movement(application, rule, since)
    except (RuleProblem, NotAPart, ValueError) as problem:
        raise NotFound("This address names no rule or no day that can be read.") from problem
    words = segment_queries.words_of(application, rule)
    return Listed(
        f"{'Came in' if came else 'Left'} since the end of {asked.get('since', '')}",
        f"{'Meet' if came else 'Met'} this {'now and did not then' if came else 'then and do not now'}:"
        f" {words}",
        moved.came if came else moved.left,
        "segments",
        "/segments",
    )


def _of_bands(context: RequestContext) -> Listed:
    asked = context.request.query_params
    month, then, now = (asked.get(name, "") for name in ("month", "then", "now"))
    try:
        looking = page_figures.looking(context.application, names_of(context))
    except NotAPart as problem:
        raise NotFound(str(problem)) from problem
    numbers = rhythm_bands.who_went(looking, month, then, now)
    if numbers is None:
        raise NotFound("There is no such month or band to look at.")
    return Listed(
        f"From {then} to {now} in {say_month(month)}",
        f"They were {then} when {say_month(month)} began, and {now} when it ended (or are now, where it has"
        " not ended)",
        numbers,
        "rhythm",
        "/rhythm",
    )


SOURCES = {"segments": _of_segment, "rhythm": _of_bands}


def _found(context: RequestContext, source: str) -> Listed:
    if source not in SOURCES:
        raise NotFound("There is no such list.")
    return SOURCES[source](context)


@router.get("/moved/{source}")
def moved(source: str, context: RequestContext = SignedIn, page: int = 1) -> Response:
    return _page(context, _found(context, source), page)


def _page(context: RequestContext, listed: Listed, page: int, **more: Any) -> Response:
    page = max(page, 1)
    asked = [(key, value) for key, value in context.request.query_params.multi_items() if key != "page"]
    return context.page(
        "segments/membership_changes.html",
        listed.area,
        listed=listed,
        asked=asked,
        members=membership_changes.members(context.application, listed.numbers, (page - 1) * PAGE, PAGE),
        page=page,
        pages=max(1, -(-len(listed.numbers) // PAGE)),
        **more,
    )


@router.post("/moved/{source}/keep")
def keep(source: str, context: RequestContext = SignedIn, form: FormData = Form) -> Response:
    """Keeps them as a fixed segment."""
    listed = _found(context, source)
    name = text_of(form, "name").strip() or listed.title
    try:
        made = membership_changes.keep(context.application, name, listed.numbers, context.by)
    except segment_queries.SegmentProblem as problem:
        return context.problem(str(problem))
    return context.go(f"/segments/{made}?saved=yes")
