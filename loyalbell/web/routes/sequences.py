"""Sequences: the list, the editor with its score and rail, publishing, the live view, held batches."""

import json
import secrets
from datetime import UTC, datetime
from typing import Any

from fastapi import APIRouter
from fastapi.responses import HTMLResponse, JSONResponse, Response
from sqlalchemy import func, select
from starlette.datastructures import FormData

from loyalbell.core.money import minor_digits
from loyalbell.core.segments.model import RuleProblem
from loyalbell.core.sequences import words
from loyalbell.core.sequences.plan import Plan, PlanProblem, read_plan
from loyalbell.desk.sequences import editing, occasions
from loyalbell.desk.sequences.editing import SequenceProblem, draft_of
from loyalbell.store import tables
from loyalbell.store.tables import Enrolment, HeldBatch, SequenceVersion
from loyalbell.web import sequence_rail as rail
from loyalbell.web import sequence_sheet as sheet
from loyalbell.web.sequence_form import plan_from
from loyalbell.web.visit import Form, NotFound, SignedIn, Visit, number_of, text_of

router = APIRouter()


def sequence_of(visit: Visit, sequence_id: int) -> tables.Sequence:
    with visit.desk.book.reading() as session:
        found = session.get(tables.Sequence, sequence_id)
    if found is None:
        raise NotFound("No such sequence is on file.")
    return found


@router.get("/sequences")
def list_page(visit: Visit = SignedIn) -> Response:
    with visit.desk.book.reading() as session:
        names = sheet.names_of(visit, session)
        under_way = dict(
            session.execute(
                select(Enrolment.sequence_id, func.count()).where(Enrolment.state == "under way").group_by(Enrolment.sequence_id)
            ).all()
        )  # fmt: skip
        kept = session.scalars(
            select(tables.Sequence).where(tables.Sequence.archived_at.is_(None)).order_by(tables.Sequence.rank, tables.Sequence.id)
        )  # fmt: skip
        rows = [(one, words.say_start(draft_of(one).start, names), under_way.get(one.id, 0)) for one in kept]
        held = session.scalar(select(func.count()).where(HeldBatch.state == "held"))
    return visit.page("sequences/sequences.html", "sequences", rows=rows, held=held or 0)


@router.get("/sequences/new")
def new(visit: Visit = SignedIn) -> Response:
    return visit.page("sequences/occasions.html", "sequences", occasions=occasions.OCCASIONS)


@router.post("/sequences/new")
def begin(visit: Visit = SignedIn, form: FormData = Form) -> Response:
    """Opens an occasion as a finished draft."""
    made = occasions.make(visit.desk, text_of(form, "start"), visit.by)
    if made is None:
        raise NotFound("There is no such occasion.")
    return visit.go(f"/sequences/{made}")


def _editor(visit: Visit, sequence: tables.Sequence | None, name: str, plan: Plan, problem: str | None = None, saved: bool = False) -> Response:  # fmt: skip
    sequence_id = sequence.id if sequence else 0
    values = sheet.sheet_values(visit, plan, sequence_id) | {
        "sequence": sequence, "name": name, "problem": problem, "saved": saved, "standing": standing(visit, sequence),
        "past_days": rail.rail_days(plan), "page_mark": secrets.token_hex(8),
    }  # fmt: skip
    return visit.page("sequences/editor.html", "sequences", 422 if problem else 200, **values)


def standing(visit: Visit, sequence: tables.Sequence | None) -> str:
    """``draft · live version 2 has 318 people under way``."""
    if sequence is None:
        return "not kept yet"
    if sequence.live_version_id is None:
        return "draft"
    with visit.desk.book.reading() as session:
        live = session.get_one(SequenceVersion, sequence.live_version_id)
        people = session.scalar(
            select(func.count()).where(Enrolment.sequence_id == sequence.id, Enrolment.state == "under way")
        )
    word = {"live": "live", "paused": "paused", "stopped": "stopped"}.get(sequence.state, "")
    same = live.plan == sequence.draft
    return f"{'' if same else 'changed draft · '}{word} version {live.number} has {people:,} people under way"


@router.get("/sequences/{sequence_id:int}")
def edit(sequence_id: int, visit: Visit = SignedIn, saved: str = "") -> Response:
    sequence = sequence_of(visit, sequence_id)
    return _editor(visit, sequence, sequence.name, draft_of(sequence), saved=bool(saved))


def _plan(visit: Visit, form: FormData) -> Plan:
    return plan_from(form, minor_digits(visit.desk.the_shop().currency))


@router.post("/sequences/draw")
def draw(visit: Visit = SignedIn, form: FormData = Form) -> Response:
    """Score and words after a change; a change that cannot be made is said, and nothing is lost."""
    problem = ""
    try:
        plan = _plan(visit, form)
    except PlanProblem as error:
        plan, problem = read_plan(json.loads(text_of(form, "plan"))), str(error)
    values = sheet.sheet_values(visit, plan, number_of(form, "sequence_id") or 0, text_of(form, "picked"))
    page = visit.piece("sequences/sheet.html", **values)
    note = visit.piece("parts/problem.html", problem=problem) if problem else ""
    return HTMLResponse(f'{page}<div id="problem" hx-swap-oob="innerHTML">{note}</div>')


@router.post("/sequences/rail")
def read_rail(visit: Visit = SignedIn, form: FormData = Form) -> Response:
    """At once, or as soon as it is worked out: the page asks again, and keeps what it shows until then."""
    plan = read_plan(json.loads(text_of(form, "plan")))
    values = rail.rail_soon(
        visit, plan, number_of(form, "sequence_id") or 0, text_of(form, "page"), rail.rail_days(plan)
    )
    if values is None:
        return Response(status_code=204, headers={"HX-Trigger": "rail-later"})
    return HTMLResponse(visit.piece("sequences/rail.html", while_typing=True, **values))


@router.post("/sequences")
def save(visit: Visit = SignedIn, form: FormData = Form) -> Response:
    seen = number_of(form, "seen_at")
    seen_at = datetime.fromtimestamp(seen, UTC) if seen else None
    try:
        kept = editing.keep(
            visit.desk,
            number_of(form, "sequence_id"),
            text_of(form, "name"),
            _plan(visit, form),
            visit.by,
            seen_at,
        )
    except (PlanProblem, SequenceProblem) as problem:
        return visit.problem(str(problem))
    if text_of(form, "then") == "publish":
        return visit.go(f"/sequences/{kept}/publish")
    return visit.go(f"/sequences/{kept}?saved=yes")


@router.post("/sequences/{sequence_id:int}/copy")
def copy(sequence_id: int, visit: Visit = SignedIn) -> Response:
    one = sequence_of(visit, sequence_id)
    with visit.desk.book.reading() as session:
        taken = {name.lower() for name in session.scalars(select(tables.Sequence.name))}
    number = next(at for at in range(2, 1_000) if f"{one.name} {at}".lower() not in taken)
    made = editing.keep(visit.desk, None, f"{one.name} {number}", draft_of(one), visit.by)
    return visit.go(f"/sequences/{made}")


@router.post("/sequences/{sequence_id:int}/rank")
def rank(sequence_id: int, visit: Visit = SignedIn, form: FormData = Form) -> Response:
    editing.change_rank(visit.desk, sequence_of(visit, sequence_id).id, text_of(form, "to") == "up", visit.by)
    return visit.go("/sequences")


@router.post("/sequences/{sequence_id:int}/department")
def department(sequence_id: int, visit: Visit = SignedIn, form: FormData = Form) -> Response:
    sequence = sequence_of(visit, sequence_id)
    try:
        editing.change_department(visit.desk, sequence_id, number_of(form, "department"), visit.by)
    except SequenceProblem as problem:
        return _editor(visit, sequence, sequence.name, draft_of(sequence), str(problem))
    return visit.go(f"/sequences/{sequence_id}")


@router.post("/sequences/{sequence_id:int}/archive")
def archive(sequence_id: int, visit: Visit = SignedIn) -> Response:
    editing.archive(visit.desk, sequence_of(visit, sequence_id).id, visit.by)
    return visit.go("/sequences")


@router.get("/sequences/{sequence_id:int}/plan.json")
def as_json(sequence_id: int, visit: Visit = SignedIn) -> Response:
    one = sequence_of(visit, sequence_id)
    headers = {"Content-Disposition": f'attachment; filename="sequence-{one.id}.json"'}
    return JSONResponse({"name": one.name, **one.draft}, headers=headers)


@router.post("/sequences/bring-in")
async def bring_in(visit: Visit = SignedIn, form: FormData = Form) -> Response:
    """A sequence from a JSON file, as a draft."""
    file: Any = form.get("file")
    try:
        data = json.loads((await file.read()).decode("utf-8")) if hasattr(file, "read") else {}
        name = str(data.pop("name", "")) if isinstance(data, dict) else ""
        made = editing.keep(visit.desk, None, name or "Brought in", read_plan(data), visit.by)
    except (UnicodeDecodeError, json.JSONDecodeError):
        return visit.problem("This file is not JSON. Choose one that was downloaded from a sequence.")
    except (PlanProblem, SequenceProblem, RuleProblem) as problem:
        return visit.problem(str(problem))
    return visit.go(f"/sequences/{made}")
