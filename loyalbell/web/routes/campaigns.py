"""Campaigns: choose message and segment, look at who gets it, send."""

from datetime import UTC, date, datetime, time

from fastapi import APIRouter
from fastapi.responses import Response
from pydantic import ValidationError
from sqlalchemy import select
from starlette.datastructures import FormData

from loyalbell.core.campaigns import CampaignPlan
from loyalbell.core.messages.fields import FieldProblem
from loyalbell.core.messages.letter import FilledEmail
from loyalbell.core.messages.preflight import blocks_sending
from loyalbell.core.pacing import Paced, paced
from loyalbell.core.plain_errors import say_error
from loyalbell.core.timing import at_local
from loyalbell.core.zones import zone_of
from loyalbell.desk import campaign_care, campaigns, messages, sending
from loyalbell.desk.campaigns import CannotSend
from loyalbell.store.tables import Campaign, Message, Person, Segment
from loyalbell.web.drafts import Writing, drafts_of
from loyalbell.web.visit import Form, NotFound, SignedIn, Visit, number_of, text_of

router = APIRouter()
SHOWN_PEOPLE = 6
ORDERS = (
    ("email", "by email"), ("text email", "by text if they agreed to it, else by email"), ("email text", "by email, else by text"),
    ("chat text email", "by chat, else by text, else by email"), ("text", "by text"), ("chat", "by chat"),
)  # fmt: skip


def _campaign(visit: Visit, campaign_id: int) -> Campaign:
    with visit.desk.book.reading() as session:
        campaign = session.get(Campaign, campaign_id)
    if campaign is None:
        raise NotFound("No such campaign is on file.")
    return campaign


@router.get("/campaigns")
def list_page(visit: Visit = SignedIn) -> Response:
    with visit.desk.book.reading() as session:
        rows = session.execute(
            select(Campaign, Segment.name, Message.name)
            .join(Segment, Segment.id == Campaign.segment_id)
            .join(Message, Message.id == Campaign.message_id)
            .order_by(Campaign.id.desc())
        ).all()
    return visit.page("campaigns/campaigns.html", "campaigns", rows=rows)


@router.get("/campaigns/new")
def new(visit: Visit = SignedIn, segment: int = 0, message: int = 0) -> Response:
    return _choose(visit, {"segment": segment, "message": message, "name": ""})


def _choose(visit: Visit, chosen: dict[str, object], problem: str | None = None) -> Response:
    with visit.desk.book.reading() as session:
        segments = list(session.scalars(select(Segment).order_by(Segment.name)))
        letters = list(session.scalars(select(Message).where(~Message.hidden).order_by(Message.name)))
    values = {
        "segments": segments,
        "messages": letters,
        "chosen": chosen,
        "problem": problem,
        "orders": ORDERS,
    }
    return visit.page("campaigns/new.html", "campaigns", 422 if problem else 200, **values)


@router.post("/campaigns")
def draft(visit: Visit = SignedIn, form: FormData = Form) -> Response:
    segment, message = number_of(form, "segment"), number_of(form, "message")
    chosen: dict[str, object] = {"segment": segment, "message": message, "name": text_of(form, "name")}
    if segment is None or message is None:
        return _choose(visit, chosen, "Choose a message and a segment.")
    try:
        channels = [one for one in text_of(form, "channels", "email").split(" ") if one]
        made = campaigns.draft_campaign(
            visit.desk, text_of(form, "name"), segment, message, visit.by, channels
        )
    except CannotSend as problem:
        return _choose(visit, chosen, str(problem))
    return visit.go(f"/campaigns/{made}")


@router.get("/campaigns/{campaign_id}")
def confirm(campaign_id: int, visit: Visit = SignedIn) -> Response:
    campaign = _campaign(visit, campaign_id)
    if campaign.state not in ("draft", "scheduled", "held"):
        return visit.go(f"/results/{campaign_id}")
    return _confirm(visit, campaign)


def _confirm(visit: Visit, campaign: Campaign, problem: str | None = None) -> Response:
    who = campaigns.audience(visit.desk, campaign)
    content = messages.content_of(visit.desk, campaign.message_id)
    found = campaigns.findings(visit.desk, campaign)
    first = next(iter(who.reached), None)
    writing = content.find(who.channel[first] if first else campaign.channels[0])
    shown = _as_read(visit, writing, first)
    with visit.desk.book.reading() as session:
        segment = session.get_one(Segment, campaign.segment_id)
        message = session.get_one(Message, campaign.message_id)
        some = list(who.reached)[:SHOWN_PEOPLE]
        other = list(
            session.execute(
                select(Segment.id, Segment.name)
                .where(Segment.archived_at.is_(None), Segment.id != segment.id)
                .order_by(Segment.name)
            )
        )
        people = list(session.scalars(select(Person).where(Person.id.in_(some))))
        when = campaigns.plan_of(campaign).at or visit.desk.clock.now()
        later = campaign_care.in_quiet_hours(session, visit.desk.the_shop(), list(who.reached), when)
    values = {
        "campaign": campaign,
        "segment": segment,
        "message": message,
        "who": who,
        "people": people,
        "findings": found,
        "blocked": blocks_sending(found),
        "shown": shown,
        "writing": writing,
        "problem": problem,
        "later": later,
        "plan": campaigns.plan_of(campaign),
        "other_segments": other,
        "finish": _finish(visit, campaign, len(who.reached)),
        "instant": lambda one: datetime.fromtimestamp(one, UTC),
        "reader": first or 0,
        "draft": drafts_of(visit).put(visit.visitor.csrf, writing) if writing else "",
    }
    return visit.page("campaigns/confirm.html", "campaigns", 422 if problem else 200, **values)


def _finish(visit: Visit, campaign: Campaign, people: int) -> Paced | None:
    """When the last of them is written to, for a paced campaign."""
    plan = campaigns.plan_of(campaign)
    if plan.pacing is None or not people:
        return None
    start = max(plan.at or visit.desk.clock.now(), visit.desk.clock.now())
    return paced(people, int(start.timestamp()), plan.pacing.pace(), zone_of(visit.desk.the_shop().zone))


def _as_read(visit: Visit, writing: Writing | None, reader: int | None) -> FilledEmail | str | None:
    if writing is None:
        return None
    try:
        return messages.read_as(visit.desk, writing, reader)
    except FieldProblem:
        return None


@router.post("/campaigns/{campaign_id}/send")
def send(campaign_id: int, visit: Visit = SignedIn, form: FormData = Form) -> Response:
    campaign = _campaign(visit, campaign_id)
    try:
        campaigns.start_campaign(visit.desk, campaign_id, number_of(form, "people") or 0, visit.by)
    except CannotSend as problem:
        if _campaign(visit, campaign_id).state not in ("draft", "scheduled", "held"):
            return visit.go(f"/results/{campaign_id}")
        return _confirm(visit, campaign, str(problem))
    visit.wake()
    scheduled = _campaign(visit, campaign_id).state == "scheduled"
    return visit.go(f"/campaigns/{campaign_id}" if scheduled else f"/results/{campaign_id}")


@router.post("/campaigns/{campaign_id}/plan")
def change_plan(campaign_id: int, visit: Visit = SignedIn, form: FormData = Form) -> Response:
    """To whom not, when and how fast; the page shows at once what that gives."""
    campaign = _campaign(visit, campaign_id)
    try:
        campaigns.change_plan(visit.desk, campaign_id, _plan_from(visit, form))
    except (CannotSend, ValueError) as problem:
        words = f"{say_error(problem.errors()[0])}." if isinstance(problem, ValidationError) else str(problem)
        return _confirm(visit, campaign, words)
    return visit.go(f"/campaigns/{campaign_id}")


def _plan_from(visit: Visit, form: FormData) -> CampaignPlan:
    """Raises ``ValueError``."""
    at = None
    if text_of(form, "when") == "later":
        if not text_of(form, "day"):
            raise CannotSend("Say on which day it should go out.")
        clock = time.fromisoformat(text_of(form, "clock") or "10:00")
        at = at_local(date.fromisoformat(text_of(form, "day")), clock, visit.desk.the_shop().zone)
    pacing = None
    if "paced" in form:
        weekdays = [int(str(one)) for one in form.getlist("weekdays") if str(one).isdigit()]
        pacing = {"batch": number_of(form, "batch") or 0, "minutes": number_of(form, "minutes") or 0, "weekdays": weekdays, "begins": text_of(form, "begins"), "ends": text_of(form, "ends")}  # fmt: skip
    return CampaignPlan.model_validate({
        "exclude": [int(str(one)) for one in form.getlist("exclude") if str(one).isdigit()], "engaged_only": "engaged_only" in form,
        "engaged_days": number_of(form, "engaged_days") or 120, "held_back": number_of(form, "held_back") or 0, "at": at, "pacing": pacing,
    })  # fmt: skip


@router.post("/campaigns/{campaign_id}/back")
def take_back(campaign_id: int, visit: Visit = SignedIn) -> Response:
    campaigns.unschedule(visit.desk, _campaign(visit, campaign_id).id, visit.by)
    return visit.go(f"/campaigns/{campaign_id}")


@router.post("/campaigns/{campaign_id}/stop")
def stop(campaign_id: int, visit: Visit = SignedIn) -> Response:
    campaigns.stop_campaign(visit.desk, _campaign(visit, campaign_id).id, visit.by)
    return visit.go(f"/results/{campaign_id}")


@router.post("/campaigns/{campaign_id}/delete")
def delete(campaign_id: int, visit: Visit = SignedIn) -> Response:
    campaigns.discard_draft(visit.desk, _campaign(visit, campaign_id).id)
    return visit.go("/campaigns")


@router.post("/campaigns/{campaign_id}/unsure")
def unsure(campaign_id: int, visit: Visit = SignedIn, form: FormData = Form) -> Response:
    again = text_of(form, "word") == "again"
    sending.decide_unsure(visit.desk, _campaign(visit, campaign_id).id, again, visit.by)
    visit.wake()
    return visit.go(f"/results/{campaign_id}")
