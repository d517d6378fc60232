"""The customer book: finding, choosing columns, keeping views, and acts on many at once."""

import shutil
import tempfile
from collections.abc import Mapping, Sequence
from pathlib import Path
from secrets import token_hex
from typing import Any
from urllib.parse import urlencode

from fastapi import APIRouter
from fastapi.responses import FileResponse, HTMLResponse, Response
from starlette.background import BackgroundTask
from starlette.datastructures import FormData

from loyalbell.core.channels import CHANNELS
from loyalbell.core.segments.model import Rule, RuleProblem, read_rule
from loyalbell.core.segments.sentence import say_rule
from loyalbell.services import approvals
from loyalbell.services.accounts.permissions import Permission
from loyalbell.services.customers import bulk, erasure, own_data, saved_views
from loyalbell.services.customers import queries as customer_queries
from loyalbell.services.customers.queries import Filter
from loyalbell.services.customers.saved_views import CannotKeepView
from loyalbell.services.imports import exports
from loyalbell.services.segments import queries as segment_queries
from loyalbell.services.sequences import manual_entry
from loyalbell.services.sequences.drafts import SequenceProblem
from loyalbell.storage.schema import SavedView
from loyalbell.web.json_text import read_json
from loyalbell.web.request import Form, NotAllowed, NotFound, RequestContext, SignedIn, number_of, text_of
from loyalbell.web.sequences.forms import ADDED_BEFORE, from_when, key_of_page, read_pace

router = APIRouter()
MOST_CHOSEN = 1_000
SHOWN_OF_MANY = 12
LEAST_SEARCH = 2
BASIC_COLUMNS = ("email", "phone", "last_order")
"""Of whoever sees a customer’s basics alone."""


def read_filter(given: Mapping[str, Any]) -> Filter:
    """What the address or a form says of whom to show; a rule that cannot be read narrows nothing."""

    def number(name: str) -> int | None:
        text = str(given.get(name) or "")
        return int(text) if text.isdecimal() and len(text) < 10 else None

    rule: Rule | None = None
    if given.get("rule"):
        try:
            rule = read_rule(read_json(str(given["rule"])[:20_000]))
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
    if tuple(columns) != customer_queries.USUAL:
        said["columns"] = ",".join(columns)
    return urlencode(said)


def _columns(context: RequestContext, given: str, known: Mapping[str, str]) -> tuple[str, ...]:
    chosen = context.request.query_params.getlist("column") or [one for one in given.split(",") if one]
    usual = tuple(name for name in customer_queries.USUAL if name in known)
    return tuple(name for name in known if name in chosen) or usual


@router.get("/customers")
def book(context: RequestContext = SignedIn, after: int = 0, columns: str = "") -> Response:
    whom, known = read_filter(context.request.query_params), customer_queries.columns_of(context.application)
    narrows = context.may(Permission.DETAILS)
    if not narrows:
        whom, known = Filter(whom.search), {name: known[name] for name in BASIC_COLUMNS}
    shown = _columns(context, columns, known)
    lines = _found(context, whom, shown, max(after, 0), narrows)
    more = len(lines) > customer_queries.PAGE
    lines = lines[: customer_queries.PAGE]
    values: dict[str, Any] = {
        "lines": lines,
        "whom": whom,
        "q": whom.search,
        "more": lines[-1].person.id if more else None,
        "after": max(after, 0),
        "columns": shown,
        "known": known,
        "matching": customer_queries.how_many(context.application, whom),
        "address": address_of(whom, shown),
        "rule_words": _rule_words(context, whom.rule),
        "narrows": narrows,
    }
    if context.request.headers.get("HX-Target") == "book":
        return HTMLResponse(context.piece("customers/lines.html", **values))
    segments = segment_queries.every_segment(context.application)
    values |= {
        "count": customer_queries.count(context.application),
        "gone": customer_queries.count_gone(context.application),
        "segments": segments,
        "tags": customer_queries.tags_of(context.application),
    }
    values |= {
        "views": saved_views.views(context.application),
        "said": context.request.query_params.get("said", "")[:200],
    }
    values["problem"] = context.request.query_params.get("problem", "")[:300]
    return context.page("customers/book.html", "customers", **values)


def _found(
    context: RequestContext, whom: Filter, shown: Sequence[str], after: int, narrows: bool
) -> list[customer_queries.Line]:
    """One page and one more. Whoever sees basics alone finds somebody, and does not leaf through the book."""
    if not narrows and (len(whom.search) < LEAST_SEARCH or after):
        return []
    return customer_queries.find(
        context.application, whom.search, after, customer_queries.PAGE + 1, shown, whom
    )


def _rule_words(context: RequestContext, rule: Rule | None) -> str:
    if rule is None:
        return ""
    return say_rule(rule, segment_queries.saying(context.application, context.application.snapshot()))


@router.post("/customers/views")
def keep_view(context: RequestContext = SignedIn, form: FormData = Form) -> Response:
    whom, known = read_filter(form), customer_queries.columns_of(context.application)
    chosen = text_of(form, "columns").split(",")
    columns = [name for name in known if name in chosen] or list(customer_queries.USUAL)
    try:
        view_id = saved_views.keep_view(context.application, text_of(form, "name"), whom, columns, context.by)
    except CannotKeepView as problem:
        return _back(context, whom, columns, problem=str(problem))
    return context.go(f"/customers/views/{view_id}")


@router.get("/customers/views/{view_id}")
def open_view(view_id: int, context: RequestContext = SignedIn) -> Response:
    view = context.application.find(SavedView, view_id)
    if view is None:
        raise NotFound("No such view is kept.")
    rule = Rule.model_validate(view.rule) if view.rule else None
    return context.go("/customers?" + address_of(Filter(view.search, view.segment_id, rule), view.columns))


@router.post("/customers/views/{view_id}/forget")
def forget_view(view_id: int, context: RequestContext = SignedIn) -> Response:
    saved_views.forget_view(context.application, view_id)
    return context.go("/customers")


def _back(context: RequestContext, whom: Filter, columns: Sequence[str], **said: str) -> Response:
    query = "&".join(filter(None, (address_of(whom, columns), urlencode(said))))
    return context.go(f"/customers?{query}")


def _chosen(context: RequestContext, form: FormData) -> list[int]:
    """The people that were ticked, or all that match the filter."""
    if text_of(form, "all") == "1":
        return customer_queries.all_ids(context.application, read_filter(form))
    ticked = [str(one) for one in form.getlist("person")]
    return [int(one) for one in ticked[:MOST_CHOSEN] if one.isdecimal() and len(one) < 15]


@router.post("/customers/many")
def many(context: RequestContext = SignedIn, form: FormData = Form) -> Response:
    """Tags, untags and downloads at once; suppressing and erasing are asked about first."""
    ids, act = _chosen(context, form), text_of(form, "act")
    whom, columns = read_filter(form), text_of(form, "columns").split(",")
    if not ids:
        return _back(context, whom, columns, problem="Nobody is chosen. Tick some customers first.")
    if act.startswith("download-"):
        if not context.may(Permission.EXPORT):
            raise NotAllowed
        return send_file(context, "customers", act.removeprefix("download-"), ids)
    if act in ("suppress", "erase", "bring"):
        return _ask(context, form, ids, act)
    try:
        if act == "tag":
            count = bulk.tag_all(context.application, ids, text_of(form, "tag_name"), context.by)
            return _back(
                context, whom, columns, said=f"{count:,} tagged “{text_of(form, 'tag_name').strip()}”"
            )
        count = bulk.untag_all(context.application, ids, text_of(form, "tag_name"), context.by)
        return _back(
            context, whom, columns, said=f"{count:,} no longer tagged “{text_of(form, 'tag_name').strip()}”"
        )
    except bulk.NotKept as problem:
        return _back(context, whom, columns, problem=str(problem))


def _ask(
    context: RequestContext, form: FormData, ids: list[int], act: str, problem: str | None = None
) -> Response:
    shown = customer_queries.some_people(context.application, ids[:SHOWN_OF_MANY])
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
        "once": text_of(form, "once") or token_hex(8),
        "sequences": manual_entry.that_ring(context.application) if act == "bring" else [],
    }
    return context.page("customers/many.html", "customers", 422 if problem else 200, **values)


@router.post("/customers/many/{act}")
def many_for_good(act: str, context: RequestContext = SignedIn, form: FormData = Form) -> Response:
    ids, whom, columns = _chosen(context, form), read_filter(form), text_of(form, "columns").split(",")
    if number_of(form, "count") != len(ids):
        return _ask(
            context, form, ids, act, "The number of people has changed meanwhile. Look again and repeat."
        )
    if act == "erase":
        try:
            count = bulk.erase_all(context.application, ids, text_of(form, "typed"), context.by)
        except bulk.NotKept as problem:
            return _ask(context, form, ids, act, str(problem))
        done = erasure.receipt(context.application)
        if count and done:
            return context.go(f"/customers/erased/{done.number}")
        return _back(context, whom, columns, said=f"{count:,} erased")
    if act == "bring":
        return _bring(context, form, ids)
    if act != "suppress":
        raise NotFound("There is no such act.")
    chosen = [channel for channel in CHANNELS if channel in form.getlist("channel")]
    if not chosen:
        return _ask(context, form, ids, act, "Choose at least one channel.")
    count = bulk.suppress_all(context.application, ids, chosen, context.by)
    return _back(context, whom, columns, said=f"{count:,} suppressed on {', '.join(chosen)}")


@router.get("/customers/erased/{number}")
def receipt_page(number: int, context: RequestContext = SignedIn) -> Response:
    """What was taken out: to keep, and to show whoever asked for it."""
    done = erasure.receipt(context.application, number)
    if done is None:
        raise NotFound("No such erasure is in the log.")
    return context.page("customers/erased.html", "customers", done=done)


@router.get("/customers/{person_id}/everything.zip")
def everything(person_id: int, context: RequestContext = SignedIn) -> Response:
    """All that is on file about one person, for them."""
    content = own_data.as_zip(context.application, person_id)
    if content is None:
        raise NotFound("No such customer is on file.")
    context.note("downloaded everything about a customer", person=person_id)
    headers = {"Content-Disposition": f'attachment; filename="everything-{person_id}.zip"'}
    return Response(content, media_type="application/zip", headers=headers)


def _bring(context: RequestContext, form: FormData, ids: list[int]) -> Response:
    """Into a sequence that rings, at once or a few at a time."""
    sequence = number_of(form, "sequence")
    if approvals.must_ask(context.application, context.visitor, len(ids)):
        return _ask(context, form, ids, "bring", "To add so many at once needs an owner. Ask one to do it.")
    if sequence is None:
        return _ask(context, form, ids, "bring", "Choose a sequence that is on.")
    try:
        start = from_when(context, form)
        count = manual_entry.bring_by_hand(
            context.application, sequence, ids, read_pace(form), context.by, start, key_of_page(form)
        )
    except (SequenceProblem, ValueError) as problem:
        return _ask(context, form, ids, "bring", str(problem))
    context.wake()
    said = f"{count:,} added" if count else ADDED_BEFORE
    return _back(context, read_filter(form), text_of(form, "columns").split(","), said=said)


@router.get("/export/{kind}.{form}")
def download(kind: str, form: str, context: RequestContext = SignedIn) -> Response:
    return send_file(context, kind, form)


def send_file(context: RequestContext, kind: str, form: str, only: list[int] | None = None) -> Response:
    """A file made for this request and deleted after it. Raises ``NotFound`` for a kind or format we lack."""
    path = Path(tempfile.mkdtemp()) / f"{kind}.{form}"
    try:
        exports.check(kind, form)
        exports.to_file(context.application, kind, form, path, only)
    except exports.CannotExport as problem:
        shutil.rmtree(path.parent, ignore_errors=True)
        raise NotFound(str(problem)) from problem
    context.note(f"downloaded {kind}", form=form, **({"people": len(only)} if only is not None else {}))
    clean = BackgroundTask(shutil.rmtree, path.parent, ignore_errors=True)
    return FileResponse(path, media_type=exports.MEDIA[form], filename=path.name, background=clean)
