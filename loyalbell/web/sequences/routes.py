"""Sequences: the list, the editor with its score and rail, publishing, the live view, held batches."""

import json
import secrets
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Any

from fastapi import APIRouter
from fastapi.responses import HTMLResponse, JSONResponse, Response
from starlette.datastructures import FormData

from loyalbell.core.history.money import minor_digits
from loyalbell.core.segments.model import RuleProblem
from loyalbell.core.sequences import plan_words
from loyalbell.core.sequences.plan import Plan, PlanProblem, read_plan
from loyalbell.services import unsaved
from loyalbell.services.accounts import departments
from loyalbell.services.results.of_sequences import NOTHING, LastDays, last_days
from loyalbell.services.sequences import commands as sequence_commands
from loyalbell.services.sequences import queries as sequence_queries
from loyalbell.services.sequences import sequence_templates
from loyalbell.services.sequences.drafts import SequenceProblem, draft_of
from loyalbell.storage import schema
from loyalbell.web.json_text import read_json
from loyalbell.web.request import Form, NotFound, RequestContext, SignedIn, number_of, text_of
from loyalbell.web.sequences import editor_rail as rail
from loyalbell.web.sequences import views as sheet
from loyalbell.web.sequences.forms import plan_from
from loyalbell.web.sequences.lookup import sequence_of, standing

router = APIRouter()
MOST_ORDERED = 1_000


@router.get("/sequences")
def list_page(context: RequestContext = SignedIn) -> Response:
    names = sequence_queries.plan_names(context.application)
    figures = last_days(context.application)
    waiting = sequence_queries.held_messages(context.application)
    rows = [
        ListRow(
            sequence,
            plan_words.say_start(draft_of(sequence).start, names),
            under_way,
            figures.get(sequence.id, NOTHING),
            waiting.get(sequence.id, 0),
        )
        for sequence, under_way in sequence_queries.in_order(context.application)
    ]
    held = sequence_queries.batches_waiting(context.application)
    return context.page("sequences/sequences.html", "sequences", rows=rows, held=held)


@dataclass(frozen=True)
class ListRow:
    """A sequence as the list shows it: its start in words, people under way, its last 30 days, and the
    messages that wait for approval.
    """

    one: schema.Sequence
    starts: str
    under_way: int
    lately: LastDays
    waiting: int

    @property
    def bars(self) -> list[tuple[float, float]]:
        """(left edge, height) of a bar for each of the last 30 days."""
        tallest = max(self.lately.by_day) or 1
        return [(at * 3.0, round(22.0 * count / tallest, 1)) for at, count in enumerate(self.lately.by_day)]


@router.post("/sequences/order")
def order(context: RequestContext = SignedIn, form: FormData = Form) -> Response:
    """The whole list in a new order."""
    ids = [int(value) for value in form.getlist("sequence") if isinstance(value, str) and value.isdecimal()]
    sequence_commands.put_in_order(context.application, ids[:MOST_ORDERED], context.by)
    return context.go("/sequences")


@router.get("/sequences/new")
def new(context: RequestContext = SignedIn) -> Response:
    return context.page(
        "sequences/sequence_templates.html",
        "sequences",
        occasions=sequence_templates.OCCASIONS,
        own=sequence_queries.own_templates(context.application),
    )


@router.post("/sequences/new")
def begin(context: RequestContext = SignedIn, form: FormData = Form) -> Response:
    """Opens a ready-made sequence, or one of the shop's own templates, as a finished draft."""
    own = text_of(form, "start").removeprefix("own:")
    if own.isdecimal() and int(own) in dict(sequence_queries.own_templates(context.application)):
        return _copy(context, int(own))
    made = sequence_templates.make(context.application, text_of(form, "start"), context.by)
    if made is None:
        raise NotFound("There is no such ready-made sequence.")
    return context.go(f"/sequences/{made}")


def _editor(
    context: RequestContext,
    sequence: schema.Sequence | None,
    name: str,
    plan: Plan,
    problem: str | None = None,
    saved: bool = False,
    kept: schema.UnsavedDraft | None = None,
    opened: bool = False,
    newer: bool = False,
) -> Response:
    """``kept`` is what was typed before and not saved; ``opened``: the page shows it; ``newer``: what is
    saved has changed since.
    """
    sequence_id = sequence.id if sequence else 0
    values = sheet.sheet_values(context, plan, sequence_id) | {
        "sequence": sequence,
        "name": name,
        "problem": problem,
        "saved": saved,
        "standing": standing(context, sequence),
        "past_days": rail.rail_days(plan),
        "page_mark": secrets.token_hex(8),
        "kept": kept,
        "opened": opened,
        "newer": newer,
        "about": str(sequence_id),
        "base": unsaved.mark_of(_saved(sequence)),
    }
    return context.page("sequences/editor.html", "sequences", 422 if problem else 200, **values)


@router.get("/sequences/{sequence_id:int}")
def edit(sequence_id: int, context: RequestContext = SignedIn, saved: str = "") -> Response:
    sequence = sequence_of(context, sequence_id)
    kept = unsaved.typed_of(context.application, context.user_id, "sequence", str(sequence_id))
    if kept is None or kept.content is None:
        return _editor(context, sequence, sequence.name, draft_of(sequence), saved=bool(saved))
    newer = kept.base != unsaved.mark_of(_saved(sequence))
    opened = not newer or bool(context.request.query_params.get("typed"))
    name, plan = sequence.name, draft_of(sequence)
    if opened:
        name, plan = str(kept.content["name"]), read_plan(kept.content["plan"])
    return _editor(context, sequence, name, plan, kept=kept, opened=opened, newer=newer)


def _saved(sequence: schema.Sequence | None) -> dict[str, Any]:
    """What is saved of a sequence; nothing of one that is new."""
    if sequence is None:
        return {}
    return {"name": sequence.name, "plan": _sets_in_order(draft_of(sequence).model_dump(mode="json"))}


def _sets_in_order(data: Any) -> Any:
    """Ids chosen from a list come back in the list's order; their order means nothing."""
    if isinstance(data, dict):
        return {key: _sets_in_order(value) for key, value in data.items()}
    if isinstance(data, list):
        ids = all(type(one) is int for one in data)
        return sorted(data) if ids else [_sets_in_order(one) for one in data]
    return data


def _note_typed(context: RequestContext, form: FormData, plan: Plan) -> None:
    sequence_id = number_of(form, "sequence_id") or 0
    sequence = context.application.find(schema.Sequence, sequence_id)
    if sequence is not None:
        typed = {"name": text_of(form, "name"), "plan": _sets_in_order(plan.model_dump(mode="json"))}
        unsaved.note_typed(
            context.application,
            context.user_id,
            "sequence",
            str(sequence_id),
            text_of(form, "base"),
            _saved(sequence),
            typed,
        )


@router.post("/sequences/unsaved")
def throw_away(context: RequestContext = SignedIn, form: FormData = Form) -> Response:
    """What was typed and not saved goes; what was saved stays."""
    about = text_of(form, "about")
    unsaved.drop_typed(context.application, context.user_id, "sequence", about)
    return context.go(f"/sequences/{about}")


def _plan(context: RequestContext, form: FormData) -> Plan:
    return plan_from(form, minor_digits(context.application.the_shop().currency))


@router.post("/sequences/draw")
def draw(context: RequestContext = SignedIn, form: FormData = Form) -> Response:
    """Score and words after a change; a change that cannot be made is said, and nothing is lost."""
    problem = ""
    try:
        plan = _plan(context, form)
    except PlanProblem as error:
        plan, problem = read_plan(read_json(text_of(form, "plan"))), str(error)
    _note_typed(context, form, plan)
    values = sheet.sheet_values(context, plan, number_of(form, "sequence_id") or 0, text_of(form, "picked"))
    page = context.piece("sequences/sheet.html", **values)
    note = context.piece("parts/problem.html", problem=problem) if problem else ""
    return HTMLResponse(f'{page}<div id="problem" hx-swap-oob="innerHTML">{note}</div>')


@router.post("/sequences/rail")
def read_rail(context: RequestContext = SignedIn, form: FormData = Form) -> Response:
    """At once, or as soon as it is worked out: the page asks again, and keeps what it shows until then."""
    plan = read_plan(read_json(text_of(form, "plan")))
    values = rail.rail_soon(
        context, plan, number_of(form, "sequence_id") or 0, text_of(form, "page"), rail.rail_days(plan)
    )
    if values is None:
        return Response(status_code=204, headers={"HX-Trigger": "rail-later"})
    return HTMLResponse(context.piece("sequences/rail.html", while_typing=True, **values))


@router.post("/sequences")
def save(context: RequestContext = SignedIn, form: FormData = Form) -> Response:
    seen = number_of(form, "seen_at")
    seen_at = datetime.fromtimestamp(seen, UTC) if seen else None
    bound, known = context.visitor.departments, number_of(form, "sequence_id")
    if known and not departments.may_change(context.application, bound, known):
        return context.problem("This sequence belongs to another department than yours.")
    try:
        kept = sequence_commands.keep(
            context.application,
            number_of(form, "sequence_id"),
            text_of(form, "name"),
            _plan(context, form),
            context.by,
            seen_at,
        )
    except (PlanProblem, SequenceProblem) as problem:
        return context.problem(str(problem))
    if bound and not known:
        sequence_commands.change_department(context.application, kept, bound[0], context.by)
    unsaved.drop_typed(context.application, context.user_id, "sequence", str(kept))
    if text_of(form, "then") == "publish":
        return context.go(f"/sequences/{kept}/publish")
    return context.go(f"/sequences/{kept}?saved=yes")


@router.post("/sequences/{sequence_id:int}/copy")
def copy(sequence_id: int, context: RequestContext = SignedIn) -> Response:
    return _copy(context, sequence_id)


@router.post("/sequences/{sequence_id:int}/template")
def template(sequence_id: int, context: RequestContext = SignedIn, form: FormData = Form) -> Response:
    sequence_of(context, sequence_id)
    sequence_commands.offer_as_template(
        context.application, sequence_id, text_of(form, "is_template") == "yes", context.by
    )
    return context.go(f"/sequences/{sequence_id}")


def _copy(context: RequestContext, sequence_id: int) -> Response:
    one = sequence_of(context, sequence_id)
    name = sequence_queries.name_of_a_copy(context.application, one.name)
    made = sequence_commands.keep(context.application, None, name, draft_of(one), context.by)
    return context.go(f"/sequences/{made}")


@router.post("/sequences/{sequence_id:int}/rank")
def rank(sequence_id: int, context: RequestContext = SignedIn, form: FormData = Form) -> Response:
    sequence_commands.change_rank(
        context.application, sequence_of(context, sequence_id).id, text_of(form, "to") == "up", context.by
    )
    return context.go("/sequences")


@router.post("/sequences/{sequence_id:int}/department")
def department(sequence_id: int, context: RequestContext = SignedIn, form: FormData = Form) -> Response:
    sequence = sequence_of(context, sequence_id)
    try:
        sequence_commands.change_department(
            context.application, sequence_id, number_of(form, "department"), context.by
        )
    except SequenceProblem as problem:
        return _editor(context, sequence, sequence.name, draft_of(sequence), str(problem))
    return context.go(f"/sequences/{sequence_id}")


@router.post("/sequences/{sequence_id:int}/archive")
def archive(sequence_id: int, context: RequestContext = SignedIn) -> Response:
    sequence = sequence_of(context, sequence_id)
    try:
        sequence_commands.archive(context.application, sequence.id, context.by)
    except SequenceProblem as problem:
        return _editor(context, sequence, sequence.name, draft_of(sequence), str(problem))
    return context.go("/sequences")


@router.get("/sequences/{sequence_id:int}/plan.json")
def as_json(sequence_id: int, context: RequestContext = SignedIn) -> Response:
    one = sequence_of(context, sequence_id)
    headers = {"Content-Disposition": f'attachment; filename="sequence-{one.id}.json"'}
    return JSONResponse({"name": one.name, **one.draft}, headers=headers)


@router.post("/sequences/bring-in")
async def bring_in(context: RequestContext = SignedIn, form: FormData = Form) -> Response:
    """A sequence from a JSON file, as a draft."""
    file: Any = form.get("file")
    try:
        data = read_json((await file.read()).decode("utf-8")) if hasattr(file, "read") else {}
        name = str(data.pop("name", "")) if isinstance(data, dict) else ""
        made = sequence_commands.keep(
            context.application, None, name or "Brought in", read_plan(data), context.by
        )
    except (UnicodeDecodeError, json.JSONDecodeError):
        return context.problem("This file is not JSON. Choose one that was downloaded from a sequence.")
    except (PlanProblem, SequenceProblem, RuleProblem) as problem:
        return context.problem(str(problem))
    return context.go(f"/sequences/{made}")
