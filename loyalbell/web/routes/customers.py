"""The customer book: finding, choosing columns, keeping views, and acts on many at once."""

import json
import shutil
import tempfile
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any
from urllib.parse import urlencode

from fastapi import APIRouter
from fastapi.responses import FileResponse, HTMLResponse, Response
from sqlalchemy import select
from starlette.background import BackgroundTask
from starlette.datastructures import FormData

from loyalbell.core.ledger import CHANNELS
from loyalbell.core.segments.model import Rule, RuleProblem, read_rule
from loyalbell.core.segments.sentence import say_rule
from loyalbell.desk import bulk, customers, exporting, segments
from loyalbell.desk.customers import CannotKeepView, Filter
from loyalbell.desk.sequences import by_hand
from loyalbell.desk.sequences.editing import SequenceProblem
from loyalbell.store.tables import SavedView, Segment
from loyalbell.web.sequence_form import read_pace
from loyalbell.web.visit import Form, NotFound, SignedIn, Visit, number_of, text_of

router = APIRouter()
MOST_CHOSEN = 1_000
SHOWN_OF_MANY = 12


def read_filter(given: Mapping[str, Any]) -> Filter:
    """What the address or a form says of whom to show; a rule that cannot be read narrows nothing."""

    def number(name: str) -> int | None:
        text = str(given.get(name) or "")
        return int(text) if text.isdigit() and len(text) < 10 else None

    rule: Rule | None = None
    if given.get("rule"):
        try:
            rule = read_rule(json.loads(str(given["rule"])[:20_000]))
        except (RuleProblem, ValueError):
            rule = None
    return Filter(str(given.get("q") or "").strip()[:200], number("segment"), rule, number("tag"))


def address_of(whom: Filter, columns: Sequence[str]) -> str:
    """The filter and the columns as the query of an address."""
    said: dict[str, str] = {}
    if whom.search:
        said["q"] = whom.search
    if whom.segment_id:
        said["segment"] = str(whom.segment_id)
    if whom.tag_id:
        said["tag"] = str(whom.tag_id)
    if whom.rule:
        said["rule"] = whom.rule.model_dump_json()
    if tuple(columns) != customers.USUAL:
        said["columns"] = ",".join(columns)
    return urlencode(said)


def _columns(visit: Visit, given: str, known: Mapping[str, str]) -> tuple[str, ...]:
    chosen = visit.request.query_params.getlist("column") or [one for one in given.split(",") if one]
    return tuple(name for name in known if name in chosen) or customers.USUAL


@router.get("/customers")
def book(visit: Visit = SignedIn, after: int = 0, columns: str = "") -> Response:
    whom, known = read_filter(visit.request.query_params), customers.columns_of(visit.desk)
    shown = _columns(visit, columns, known)
    lines = customers.find(visit.desk, whom.search, max(after, 0), customers.PAGE + 1, shown, whom)
    more = len(lines) > customers.PAGE
    lines = lines[: customers.PAGE]
    values: dict[str, Any] = {
        "lines": lines,
        "whom": whom,
        "q": whom.search,
        "more": lines[-1].person.id if more else None,
        "after": max(after, 0),
        "columns": shown,
        "known": known,
        "matching": customers.how_many(visit.desk, whom),
        "address": address_of(whom, shown),
        "rule_words": _rule_words(visit, whom.rule),
    }
    if visit.request.headers.get("HX-Target") == "book":
        return HTMLResponse(visit.piece("customers/lines.html", **values))
    with visit.desk.book.reading() as session:
        segments = list(session.scalars(select(Segment).order_by(Segment.name)))
    values |= {
        "count": customers.count(visit.desk),
        "gone": customers.count_gone(visit.desk),
        "segments": segments,
        "tags": customers.tags_of(visit.desk),
    }
    values |= {"views": customers.views(visit.desk), "said": visit.request.query_params.get("said", "")[:200]}
    values["problem"] = visit.request.query_params.get("problem", "")[:300]
    return visit.page("customers/book.html", "customers", **values)


def _rule_words(visit: Visit, rule: Rule | None) -> str:
    if rule is None:
        return ""
    return say_rule(rule, segments.saying(visit.desk, visit.desk.ledger()))


@router.post("/customers/views")
def keep_view(visit: Visit = SignedIn, form: FormData = Form) -> Response:
    whom, known = read_filter(form), customers.columns_of(visit.desk)
    chosen = text_of(form, "columns").split(",")
    columns = [name for name in known if name in chosen] or list(customers.USUAL)
    try:
        view_id = customers.keep_view(visit.desk, text_of(form, "name"), whom, columns, visit.by)
    except CannotKeepView as problem:
        return _back(visit, whom, columns, problem=str(problem))
    return visit.go(f"/customers/views/{view_id}")


@router.get("/customers/views/{view_id}")
def open_view(view_id: int, visit: Visit = SignedIn) -> Response:
    with visit.desk.book.reading() as session:
        view = session.get(SavedView, view_id)
    if view is None:
        raise NotFound("No such view is kept.")
    rule = Rule.model_validate(view.rule) if view.rule else None
    return visit.go("/customers?" + address_of(Filter(view.search, view.segment_id, rule), view.columns))


@router.post("/customers/views/{view_id}/forget")
def forget_view(view_id: int, visit: Visit = SignedIn) -> Response:
    customers.forget_view(visit.desk, view_id)
    return visit.go("/customers")


def _back(visit: Visit, whom: Filter, columns: Sequence[str], **said: str) -> Response:
    query = "&".join(filter(None, (address_of(whom, columns), urlencode(said))))
    return visit.go(f"/customers?{query}")


def _chosen(visit: Visit, form: FormData) -> list[int]:
    """The people that were ticked, or all that match the filter."""
    if text_of(form, "all") == "1":
        return customers.all_ids(visit.desk, read_filter(form))
    ticked = [str(one) for one in form.getlist("person")]
    return [int(one) for one in ticked[:MOST_CHOSEN] if one.isdigit() and len(one) < 15]


@router.post("/customers/many")
def many(visit: Visit = SignedIn, form: FormData = Form) -> Response:
    """Tags, untags and downloads at once; suppressing and erasing are asked about first."""
    ids, act = _chosen(visit, form), text_of(form, "act")
    whom, columns = read_filter(form), text_of(form, "columns").split(",")
    if not ids:
        return _back(visit, whom, columns, problem="Nobody is chosen. Tick some customers first.")
    if act.startswith("download-"):
        return send_file(visit, "customers", act.removeprefix("download-"), ids)
    if act in ("suppress", "erase", "bring"):
        return _ask(visit, form, ids, act)
    try:
        if act == "tag":
            count = bulk.tag_all(visit.desk, ids, text_of(form, "tag_name"), visit.by)
            return _back(visit, whom, columns, said=f"{count:,} tagged “{text_of(form, 'tag_name').strip()}”")
        count = bulk.untag_all(visit.desk, ids, text_of(form, "tag_name"), visit.by)
        return _back(
            visit, whom, columns, said=f"{count:,} no longer tagged “{text_of(form, 'tag_name').strip()}”"
        )
    except bulk.NotKept as problem:
        return _back(visit, whom, columns, problem=str(problem))


def _ask(visit: Visit, form: FormData, ids: list[int], act: str, problem: str | None = None) -> Response:
    with visit.desk.book.reading() as session:
        shown = customers.find_people(session, ids[:SHOWN_OF_MANY])
    values = {
        "ids": ids if text_of(form, "all") != "1" else [],
        "count": len(ids),
        "shown": shown,
        "act": act,
        "whom": read_filter(form),
        "columns": text_of(form, "columns"),
        "all": text_of(form, "all"),
        "channels": CHANNELS,
        "problem": problem,
        "sequences": by_hand.that_ring(visit.desk) if act == "bring" else [],
    }
    return visit.page("customers/many.html", "customers", 422 if problem else 200, **values)


@router.post("/customers/many/{act}")
def many_for_good(act: str, visit: Visit = SignedIn, form: FormData = Form) -> Response:
    ids, whom, columns = _chosen(visit, form), read_filter(form), text_of(form, "columns").split(",")
    if number_of(form, "count") != len(ids):
        return _ask(
            visit, form, ids, act, "The number of people has changed meanwhile. Look again and repeat."
        )
    if act == "erase":
        try:
            count = bulk.erase_all(visit.desk, ids, text_of(form, "typed"), visit.by)
        except bulk.NotKept as problem:
            return _ask(visit, form, ids, act, str(problem))
        return _back(visit, whom, columns, said=f"{count:,} erased")
    if act == "bring":
        return _bring(visit, form, ids)
    if act != "suppress":
        raise NotFound("There is no such act.")
    chosen = [one for one in CHANNELS if one in form.getlist("channel")]
    if not chosen:
        return _ask(visit, form, ids, act, "Choose at least one channel.")
    count = bulk.suppress_all(visit.desk, ids, chosen, visit.by)
    return _back(visit, whom, columns, said=f"{count:,} suppressed on {', '.join(chosen)}")


def _bring(visit: Visit, form: FormData, ids: list[int]) -> Response:
    """Into a sequence that rings, at once or a few at a time."""
    sequence = number_of(form, "sequence")
    if sequence is None:
        return _ask(visit, form, ids, "bring", "Choose a sequence that rings.")
    try:
        count = by_hand.bring_by_hand(visit.desk, sequence, ids, read_pace(form), visit.by)
    except (SequenceProblem, ValueError) as problem:
        return _ask(visit, form, ids, "bring", str(problem))
    visit.wake()
    return _back(visit, read_filter(form), text_of(form, "columns").split(","), said=f"{count:,} brought in")


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
        shutil.rmtree(path.parent, ignore_errors=True)
        raise NotFound(str(problem)) from problem
    clean = BackgroundTask(shutil.rmtree, path.parent, ignore_errors=True)
    return FileResponse(path, media_type=exporting.MEDIA[form], filename=path.name, background=clean)
