"""Sequences that ring: publishing, who stands where, single people, what was held, and the care for all of them."""

from datetime import UTC, date, datetime, time
from types import SimpleNamespace
from typing import Any

from fastapi import APIRouter
from fastapi.responses import HTMLResponse, Response
from markupsafe import escape
from pydantic import ValidationError
from sqlalchemy import func, select
from starlette.datastructures import FormData

from loyalbell.core.care import CAUSE_WORDS
from loyalbell.core.pacing import NeverOpens, paced
from loyalbell.core.segments.model import RuleProblem
from loyalbell.core.sequences import plan as p
from loyalbell.core.sequences import words
from loyalbell.core.sequences.entry import OUT_WORDS
from loyalbell.core.sequences.plan import read_plan
from loyalbell.core.timing import at_local
from loyalbell.core.zones import zone_of
from loyalbell.desk import sending, staff_notes
from loyalbell.desk.sequences import by_hand, editing, goals, pausing, publishing, rehearsing
from loyalbell.desk.sequences.editing import SequenceProblem, draft_of
from loyalbell.desk.sequences.publishing import Choices
from loyalbell.store import tables
from loyalbell.store.tables import Enrolment, HeldBatch, Person, SequenceVersion, Touch
from loyalbell.web import sequence_rail as rail
from loyalbell.web import sequence_sheet as sheet
from loyalbell.web.routes.sequences import sequence_of, standing
from loyalbell.web.sequence_form import read_pace
from loyalbell.web.visit import Form, NotFound, SignedIn, Visit, number_of, text_of

router = APIRouter()
A_MOMENT = 1.0
"""Seconds that the page before publishing waits for its rehearsal before it is shown without."""
SHOWN = 50


@router.get("/sequences/{sequence_id:int}/publish")
def before_publishing(sequence_id: int, visit: Visit = SignedIn) -> Response:
    return _publish_page(visit, sequence_of(visit, sequence_id))


def _publish_page(visit: Visit, sequence: tables.Sequence, problem: str | None = None, form: FormData | None = None) -> Response:  # fmt: skip
    plan = draft_of(sequence)
    what = publishing.change(visit.desk, sequence.id)
    with visit.desk.book.reading() as session:
        names = sheet.names_of(visit, session)
        live = session.get(SequenceVersion, sequence.live_version_id) if sequence.live_version_id else None
    steps = {one.id: rail.short_step(one, names) for one in p.every_step(plan.steps)}
    old = (
        {one.id: rail.short_step(one, names) for one in p.every_step(read_plan(live.plan).steps)}
        if live
        else {}
    )
    seen = rail.rail_soon(visit, plan, sequence.id, "publish", rehearsing.PAST_DAYS, A_MOMENT)
    values = (seen or {}) | {
        "rehearsing": seen is None, "past_days": rehearsing.PAST_DAYS,
        "sequence": sequence, "what": what, "steps": steps, "old": old, "problem": problem, "standing": standing(visit, sequence),
        "mistakes": editing.mistakes(visit.desk, plan, sequence.id), "form": form or {},
    }  # fmt: skip
    return visit.page("sequences/publish.html", "sequences", 422 if problem else 200, **values)


@router.post("/sequences/{sequence_id:int}/publish")
def publish(sequence_id: int, visit: Visit = SignedIn, form: FormData = Form) -> Response:
    sequence = sequence_of(visit, sequence_id)
    try:
        moves = {
            key.removeprefix("move."): str(value)
            for key, value in form.items()
            if key.startswith("move.") and value
        }
        at = _from_when(visit, form)
        normal = rehearsing.rehearse_past(visit.desk, draft_of(sequence), sequence_id).figures.normal
        choices = Choices(
            text_of(form, "backlog") == "yes", read_pace(form), moves, text_of(form, "finished") == "yes", at
        )
        publishing.publish(visit.desk, sequence_id, choices, visit.by, normal)
    except (SequenceProblem, RuleProblem, NeverOpens) as problem:
        return _publish_page(visit, sequence, str(problem), form)
    except (ValueError, ValidationError):
        return _publish_page(
            visit, sequence, "A day, an hour or a number is not one. Look at what you typed.", form
        )
    visit.wake()
    waits = sequence_of(visit, sequence_id).state == "draft"
    return visit.go(f"/sequences/{sequence_id}/publish" if waits else f"/sequences/{sequence_id}/live")


def _from_when(visit: Visit, form: FormData) -> datetime | None:
    """``None`` for now. Raises ``SequenceProblem`` without a day, or for one that has passed; ``ValueError``."""
    if text_of(form, "when") != "later":
        return None
    if not text_of(form, "day"):
        raise SequenceProblem("Say from which day it should ring, or choose now.")
    day, clock = (
        date.fromisoformat(text_of(form, "day")),
        time.fromisoformat(text_of(form, "clock") or "09:00"),
    )
    at = at_local(day, clock, visit.desk.the_shop().zone)
    if at <= visit.desk.clock.now():
        raise SequenceProblem("That day and hour have passed. Choose a later one, or now.")
    return at


@router.post("/sequences/{sequence_id:int}/call-off")
def call_off(sequence_id: int, visit: Visit = SignedIn) -> Response:
    publishing.call_off(visit.desk, sequence_of(visit, sequence_id).id, visit.by)
    return visit.go(f"/sequences/{sequence_id}/publish")


@router.post("/sequences/pace")
def say_pace(visit: Visit = SignedIn, form: FormData = Form) -> Response:
    """When the last of them is in, while one types."""
    pace, people = read_pace(form), number_of(form, "people") or 0
    if pace is None or not people:
        return Response("")
    try:
        now = int(visit.desk.clock.now().timestamp())
        found = paced(people, now, pace, zone_of(visit.desk.the_shop().zone))
    except ValueError as problem:
        return Response(str(problem))
    return Response(
        visit.piece("sequences/paced.html", found=found, at=lambda one: datetime.fromtimestamp(one, UTC)),
        media_type="text/html",
    )


@router.get("/sequences/{sequence_id:int}/live")
def live(sequence_id: int, visit: Visit = SignedIn) -> Response:
    return _live(visit, sequence_of(visit, sequence_id))


def _live(visit: Visit, sequence: tables.Sequence, problem: str | None = None) -> Response:
    with visit.desk.book.reading() as session:
        version = session.get(SequenceVersion, sequence.live_version_id) if sequence.live_version_id else None
        if version is None:
            return visit.go(f"/sequences/{sequence.id}")
        names, plan = sheet.names_of(visit, session), read_plan(version.plan)
        here = dict(session.execute(select(Enrolment.step, func.count()).where(Enrolment.sequence_id == sequence.id, Enrolment.state == "under way").group_by(Enrolment.step)).all())  # fmt: skip
        sent = session.execute(
            select(Touch.step, Touch.state, Touch.cause, func.count())
            .where(Touch.origin_kind == "sequence", Touch.origin_id == sequence.id)
            .group_by(Touch.step, Touch.state, Touch.cause)
        ).all()
        states = session.execute(
            select(Enrolment.state, Enrolment.cause, func.count()).where(Enrolment.sequence_id == sequence.id).group_by(Enrolment.state, Enrolment.cause)
        ).all()  # fmt: skip
        held = session.scalar(select(func.count()).where(HeldBatch.origin_kind == "sequence", HeldBatch.origin_id == sequence.id, HeldBatch.state == "held"))  # fmt: skip
    gone = {
        step: sum(count for at, state, _, count in sent if at == step and state == "sent")
        for step, *_ in sent
    }
    values: dict[str, Any] = {
        "sequence": sequence, "plan": plan, "score": sheet.score(plan, names), "picked": "", "held": held, "problem": problem,
        "band": words.say_stops(plan, names) if plan.stops or plan.stop_when else "", "begins": sheet.short_start(plan.start),
        "counts": {one.id: f"{gone.get(one.id, 0):,} sent" for one in p.every_step(plan.steps) if isinstance(one, p.MessageStep)},
        "rows": [_row(one, names, here, sent) for one in p.every_step(plan.steps)],
        "states": sorted(((say_state(state, cause), state, count) for state, cause, count in states), key=lambda one: -one[2]),
        "standing": standing(visit, sequence), "unsure": sum(count for _, state, _, count in sent if state == "unsure"), "goal": _goal(visit, sequence.id, plan, names), "waiting": pausing.waiting(visit.desk, sequence.id) if sequence.state == "paused" else 0,
    }  # fmt: skip
    return visit.page("sequences/live.html", "sequences", 422 if problem else 200, **values)


def _goal(visit: Visit, sequence_id: int, plan: p.Plan, names: Any) -> SimpleNamespace | None:
    try:
        found = goals.goal_of(visit.desk, sequence_id, plan)
    except RuleProblem:
        return None
    if found is None or plan.goal is None:
        return None
    words_ = sheet.say_goal(plan, names)
    return SimpleNamespace(words=words_, days=plan.goal.days, share=plan.goal.share, treated=found.treated, came_in=found.came_in, held_back=found.held_back)  # fmt: skip


def _row(step: p.AnyStep, names: Any, here: Any, sent: Any) -> SimpleNamespace:
    mine = [(state, cause, count) for at, state, cause, count in sent if at == step.id]
    return SimpleNamespace(
        id=step.id, words=words.say_step(step, names), now=here.get(step.id, 0), is_message=isinstance(step, p.MessageStep),
        sent=sum(count for state, _, count in mine if state == "sent"), held=sum(count for state, _, count in mine if state == "held"),
        under_way=sum(count for state, _, count in mine if state in ("planned", "handing")),
        causes=[(CAUSE_WORDS.get(cause or "", cause or state), count) for state, cause, count in mine if state in ("withheld", "bounced", "failed")],
    )  # fmt: skip


def say_state(state: str, cause: str | None) -> str:
    if state == "kept out":
        return f"stayed out: {OUT_WORDS.get(cause or '', cause or '')}"
    if state == "left":
        return rail.say_cause(cause or "")
    return f"{state}: {cause}" if cause else {"finished": "came to the end"}.get(state, state)


@router.post("/sequences/{sequence_id:int}/pause")
def pause(sequence_id: int, visit: Visit = SignedIn) -> Response:
    return _act(visit, sequence_id, lambda: pausing.pause(visit.desk, sequence_id, visit.by))


@router.post("/sequences/{sequence_id:int}/resume")
def resume(sequence_id: int, visit: Visit = SignedIn, form: FormData = Form) -> Response:
    wanted, let_in = text_of(form, "waiting") == "send", text_of(form, "crossed") == "in"
    return _act(visit, sequence_id, lambda: pausing.resume(visit.desk, sequence_id, wanted, let_in, visit.by))


@router.post("/sequences/{sequence_id:int}/stop")
def stop(sequence_id: int, visit: Visit = SignedIn) -> Response:
    return _act(visit, sequence_id, lambda: pausing.stop_all(visit.desk, sequence_id, visit.by))


def _act(visit: Visit, sequence_id: int, act: Any) -> Response:
    sequence = sequence_of(visit, sequence_id)
    try:
        act()
    except SequenceProblem as problem:
        return _live(visit, sequence, str(problem))
    visit.wake()
    return visit.go(f"/sequences/{sequence_id}/live")


@router.post("/sequences/{sequence_id:int}/bring")
def bring(sequence_id: int, visit: Visit = SignedIn, form: FormData = Form) -> Response:
    """One customer by email, mobile or number."""
    sequence_of(visit, sequence_id)
    who = text_of(form, "who").strip()
    with visit.desk.book.reading() as session:
        found = session.get(Person, int(who)) if who.isdigit() and len(who) < 10 else None
        found = found or session.scalar(
            select(Person).where((func.lower(Person.email) == who.lower()) | (Person.phone == who)).limit(1)
        )
    if found is None:
        return visit.problem("Nobody on file has this email, mobile or number.")
    try:
        by_hand.bring_by_hand(visit.desk, sequence_id, [found.id], None, visit.by)
    except SequenceProblem as problem:
        return visit.problem(str(problem))
    visit.wake()
    return HTMLResponse(f'<span class="good">{escape(found.name or "They")} came in.</span>')


@router.post("/sequences/{sequence_id:int}/unsure")
def unsure(sequence_id: int, visit: Visit = SignedIn, form: FormData = Form) -> Response:
    """A person's word on messages that were cut off at the moment of sending."""
    sending.decide_unsure(
        visit.desk, sequence_of(visit, sequence_id).id, text_of(form, "word") == "again", visit.by, "sequence"
    )
    visit.wake()
    return visit.go(f"/sequences/{sequence_id}/live")


@router.post("/staff-notes/{note_id}/done")
def note_done(note_id: int, visit: Visit = SignedIn) -> Response:
    staff_notes.done(visit.desk, note_id, visit.by)
    return visit.go("/")


@router.get("/hand-off")
def hand_off(visit: Visit = SignedIn, name: str = "") -> Response:
    """The hand-off lists, and one of them as a CSV file."""
    if name:
        text = staff_notes.handed_off(visit.desk, name)
        headers = {"Content-Disposition": 'attachment; filename="hand-off.csv"'}
        return Response(text, media_type="text/csv; charset=utf-8", headers=headers)
    return visit.page("sequences/hand_off.html", "sequences", lists=staff_notes.lists(visit.desk))


@router.get("/sequences/{sequence_id:int}/people")
def people(
    sequence_id: int, visit: Visit = SignedIn, step: str = "", state: str = "", page: int = 1
) -> Response:
    sequence = sequence_of(visit, sequence_id)
    where = [Enrolment.sequence_id == sequence_id]
    if step:
        where += [Enrolment.step == step, Enrolment.state == "under way"]
    if state:
        where.append(Enrolment.state == state)
    with visit.desk.book.reading() as session:
        names = sheet.names_of(visit, session)
        count = session.scalar(select(func.count()).where(*where)) or 0
        rows = session.execute(
            select(Enrolment, Person).join(Person, Person.id == Enrolment.person_id).where(*where)
            .order_by(Enrolment.entered_at.desc(), Enrolment.id).offset((max(page, 1) - 1) * SHOWN).limit(SHOWN)
        ).all()  # fmt: skip
        version = session.get(SequenceVersion, sequence.live_version_id) if sequence.live_version_id else None
    steps = (
        {one.id: rail.short_step(one, names) for one in p.every_step(read_plan(version.plan).steps)}
        if version
        else {}
    )
    base = f"/sequences/{sequence_id}/people?step={step}&state={state}"
    return visit.page("sequences/people.html", "sequences", sequence=sequence, rows=rows, count=count, steps=steps, step=step, state=state, page=max(page, 1), pages=-(-count // SHOWN), base=base, say_state=say_state)  # fmt: skip


@router.post("/enrolments/{enrolment_id}/move")
def move(enrolment_id: int, visit: Visit = SignedIn, form: FormData = Form) -> Response:
    with visit.desk.book.reading() as session:
        one = session.get(Enrolment, enrolment_id)
    if one is None:
        raise NotFound("That person’s way through the sequence is no longer on file.")
    try:
        by_hand.move_person(visit.desk, enrolment_id, text_of(form, "to"), visit.by)
    except SequenceProblem as problem:
        return _live(visit, sequence_of(visit, one.sequence_id), str(problem))
    visit.wake()
    back = text_of(form, "back")
    return visit.go(
        back if back.startswith("/") and not back.startswith("//") else f"/customers/{one.person_id}"
    )
