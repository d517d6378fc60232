"""People behind a change: who came into a segment or left it, and who went from one band to another."""

import json
from dataclasses import dataclass
from typing import Any

from fastapi import APIRouter
from fastapi.responses import Response
from starlette.datastructures import FormData

from loyalbell.core.columns import Ints
from loyalbell.core.segments.model import RuleProblem, read_rule
from loyalbell.desk import rhythm_bands, rhythm_page, segment_movement, segments
from loyalbell.desk.rhythm_figures import NotAPart, read_instant
from loyalbell.web.routes.rhythm import names_of
from loyalbell.web.visit import Form, NotFound, SignedIn, Visit, text_of
from loyalbell.web.words import say_month

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


def _of_segment(visit: Visit) -> Listed:
    asked, desk = visit.request.query_params, visit.desk
    came = asked.get("way", "came") == "came"
    try:
        rule = read_rule(json.loads(asked.get("rule", "")[:20_000]))
        now = desk.clock.now()
        since = min(read_instant(asked.get("since", ""), desk.the_shop().zone, now), now)
        moved = segment_movement.movement(desk, rule, since)
    except (RuleProblem, NotAPart, ValueError) as problem:
        raise NotFound("This address names no rule or no day that can be read.") from problem
    words = segments.words_of(desk, rule)
    return Listed(
        f"{'Came in' if came else 'Left'} since the end of {asked.get('since', '')}",
        f"{'Meet' if came else 'Met'} this {'now and did not then' if came else 'then and do not now'}: {words}",
        moved.came if came else moved.left,
        "segments",
        "/segments",
    )


def _of_bands(visit: Visit) -> Listed:
    asked = visit.request.query_params
    month, then, now = (asked.get(name, "") for name in ("month", "then", "now"))
    try:
        looking = rhythm_page.looking(visit.desk, names_of(visit))
    except NotAPart as problem:
        raise NotFound(str(problem)) from problem
    numbers = rhythm_bands.who_went(looking, month, then, now)
    if numbers is None:
        raise NotFound("There is no such month or band to look at.")
    return Listed(
        f"From {then} to {now} in {say_month(month)}",
        f"They were {then} when {say_month(month)} began, and {now} when it ended (or are now, where it has not ended)",
        numbers,
        "rhythm",
        "/rhythm",
    )


SOURCES = {"segments": _of_segment, "rhythm": _of_bands}


def _found(visit: Visit, source: str) -> Listed:
    if source not in SOURCES:
        raise NotFound("There is no such list.")
    return SOURCES[source](visit)


@router.get("/moved/{source}")
def moved(source: str, visit: Visit = SignedIn, page: int = 1) -> Response:
    return _page(visit, _found(visit, source), page)


def _page(visit: Visit, listed: Listed, page: int, **more: Any) -> Response:
    page = max(page, 1)
    asked = [(key, value) for key, value in visit.request.query_params.multi_items() if key != "page"]
    return visit.page(
        "segments/moved.html",
        listed.area,
        listed=listed,
        asked=asked,
        members=segment_movement.members(visit.desk, listed.numbers, (page - 1) * PAGE, PAGE),
        page=page,
        pages=max(1, -(-len(listed.numbers) // PAGE)),
        **more,
    )


@router.post("/moved/{source}/keep")
def keep(source: str, visit: Visit = SignedIn, form: FormData = Form) -> Response:
    """Keeps them as a fixed segment."""
    listed = _found(visit, source)
    name = text_of(form, "name").strip() or listed.title
    try:
        made = segment_movement.keep(visit.desk, name, listed.numbers, visit.by)
    except segments.SegmentProblem as problem:
        return visit.problem(str(problem))
    return visit.go(f"/segments/{made}?saved=yes")
