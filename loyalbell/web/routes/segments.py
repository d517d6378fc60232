"""Segments: the list, the sentence editor, and the people in one."""

import json
from collections.abc import Iterable, Mapping
from datetime import timedelta
from urllib.parse import urlencode
from zoneinfo import ZoneInfo

import numpy as np
from fastapi import APIRouter
from fastapi.responses import HTMLResponse, JSONResponse, Response
from sqlalchemy import select
from starlette.datastructures import FormData

from loyalbell.core.columns import Ints
from loyalbell.core.ledger import Ledger
from loyalbell.core.segments.model import Rule, RuleProblem, read_rule
from loyalbell.desk import segment_compare, segment_movement, segment_year, segments
from loyalbell.desk.rhythm_figures import NotAPart, read_instant
from loyalbell.desk.starters import starters as ready_made
from loyalbell.store.tables import Person, Segment
from loyalbell.web import rule_form
from loyalbell.web.rhythm_pictures import size_picture
from loyalbell.web.rule_picks import Offers
from loyalbell.web.rule_starters import starters
from loyalbell.web.visit import Form, NotFound, SignedIn, Visit, number_of, text_of

router = APIRouter()
PAGE, SOME = 50, 8


def _segment(visit: Visit, segment_id: int) -> Segment:
    with visit.desk.book.reading() as session:
        segment = session.get(Segment, segment_id)
    if segment is None:
        raise NotFound("No such segment is on file.")
    return segment


@router.get("/segments")
def list_page(visit: Visit = SignedIn) -> Response:
    with visit.desk.book.reading() as session:
        everything = list(session.scalars(select(Segment).order_by(Segment.name)))
        kept = [one for one in everything if one.archived_at is None]
        uses = {segment.id: segments.used_in(session, segment.id) for segment in kept}
    readings = {segment.id: segments.read(visit.desk, segments.rule_of(segment), some=0) for segment in kept}
    ready = [
        (one, "/segments/new?" + urlencode({"rule": one.rule.model_dump_json()}))
        for one in ready_made(visit.desk)
    ]
    return visit.page(
        "segments/segments.html",
        "segments",
        kept=kept,
        readings=readings,
        uses=uses,
        ready=ready,
        away=[one for one in everything if one.archived_at],
    )


@router.get("/segments/new")
def new(visit: Visit = SignedIn, rule: str = "") -> Response:
    """``rule`` is one as JSON, from Rhythm for instance."""
    if not rule:
        return _editor(visit, None, "", rule_form.first_rule())
    try:
        return _editor(visit, None, "", read_rule(json.loads(rule[:20_000])))
    except (RuleProblem, ValueError) as problem:
        words = (
            str(problem) if isinstance(problem, RuleProblem) else "The rule in this address cannot be read."
        )
        return _editor(visit, None, "", rule_form.first_rule(), words)


@router.get("/segments/compare")
def compare(visit: Visit = SignedIn) -> Response:
    """Two or three segments and how their people overlap."""
    chosen = [int(one) for one in visit.request.query_params.getlist("segment") if one.isdigit()][:3]
    with visit.desk.book.reading() as session:
        kept = list(session.scalars(select(Segment).order_by(Segment.name)))
    chosen = [one for one in dict.fromkeys(chosen) if one in {segment.id for segment in kept}]
    overlaps = segment_compare.compare(visit.desk, chosen) if len(chosen) > 1 else []
    shown = [
        (overlap, f"/customers?{urlencode({'rule': overlap.rule.model_dump_json()})}") for overlap in overlaps
    ]
    most = max((overlap.people for overlap in overlaps), default=1)
    return visit.page(
        "segments/compare.html", "segments", kept=kept, chosen=chosen, overlaps=shown, most=most
    )


@router.post("/segments/paste")
def paste(visit: Visit = SignedIn, form: FormData = Form) -> Response:
    """A rule as JSON, opened in the editor."""
    return new(visit, text_of(form, "rule") or "{}")


@router.get("/segments/{segment_id}")
def edit(segment_id: int, visit: Visit = SignedIn) -> Response:
    segment = _segment(visit, segment_id)
    return _editor(visit, segment_id, segment.name, segments.rule_of(segment))


def _editor(
    visit: Visit, segment_id: int | None, name: str, rule: Rule, problem: str | None = None
) -> Response:
    values = _values(visit, rule) | {"segment_id": segment_id, "name": name, "problem": problem}
    values["uses"] = _uses(visit, segment_id)
    values["saved"] = bool(visit.request.query_params.get("saved"))
    values["pick"] = bool(visit.request.query_params.get("pick"))
    page = visit.page("segments/editor.html", "segments", 422 if problem else 200, **values)
    if values["pick"]:
        page.headers["X-In-Frame"] = "yes"
    return page


def _uses(visit: Visit, segment_id: int | None) -> list[str]:
    if segment_id is None:
        return []
    with visit.desk.book.reading() as session:
        return segments.used_in(session, segment_id)


def _values(visit: Visit, rule: Rule) -> dict[str, object]:
    ledger = visit.desk.ledger()
    offered = offers(visit, ledger)
    return {
        "reading": segments.read(visit.desk, rule),
        "rule": rule,
        "lines": rule_form.lines_of(rule, segments.saying(visit.desk, ledger), offered),
        "starters": starters(offered),
    }


def offers(visit: Visit, ledger: Ledger) -> Offers:
    """What this shop has to choose from."""
    names = segments.saying(visit.desk, ledger)
    known = ledger.catalogue

    def pairs(found: Mapping[int, str]) -> list[tuple[str, str]]:
        return sorted(((str(at), name) for at, name in found.items()), key=lambda pair: pair[1].casefold())

    def same(words: Iterable[str]) -> list[tuple[str, str]]:
        return [(word, word) for word in sorted(set(words)) if word]

    said, dates = ledger.words.said, ledger.yearly_dates
    kinds = [said[int(code)] for code in np.unique(dates.name[dates.of_companion])]
    named = [said[int(code)] for code in np.unique(dates.name[~dates.of_companion])]
    return Offers(
        departments=pairs(known.departments),
        locations=pairs(known.locations),
        items=pairs({at: name for at, (name, _, _) in known.items.items()}),
        categories=same(category for _, category, _ in known.items.values()),
        tags=pairs(known.tags),
        fields=pairs({at: name for at, (name, _) in known.fields.items()}),
        events=same(said[int(code)] for code in np.unique(ledger.events.kind)),
        dates=[
            ("birthday", "their birthday"),
            ("companion", "a companion’s birthday"),
            *((f"companion:{kind}", f"a {kind}’s birthday") for kind in kinds if kind),
            *same(named),
        ],
        plans=same(said[int(code)] for code in np.unique(ledger.memberships.plan)),
        messages=pairs(names.messages),
        segments=pairs(names.segments),
        offers=pairs(names.offers),
        sequences=pairs(names.sequences),
    )


def _rule_from(visit: Visit, form: FormData) -> Rule:
    """Raises ``RuleProblem``."""
    ledger = visit.desk.ledger()
    return rule_form.rule_from(form, ledger.currency, starters(offers(visit, ledger)))


@router.post("/segments/over-time")
def over_time(visit: Visit = SignedIn, form: FormData = Form) -> Response:
    """The size on each day of the past year, and who came in and left since a day."""
    try:
        rule = _rule_from(visit, form)
        now, zone = visit.desk.clock.now(), visit.desk.the_shop().zone
        yesterday = (now - timedelta(days=1)).astimezone(ZoneInfo(zone)).date().isoformat()
        day = text_of(form, "as_of") or yesterday
        since = min(read_instant(day, zone, now), now)
        sizes = segment_year.year(visit.desk, rule)
        moved = segment_movement.movement(visit.desk, rule, since)
        asked = {"rule": rule.model_dump_json(), "since": day}
        values = {
            "day": day,
            "moved": moved,
            "some": [
                (words, f"/moved/segments?{urlencode(asked | {'way': way})}", len(ids), _some(visit, ids))
                for words, way, ids in (("Came in", "came", moved.came), ("Left", "left", moved.left))
            ],
            "picture": size_picture(sizes) if sizes else None,
            "sizes": sizes,
            "job": visit.desk.jobs.find(segment_year.year_job(visit.desk, rule)),
        }
    except (RuleProblem, NotAPart) as problem:
        return HTMLResponse(visit.piece("segments/over_time.html", problem=str(problem), sizes=[]))
    return HTMLResponse(visit.piece("segments/over_time.html", **values))


def _some(visit: Visit, numbers: Ints) -> list[Person]:
    return [member.person for member in segment_movement.members(visit.desk, numbers, 0, SOME)]


@router.get("/segments/{segment_id}/rule.json")
def as_json(segment_id: int, visit: Visit = SignedIn) -> Response:
    segment = _segment(visit, segment_id)
    name = f"segment-{segment_id}.json"
    return JSONResponse(segment.rule, headers={"Content-Disposition": f'attachment; filename="{name}"'})


@router.post("/segments/{segment_id}/archive")
def archive(segment_id: int, visit: Visit = SignedIn, form: FormData = Form) -> Response:
    _segment(visit, segment_id)
    segments.archive(visit.desk, segment_id, text_of(form, "away") == "1", visit.by)
    return visit.go("/segments")


@router.post("/segments/{segment_id}/copy")
def copy(segment_id: int, visit: Visit = SignedIn) -> Response:
    _segment(visit, segment_id)
    return visit.go(f"/segments/{segments.copy(visit.desk, segment_id, visit.by)}")


@router.post("/segments/{segment_id}/freeze")
def freeze(segment_id: int, visit: Visit = SignedIn) -> Response:
    _segment(visit, segment_id)
    return visit.go(f"/segments/{segments.freeze(visit.desk, segment_id, visit.by)}")


@router.get("/segments/{segment_id}/why/{person_id}")
def why(segment_id: int, person_id: int, visit: Visit = SignedIn) -> Response:
    """Why somebody is in a segment or not."""
    segment = _segment(visit, segment_id)
    with visit.desk.book.reading() as session:
        person = session.get(Person, person_id)
    found = segments.why(visit.desk, segments.rule_of(segment), person_id)
    if person is None or found is None:
        raise NotFound("No such customer is on file.")
    met, judged = found
    match = segments.rule_of(segment).root.match
    return visit.page(
        "segments/why.html", "segments", segment=segment, person=person, met=met, judged=judged, match=match
    )


@router.post("/segments/rule")
def rule_now(visit: Visit = SignedIn, form: FormData = Form) -> Response:
    """The rule on the page as JSON, for the page that asked for one."""
    try:
        return JSONResponse(_rule_from(visit, form).model_dump(mode="json"))
    except RuleProblem as problem:
        return JSONResponse({"problem": str(problem)}, 422)


@router.post("/segments/in-customers")
def in_customers(visit: Visit = SignedIn, form: FormData = Form) -> Response:
    """Shows the people of the rule on the page in the customer book, without keeping it."""
    try:
        rule = _rule_from(visit, form)
    except RuleProblem as problem:
        return visit.problem(str(problem))
    return visit.go(f"/customers?{urlencode({'rule': rule.model_dump_json()})}")


@router.post("/segments/read")
def read(visit: Visit = SignedIn, form: FormData = Form) -> Response:
    """What the rule on the page gives now; the lines are sent back whole only where their number changed."""
    try:
        rule = _rule_from(visit, form)
        values = _values(visit, rule)
    except RuleProblem as problem:
        return HTMLResponse(visit.piece("segments/problem.html", problem=str(problem)))
    changed = bool(text_of(form, "act"))
    return HTMLResponse(visit.piece("segments/reading.html", whole=changed, **values))


@router.post("/segments/save")
def save(visit: Visit = SignedIn, form: FormData = Form) -> Response:
    segment_id, name = number_of(form, "segment_id"), text_of(form, "name")
    try:
        rule = _rule_from(visit, form)
        kept = segments.keep(visit.desk, segment_id, name, rule, visit.by)
    except (RuleProblem, segments.SegmentProblem) as problem:
        return visit.problem(str(problem))
    return visit.go(f"/segments/{kept}?saved=yes")


@router.post("/segments/{segment_id}/delete")
def delete(segment_id: int, visit: Visit = SignedIn) -> Response:
    segment = _segment(visit, segment_id)
    try:
        segments.drop(visit.desk, segment_id, visit.by)
    except segments.SegmentProblem as problem:
        return _editor(visit, segment_id, segment.name, segments.rule_of(segment), str(problem))
    return visit.go("/segments")


@router.get("/segments/{segment_id}/people")
def people(segment_id: int, visit: Visit = SignedIn, page: int = 1) -> Response:
    segment, page = _segment(visit, segment_id), max(page, 1)
    count, members = segments.people_in(visit.desk, segments.rule_of(segment), (page - 1) * PAGE, PAGE)
    pages = max(1, -(-count // PAGE))
    return visit.page(
        "segments/people.html",
        "segments",
        segment=segment,
        count=count,
        members=members,
        page=page,
        pages=pages,
    )
