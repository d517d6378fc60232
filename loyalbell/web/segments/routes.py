"""Segments: the list, the sentence editor, and the people in one."""

from collections.abc import Iterable, Mapping
from datetime import timedelta
from secrets import token_hex
from typing import Any
from urllib.parse import urlencode
from zoneinfo import ZoneInfo

import numpy as np
from fastapi import APIRouter
from fastapi.responses import HTMLResponse, JSONResponse, Response
from starlette.datastructures import FormData

from loyalbell.core.history.columns import Ints
from loyalbell.core.history.snapshot import HistorySnapshot
from loyalbell.core.segments.conditions.wording import Saying
from loyalbell.core.segments.model import Rule, RuleProblem, read_rule
from loyalbell.core.segments.sentence import say_rule
from loyalbell.services import unsaved
from loyalbell.services.rhythm.figures import NotAPart, read_instant
from loyalbell.services.segments import commands as segment_commands
from loyalbell.services.segments import membership_changes, overlap
from loyalbell.services.segments import queries as segment_queries
from loyalbell.services.segments import size_over_time as segment_sizes
from loyalbell.services.segments.segment_templates import segment_templates
from loyalbell.storage.schema import Person, Segment, UnsavedDraft
from loyalbell.web.json_text import read_json
from loyalbell.web.request import Form, NotFound, RequestContext, SignedIn, number_of, text_of
from loyalbell.web.rhythm.charts import size_picture
from loyalbell.web.segments import forms as rule_form
from loyalbell.web.segments.condition_fields import Offers
from loyalbell.web.segments.line_suggestions import line_suggestions

router = APIRouter()
PAGE, SOME, SEARCHED_FROM = 50, 8, 8


def _segment(context: RequestContext, segment_id: int) -> Segment:
    segment = context.application.find(Segment, segment_id)
    if segment is None:
        raise NotFound("No such segment is on file.")
    return segment


@router.get("/segments")
def list_page(context: RequestContext = SignedIn, q: str = "") -> Response:
    sought = q.strip()[:100]
    everything = segment_queries.every_segment(context.application)
    current = [one for one in everything if one.archived_at is None]
    saying = segment_queries.saying(context.application, context.application.snapshot())
    kept = [one for one in current if not sought or _holds(one, sought, saying)]
    uses = segment_queries.uses_of(context.application, [segment.id for segment in kept])
    readings = segment_queries.sizes(context.application, kept)
    ready = [
        (segment_template, "/segments/new?" + urlencode({"rule": segment_template.rule.model_dump_json()}))
        for segment_template in segment_templates(context.application)
    ]
    return context.page(
        "segments/segments.html",
        "segments",
        kept=kept,
        readings=readings,
        uses=uses,
        ready=ready,
        away=[one for one in everything if one.archived_at],
        q=sought,
        many=len(current) > SEARCHED_FROM,
        unsaved=unsaved.all_typed(context.application, context.user_id, "segment"),
    )


def _holds(segment: Segment, sought: str, saying: Saying) -> bool:
    """Whether a segment's name or sentence holds some words."""
    try:
        words = say_rule(segment_queries.rule_of(segment), saying)
    except RuleProblem:
        words = ""
    return sought.casefold() in f"{segment.name} {words}".casefold()


@router.post("/segments/unsaved")
def throw_away(context: RequestContext = SignedIn, form: FormData = Form) -> Response:
    """What was typed and not saved goes; what was saved stays."""
    about = text_of(form, "about")
    unsaved.drop_typed(context.application, context.user_id, "segment", about)
    return context.go("/segments" if about.startswith("new-") else f"/segments/{about}")


def _as_saved(name: str, rule: Rule) -> dict[str, Any]:
    return {"name": name, "rule": rule.model_dump(mode="json")}


def _saved(context: RequestContext, segment_id: int | None) -> dict[str, Any]:
    """What is saved of a segment; nothing of one that is new."""
    segment = context.application.find(Segment, segment_id) if segment_id else None
    return {} if segment is None else _as_saved(segment.name, segment_queries.rule_of(segment))


def _note_typed(context: RequestContext, form: FormData, rule: Rule) -> None:
    segment_id, about = number_of(form, "segment_id"), text_of(form, "about")
    if about and (not segment_id or about == str(segment_id)):
        typed = _as_saved(text_of(form, "name"), rule)
        saved, base = _saved(context, segment_id), text_of(form, "base")
        unsaved.note_typed(context.application, context.user_id, "segment", about, base, saved, typed)


@router.get("/segments/new")
def new(context: RequestContext = SignedIn, rule: str = "", typed: str = "") -> Response:
    """``rule`` is one as JSON, from Rhythm for instance; ``typed`` names what was typed before."""
    kept = unsaved.typed_of(context.application, context.user_id, "segment", typed) if typed else None
    if kept is not None:
        return _editor(context, None, *_typed(kept), kept=kept, opened=True)
    if typed:
        raise NotFound("Of this segment nothing is kept: it was saved, or discarded.")
    if not rule:
        return _editor(context, None, "", rule_form.first_rule())
    try:
        return _editor(context, None, "", read_rule(read_json(rule[:20_000])))
    except (RuleProblem, ValueError) as problem:
        words = (
            str(problem) if isinstance(problem, RuleProblem) else "The rule in this address cannot be read."
        )
        return _editor(context, None, "", rule_form.first_rule(), words)


@router.get("/segments/compare")
def compare(context: RequestContext = SignedIn) -> Response:
    """Two or three segments and how their people overlap."""
    chosen = [int(one) for one in context.request.query_params.getlist("segment") if one.isdecimal()][:3]
    kept = segment_queries.every_segment(context.application)
    chosen = [one for one in dict.fromkeys(chosen) if one in {segment.id for segment in kept}]
    overlaps = overlap.compare(context.application, chosen) if len(chosen) > 1 else []
    shown = [
        (overlap, f"/customers?{urlencode({'rule': overlap.rule.model_dump_json()})}") for overlap in overlaps
    ]
    most = max((overlap.people for overlap in overlaps), default=1)
    return context.page(
        "segments/compare.html", "segments", kept=kept, chosen=chosen, overlaps=shown, most=most
    )


@router.post("/segments/paste")
def paste(context: RequestContext = SignedIn, form: FormData = Form) -> Response:
    """A rule as JSON, opened in the editor."""
    return new(context, text_of(form, "rule") or "{}")


@router.get("/segments/{segment_id}")
def edit(segment_id: int, context: RequestContext = SignedIn) -> Response:
    segment = _segment(context, segment_id)
    saved = segment.name, segment_queries.rule_of(segment)
    kept = unsaved.typed_of(context.application, context.user_id, "segment", str(segment_id))
    if kept is None or context.request.query_params.get("pick"):
        return _editor(context, segment_id, *saved)
    newer = kept.base != unsaved.mark_of(_as_saved(*saved))
    opened = not newer or bool(context.request.query_params.get("typed"))
    return _editor(
        context, segment_id, *(_typed(kept) if opened else saved), kept=kept, opened=opened, newer=newer
    )


def _typed(kept: UnsavedDraft) -> tuple[str, Rule]:
    typed = kept.content or {}
    return str(typed["name"]), read_rule(typed["rule"])


def _editor(
    context: RequestContext,
    segment_id: int | None,
    name: str,
    rule: Rule,
    problem: str | None = None,
    kept: UnsavedDraft | None = None,
    opened: bool = False,
    newer: bool = False,
) -> Response:
    """``kept`` is what was typed before and not saved; ``opened``: the page shows it; ``newer``: what is
    saved has changed since.
    """
    values = _values(context, rule) | {"segment_id": segment_id, "name": name, "problem": problem}
    values["uses"] = _uses(context, segment_id)
    values["saved"] = bool(context.request.query_params.get("saved"))
    values["pick"] = bool(context.request.query_params.get("pick"))
    # a rule that is picked for another page is kept by that page
    about = "" if values["pick"] else str(segment_id or (kept.about if kept else f"new-{token_hex(8)}"))
    values |= {
        "kept": kept,
        "opened": opened,
        "newer": newer,
        "about": about,
        "base": unsaved.mark_of(_saved(context, segment_id)),
    }
    page = context.page("segments/editor.html", "segments", 422 if problem else 200, **values)
    if values["pick"]:
        page.headers["X-In-Frame"] = "yes"
    return page


def _uses(context: RequestContext, segment_id: int | None) -> list[str]:
    if segment_id is None:
        return []
    return segment_queries.uses_of(context.application, [segment_id])[segment_id]


def _values(context: RequestContext, rule: Rule) -> dict[str, object]:
    snapshot = context.application.snapshot()
    offered = offers(context, snapshot)
    return {
        "reading": segment_queries.read(context.application, rule),
        "rule": rule,
        "lines": rule_form.lines_of(rule, segment_queries.saying(context.application, snapshot), offered),
        "starters": line_suggestions(offered),
    }


def offers(context: RequestContext, snapshot: HistorySnapshot) -> Offers:
    """What this shop has to choose from."""
    names = segment_queries.saying(context.application, snapshot)
    known = snapshot.catalogue

    def pairs(found: Mapping[int, str]) -> list[tuple[str, str]]:
        return sorted(((str(at), name) for at, name in found.items()), key=lambda pair: pair[1].casefold())

    def same(words: Iterable[str]) -> list[tuple[str, str]]:
        return [(word, word) for word in sorted(set(words)) if word]

    said, dates = snapshot.words.said, snapshot.yearly_dates
    kinds = [said[int(code)] for code in np.unique(dates.name[dates.of_companion])]
    named = [said[int(code)] for code in np.unique(dates.name[~dates.of_companion])]
    return Offers(
        departments=pairs(known.departments),
        locations=pairs(known.locations),
        items=pairs({at: name for at, (name, _, _) in known.items.items()}),
        categories=same(category for _, category, _ in known.items.values()),
        tags=pairs(known.tags),
        fields=pairs({at: name for at, (name, _) in known.fields.items()}),
        events=same(said[int(code)] for code in np.unique(snapshot.events.kind)),
        dates=[
            ("birthday", "their birthday"),
            ("companion", "a companion’s birthday"),
            *((f"companion:{kind}", f"a {kind}’s birthday") for kind in kinds if kind),
            *same(named),
        ],
        plans=same(said[int(code)] for code in np.unique(snapshot.memberships.plan)),
        messages=pairs(names.messages),
        segments=pairs(names.segments),
        offers=pairs(names.offers),
        sequences=pairs(names.sequences),
    )


def _rule_from(context: RequestContext, form: FormData) -> Rule:
    """Raises ``RuleProblem``."""
    snapshot = context.application.snapshot()
    return rule_form.rule_from(form, snapshot.currency, line_suggestions(offers(context, snapshot)))


@router.post("/segments/over-time")
def over_time(context: RequestContext = SignedIn, form: FormData = Form) -> Response:
    """The size on each day of the past year, and who came in and left since a day."""
    try:
        rule = _rule_from(context, form)
        now, zone = context.application.clock.now(), context.application.the_shop().zone
        yesterday = (now - timedelta(days=1)).astimezone(ZoneInfo(zone)).date().isoformat()
        day = text_of(form, "as_of") or yesterday
        since = min(read_instant(day, zone, now), now)
        sizes = segment_sizes.year(context.application, rule)
        moved = membership_changes.movement(context.application, rule, since)
        asked = {"rule": rule.model_dump_json(), "since": day}
        values = {
            "day": day,
            "moved": moved,
            "some": [
                (words, f"/moved/segments?{urlencode(asked | {'way': way})}", len(ids), _some(context, ids))
                for words, way, ids in (("Came in", "came", moved.came), ("Left", "left", moved.left))
            ],
            "picture": size_picture(sizes) if sizes else None,
            "sizes": sizes,
            "job": context.application.jobs.find(segment_sizes.year_job(context.application, rule)),
        }
    except (RuleProblem, NotAPart) as problem:
        return HTMLResponse(context.piece("segments/over_time.html", problem=str(problem), sizes=[]))
    return HTMLResponse(context.piece("segments/over_time.html", **values))


def _some(context: RequestContext, numbers: Ints) -> list[Person]:
    return [member.person for member in membership_changes.members(context.application, numbers, 0, SOME)]


@router.get("/segments/{segment_id}/rule.json")
def as_json(segment_id: int, context: RequestContext = SignedIn) -> Response:
    segment = _segment(context, segment_id)
    name = f"segment-{segment_id}.json"
    return JSONResponse(segment.rule, headers={"Content-Disposition": f'attachment; filename="{name}"'})


@router.post("/segments/{segment_id}/archive")
def archive(segment_id: int, context: RequestContext = SignedIn, form: FormData = Form) -> Response:
    _segment(context, segment_id)
    segment_commands.archive(context.application, segment_id, text_of(form, "away") == "1", context.by)
    return context.go("/segments")


@router.post("/segments/{segment_id}/copy")
def copy(segment_id: int, context: RequestContext = SignedIn) -> Response:
    _segment(context, segment_id)
    return context.go(f"/segments/{segment_commands.copy(context.application, segment_id, context.by)}")


@router.post("/segments/{segment_id}/freeze")
def freeze(segment_id: int, context: RequestContext = SignedIn) -> Response:
    _segment(context, segment_id)
    return context.go(f"/segments/{segment_commands.freeze(context.application, segment_id, context.by)}")


@router.get("/segments/{segment_id}/why/{person_id}")
def why(segment_id: int, person_id: int, context: RequestContext = SignedIn) -> Response:
    """Why somebody is in a segment or not."""
    segment = _segment(context, segment_id)
    person = context.application.find(Person, person_id)
    found = segment_queries.why(context.application, segment_queries.rule_of(segment), person_id)
    if person is None or found is None:
        raise NotFound("No such customer is on file.")
    met, judged = found
    match = segment_queries.rule_of(segment).root.match
    return context.page(
        "segments/why.html", "segments", segment=segment, person=person, met=met, judged=judged, match=match
    )


@router.post("/segments/rule")
def rule_now(context: RequestContext = SignedIn, form: FormData = Form) -> Response:
    """The rule on the page as JSON, for the page that asked for one."""
    try:
        return JSONResponse(_rule_from(context, form).model_dump(mode="json"))
    except RuleProblem as problem:
        return JSONResponse({"problem": str(problem)}, 422)


@router.post("/segments/in-customers")
def in_customers(context: RequestContext = SignedIn, form: FormData = Form) -> Response:
    """Shows the people of the rule on the page in the customer book, without keeping it."""
    try:
        rule = _rule_from(context, form)
    except RuleProblem as problem:
        return context.problem(str(problem))
    return context.go(f"/customers?{urlencode({'rule': rule.model_dump_json()})}")


@router.post("/segments/read")
def read(context: RequestContext = SignedIn, form: FormData = Form) -> Response:
    """What the rule on the page gives now; the lines are sent back whole only where their number changed."""
    try:
        rule = _rule_from(context, form)
        values = _values(context, rule)
    except RuleProblem as problem:
        return HTMLResponse(context.piece("segments/problem.html", problem=str(problem)))
    _note_typed(context, form, rule)
    changed = bool(text_of(form, "act"))
    return HTMLResponse(context.piece("segments/reading.html", whole=changed, **values))


@router.post("/segments/save")
def save(context: RequestContext = SignedIn, form: FormData = Form) -> Response:
    segment_id, name = number_of(form, "segment_id"), text_of(form, "name")
    try:
        rule = _rule_from(context, form)
        kept = segment_commands.keep(context.application, segment_id, name, rule, context.by)
    except (RuleProblem, segment_queries.SegmentProblem) as problem:
        return context.problem(str(problem))
    about = text_of(form, "about", str(kept))
    unsaved.drop_typed(context.application, context.user_id, "segment", about)
    return context.go(f"/segments/{kept}?saved=yes")


@router.post("/segments/{segment_id}/delete")
def delete(segment_id: int, context: RequestContext = SignedIn) -> Response:
    segment = _segment(context, segment_id)
    try:
        segment_commands.drop(context.application, segment_id, context.by)
    except segment_queries.SegmentProblem as problem:
        return _editor(context, segment_id, segment.name, segment_queries.rule_of(segment), str(problem))
    return context.go("/segments")


@router.get("/segments/{segment_id}/people")
def people(segment_id: int, context: RequestContext = SignedIn, page: int = 1) -> Response:
    segment, page = _segment(context, segment_id), max(page, 1)
    count, members = segment_queries.people_in(
        context.application, segment_queries.rule_of(segment), (page - 1) * PAGE, PAGE
    )
    pages = max(1, -(-count // PAGE))
    return context.page(
        "segments/people.html",
        "segments",
        segment=segment,
        count=count,
        members=members,
        page=page,
        pages=pages,
    )
