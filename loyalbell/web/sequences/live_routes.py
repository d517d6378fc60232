"""Sequences that ring: publishing, who stands where, single people, what was held, and the care for all of
them.
"""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from secrets import token_hex
from typing import Any

from fastapi import APIRouter
from fastapi.responses import HTMLResponse, Response
from markupsafe import escape
from pydantic import ValidationError
from starlette.datastructures import FormData

from loyalbell.core.clock.local_time import local_day
from loyalbell.core.clock.pacing import NeverOpens, paced
from loyalbell.core.clock.zones import zone_of
from loyalbell.core.policy.delivery_state import BOUNCED, FAILED, HELD, SENT, UNSURE, WAITING, WITHHELD
from loyalbell.core.policy.origins import SEQUENCE
from loyalbell.core.policy.send_policy import CAUSE_WORDS
from loyalbell.core.segments.model import RuleProblem
from loyalbell.core.sequences import plan as p
from loyalbell.core.sequences import plan_words
from loyalbell.core.sequences.entry import OUT_WORDS
from loyalbell.core.sequences.goal import GoalStand
from loyalbell.services import approvals
from loyalbell.services.customers import queries as customer_queries
from loyalbell.services.delivery import after_stop
from loyalbell.services.rehearsal import rehearsals
from loyalbell.services.rehearsal.backlog import forecast_backlog
from loyalbell.services.results.detail import StepFigures, steps_of
from loyalbell.services.results.ranges import days_of
from loyalbell.services.sequences import drafts as sequence_drafts
from loyalbell.services.sequences import goals, manual_entry, pausing, publishing, publishing_preview
from loyalbell.services.sequences import queries as sequence_queries
from loyalbell.services.sequences.drafts import SequenceProblem, draft_of
from loyalbell.services.sequences.left_out import left_out
from loyalbell.services.sequences.publishing import Choices
from loyalbell.services.today import staff_notes
from loyalbell.storage import schema
from loyalbell.storage.schema import Enrolment
from loyalbell.web.accounts.approval_asking import ask_approval
from loyalbell.web.request import Form, NotFound, RequestContext, SignedIn, number_of, own_path, text_of
from loyalbell.web.sequences import editor_rail as rail
from loyalbell.web.sequences import views as sheet
from loyalbell.web.sequences.forms import ADDED_BEFORE, from_when, key_of_page, read_pace
from loyalbell.web.sequences.lookup import sequence_of, standing

router = APIRouter()
A_MOMENT = 1.0
"""Seconds that the page before publishing waits for its rehearsal before it is shown without."""
SHOWN = 50


@router.get("/sequences/{sequence_id:int}/publish")
def before_publishing(sequence_id: int, context: RequestContext = SignedIn) -> Response:
    return _publish_page(context, sequence_of(context, sequence_id))


def _publish_page(
    context: RequestContext,
    sequence: schema.Sequence,
    problem: str | None = None,
    form: FormData | Mapping[str, str] | None = None,
) -> Response:
    request = approvals.newest(context.application, "sequence", sequence.id)
    if form is None and request is not None and request.closed_at is None:
        form = request.detail.get("form", {})
    plan = draft_of(sequence)
    what = publishing_preview.change(context.application, sequence.id)
    names = sequence_queries.plan_names(context.application)
    live = sequence_queries.live_plan(context.application, sequence)
    steps = {one.id: rail.short_step(one, names) for one in p.every_step(plan.steps)}
    old = {one.id: rail.short_step(one, names) for one in p.every_step(live.steps)} if live else {}
    seen = rail.rail_soon(context, plan, sequence.id, "publish", rehearsals.PAST_DAYS, A_MOMENT)
    values = (seen or {}) | {
        "rehearsing": seen is None,
        "past_days": rehearsals.PAST_DAYS,
        "sequence": sequence,
        "what": what,
        "steps": steps,
        "old": old,
        "problem": problem,
        "standing": standing(context, sequence),
        "mistakes": sequence_drafts.mistakes(context.application, plan, sequence.id),
        "form": form or {},
        "request": request,
        "must_ask": approvals.must_ask_to_publish(context.application, context.visitor),
        "adds": 0,
        "later": None,
    }
    return context.page("sequences/publish.html", "sequences", 422 if problem else 200, **values)


@router.post("/sequences/{sequence_id:int}/publish")
def publish(sequence_id: int, context: RequestContext = SignedIn, form: FormData = Form) -> Response:
    sequence = sequence_of(context, sequence_id)
    if approvals.must_ask_to_publish(context.application, context.visitor):
        chosen = {key: value for key, value in form.items() if isinstance(value, str) and key != "_csrf"}
        back = f"/sequences/{sequence_id}/publish"
        return ask_approval(context, "sequence", sequence_id, sequence.name, {"form": chosen}, back)
    try:
        moves = {
            key.removeprefix("move."): str(value)
            for key, value in form.items()
            if key.startswith("move.") and value
        }
        at = from_when(context, form)
        figures = rehearsals.rehearse_past(context.application, draft_of(sequence), sequence_id).figures
        choices = Choices(
            text_of(form, "backlog") == "yes", read_pace(form), moves, text_of(form, "finished") == "yes", at
        )
        publishing.publish(
            context.application, sequence_id, choices, context.by, figures.normal, figures.by_weekday
        )
    except (SequenceProblem, RuleProblem, NeverOpens) as problem:
        return _publish_page(context, sequence, str(problem), form)
    except (ValueError, ValidationError):
        return _publish_page(
            context, sequence, "A day, an hour or a number is not one. Look at what you typed.", form
        )
    approvals.done(context.application, "sequence", sequence_id, context.by)
    context.wake()
    waits = sequence_of(context, sequence_id).state == "draft"
    return context.go(f"/sequences/{sequence_id}/publish" if waits else f"/sequences/{sequence_id}/live")


@router.post("/sequences/{sequence_id:int}/call-off")
def call_off(sequence_id: int, context: RequestContext = SignedIn) -> Response:
    publishing.call_off(context.application, sequence_of(context, sequence_id).id, context.by)
    return context.go(f"/sequences/{sequence_id}/publish")


@router.post("/sequences/pace")
def say_pace(context: RequestContext = SignedIn, form: FormData = Form) -> Response:
    """While one types: when the last of them is in, what they would get on which day, and the words of the
    button.
    """
    about = number_of(form, "sequence")
    sequence = sequence_of(context, about) if about else None
    values = _pace(context, sequence, form) | {
        "what": (
            publishing_preview.change(context.application, sequence.id)
            if sequence and text_of(form, "whom") != "left out"
            else None
        ),
        "at": lambda one: datetime.fromtimestamp(one, UTC),
    }
    return Response(context.piece("sequences/paced.html", **values), media_type="text/html")


def _pace(context: RequestContext, sequence: schema.Sequence | None, form: FormData) -> dict[str, Any]:
    """Without a sequence, whose plan would be rehearsed, only the pace itself."""
    people, application = number_of(form, "people") or 0, context.application
    try:
        pace, later = read_pace(form), from_when(context, form)
        if pace is None or not people:
            return {"problem": "Say how many people at a time, and how often.", "adds": 0, "later": None}
        start = later or application.clock.now()
        zone = zone_of(application.the_shop().zone)
        found = paced(people, int(start.timestamp()), pace, zone)
        if sequence is None:
            return {"found": found, "forecast": None, "problem": ""}
        plan, only = draft_of(sequence), None
        if text_of(form, "whom") == "left out":
            plan = sequence_queries.live_plan(application, sequence) or plan
            only = left_out(application, sequence.id, plan)
        forecast = forecast_backlog(application, plan, sequence.id, pace, only)
    except (SequenceProblem, RuleProblem, ValueError) as problem:
        return {"problem": str(problem), "adds": 0, "later": None}
    names = sequence_queries.plan_names(application)
    steps = {one.id: rail.short_step(one, names) for one in p.every_step(plan.steps)}
    return rail.backlog_values(context, forecast, steps) | {
        "found": found,
        "adds": people if text_of(form, "backlog") == "yes" else 0,
        "later": later,
        "problem": "",
    }


@router.get("/sequences/{sequence_id:int}/live")
def live(sequence_id: int, context: RequestContext = SignedIn) -> Response:
    return _live(context, sequence_of(context, sequence_id))


def _live(context: RequestContext, sequence: schema.Sequence, problem: str | None = None) -> Response:
    plan = sequence_queries.live_plan(context.application, sequence)
    if plan is None:
        return context.go(f"/sequences/{sequence.id}")
    names = sequence_queries.plan_names(context.application)
    counts = sequence_queries.live_counts(context.application, sequence.id)
    here, sent, states, held = counts.here, counts.deliveries, counts.enrolments, counts.held_batches
    gone = {
        step: sum(count for at, state, _, count in sent if at == step and state == SENT) for step, *_ in sent
    }
    shop, now = context.application.the_shop(), context.application.clock.now()
    year = days_of("year", local_day(now, shop.zone), shop.zone)
    came = {one.step: one for one in steps_of(context.application, (SEQUENCE, sequence.id), year)}
    failed_count, failed_words = after_stop.failed_of(context.application, "sequence", sequence.id)
    values: dict[str, Any] = {
        "sequence": sequence,
        "plan": plan,
        "score": sheet.score(plan, names),
        "picked": "",
        "held": held,
        "problem": problem,
        "once": token_hex(8),
        "band": plan_words.say_exits(plan, names) if plan.exit_events or plan.exit_condition else "",
        "begins": sheet.short_start(plan.start),
        "counts": {
            one.id: say_counts(here.get(one.id, 0), gone.get(one.id, 0), came.get(one.id))
            for one in p.every_step(plan.steps)
            if isinstance(one, p.MessageStep)
        },
        "rows": [_row(one, names, here, sent, came.get(one.id)) for one in p.every_step(plan.steps)],
        "states": sorted(
            ((say_state(state, cause), state, count) for state, cause, count in states),
            key=lambda one: -one[2],
        ),
        "standing": standing(context, sequence),
        "failed": failed_count,
        "failed_words": failed_words,
        "unsure": sum(count for _, state, _, count in sent if state == UNSURE),
        "goal": _goal(context, sequence.id, plan, names),
        "left_out": _left_out(context, sequence, plan),
        "waiting": pausing.waiting(context.application, sequence.id) if sequence.state == "paused" else 0,
    }
    return context.page("sequences/live.html", "sequences", 422 if problem else 200, **values)


def _left_out(context: RequestContext, sequence: schema.Sequence, plan: p.Plan) -> int:
    """How many qualify and were never in it; of one that is on."""
    if sequence.state != "live":
        return 0
    try:
        return len(left_out(context.application, sequence.id, plan))
    except RuleProblem:
        return 0


@dataclass(frozen=True)
class GoalCard:
    """The goal in words, within how many ``days``, its target ``share``, and what each side reached."""

    words: str
    days: int
    share: int
    treated: GoalStand
    came_in: GoalStand
    held_back: GoalStand


def _goal(context: RequestContext, sequence_id: int, plan: p.Plan, names: Any) -> GoalCard | None:
    try:
        found = goals.goal_of(context.application, sequence_id, plan)
    except RuleProblem:
        return None
    if found is None or plan.goal is None:
        return None
    return GoalCard(
        words=sheet.say_goal(plan, names),
        days=plan.goal.days,
        share=plan.goal.share,
        treated=found.treated,
        came_in=found.came_in,
        held_back=found.held_back,
    )


def _counted(rows: list[tuple[Any, Any, int]], states: Sequence[Any], words: str) -> list[str]:
    count = sum(count for state, _, count in rows if state in states)
    return [f"{count:,} {words}"] if count else []


@dataclass(frozen=True)
class StepRow:
    """A step with who stands there ``now``, how many messages left, and what became of the ``others``."""

    id: str
    words: str
    now: int
    is_message: bool
    sent: int
    others: list[str]
    clicked: int | None
    orders: int | None


def say_counts(here: int, sent: int, came: StepFigures | None) -> list[str]:
    """What stands under a message on the live score, line by line."""
    lines = [f"{here:,} here"] if here else []
    lines.append(f"{sent:,} sent")
    if came is not None:
        lines += [f"{came.acts['clicked']:,} clicked", f"{came.orders:,} ordered"]
    return lines


def _row(step: p.AnyStep, names: Any, here: Any, sent: Any, came: StepFigures | None) -> StepRow:
    mine = [(state, cause, count) for at, state, cause, count in sent if at == step.id]
    return StepRow(
        id=step.id,
        words=plan_words.say_step(step, names),
        now=here.get(step.id, 0),
        is_message=isinstance(step, p.MessageStep),
        sent=sum(count for state, _, count in mine if state == SENT),
        others=[
            *(
                f"{count:,} {CAUSE_WORDS.get(cause or '', cause or state)}"
                for state, cause, count in mine
                if state in (WITHHELD, BOUNCED, FAILED)
            ),
            *_counted(mine, (HELD,), "held"),
            *_counted(mine, WAITING, "waiting to be sent"),
        ],
        clicked=came.acts["clicked"] if came else None,
        orders=came.orders if came else None,
    )


def say_state(state: str, cause: str | None) -> str:
    if state == "kept out":
        return f"stayed out: {OUT_WORDS.get(cause or '', cause or '')}"
    if state == "left":
        return rail.say_cause(cause or "")
    return f"{state}: {cause}" if cause else {"finished": "came to the end"}.get(state, state)


@router.post("/sequences/{sequence_id:int}/pause")
def pause(sequence_id: int, context: RequestContext = SignedIn) -> Response:
    return _act(context, sequence_id, lambda: pausing.pause(context.application, sequence_id, context.by))


@router.post("/sequences/{sequence_id:int}/resume")
def resume(sequence_id: int, context: RequestContext = SignedIn, form: FormData = Form) -> Response:
    wanted, let_in = text_of(form, "waiting") == "send", text_of(form, "crossed") == "in"
    return _act(
        context,
        sequence_id,
        lambda: pausing.resume(context.application, sequence_id, wanted, let_in, context.by),
    )


@router.post("/sequences/{sequence_id:int}/stop")
def stop(sequence_id: int, context: RequestContext = SignedIn) -> Response:
    return _act(context, sequence_id, lambda: pausing.stop_all(context.application, sequence_id, context.by))


def _act(context: RequestContext, sequence_id: int, act: Any) -> Response:
    sequence = sequence_of(context, sequence_id)
    try:
        act()
    except SequenceProblem as problem:
        return _live(context, sequence, str(problem))
    context.wake()
    return context.go(f"/sequences/{sequence_id}/live")


@router.post("/sequences/{sequence_id:int}/bring")
def bring(sequence_id: int, context: RequestContext = SignedIn, form: FormData = Form) -> Response:
    """One customer by email, mobile or number."""
    sequence_of(context, sequence_id)
    who = text_of(form, "who").strip()
    found = customer_queries.person_named(context.application, who)
    if found is None:
        return context.problem("Nobody on file has this email, mobile or number.")
    try:
        count = manual_entry.bring_by_hand(
            context.application, sequence_id, [found.id], None, context.by, key=key_of_page(form)
        )
    except SequenceProblem as problem:
        return context.problem(str(problem))
    if not count:
        return context.problem(ADDED_BEFORE)
    context.wake()
    return HTMLResponse(f'<span class="good">{escape(found.name or "They")} came in.</span>')


@router.post("/sequences/{sequence_id:int}/failed")
def failed(sequence_id: int, context: RequestContext = SignedIn) -> Response:
    """Sends again to everybody whose message was given up."""
    sequence = sequence_of(context, sequence_id)
    after_stop.send_failed_again(context.application, "sequence", sequence.id, context.by)
    context.wake()
    return context.go(f"/sequences/{sequence_id}/live")


@router.post("/sequences/{sequence_id:int}/unsure")
def unsure(sequence_id: int, context: RequestContext = SignedIn, form: FormData = Form) -> Response:
    """A person's word on messages that were cut off at the moment of sending."""
    after_stop.decide_unsure(
        context.application,
        sequence_of(context, sequence_id).id,
        text_of(form, "word") == "again",
        context.by,
        "sequence",
    )
    context.wake()
    return context.go(f"/sequences/{sequence_id}/live")


@router.post("/staff-notes/{note_id}/done")
def note_done(note_id: int, context: RequestContext = SignedIn) -> Response:
    staff_notes.done(context.application, note_id, context.by)
    return context.go("/")


@router.get("/hand-off")
def hand_off(context: RequestContext = SignedIn, name: str = "") -> Response:
    """The hand-off lists, and one of them as a CSV file."""
    if name:
        text = staff_notes.handed_off(context.application, name)
        context.note("downloaded a list for others", list=name)
        headers = {"Content-Disposition": 'attachment; filename="hand-off.csv"'}
        return Response(text, media_type="text/csv; charset=utf-8", headers=headers)
    return context.page("sequences/hand_off.html", "sequences", lists=staff_notes.lists(context.application))


@router.get("/sequences/{sequence_id:int}/people")
def people(
    sequence_id: int, context: RequestContext = SignedIn, step: str = "", state: str = "", page: int = 1
) -> Response:
    sequence = sequence_of(context, sequence_id)
    names = sequence_queries.plan_names(context.application)
    skip = (max(page, 1) - 1) * SHOWN
    found = sequence_queries.enrolled(context.application, sequence_id, step, state, skip, SHOWN)
    rows, count = found.rows, found.count
    plan = sequence_queries.live_plan(context.application, sequence)
    steps = {one.id: rail.short_step(one, names) for one in p.every_step(plan.steps)} if plan else {}
    base = f"/sequences/{sequence_id}/people?step={step}&state={state}"
    return context.page(
        "sequences/people.html",
        "sequences",
        sequence=sequence,
        rows=rows,
        count=count,
        steps=steps,
        step=step,
        state=state,
        page=max(page, 1),
        pages=-(-count // SHOWN),
        base=base,
        say_state=say_state,
    )


@router.post("/enrolments/{enrolment_id}/move")
def move(enrolment_id: int, context: RequestContext = SignedIn, form: FormData = Form) -> Response:
    one = context.application.find(Enrolment, enrolment_id)
    if one is None:
        raise NotFound("That person’s way through the sequence is no longer on file.")
    try:
        manual_entry.move_person(context.application, enrolment_id, text_of(form, "to"), context.by)
    except SequenceProblem as problem:
        return _live(context, sequence_of(context, one.sequence_id), str(problem))
    context.wake()
    return context.go(own_path(text_of(form, "back"), f"/customers/{one.person_id}"))
