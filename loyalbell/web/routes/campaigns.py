"""Campaigns: choose message and segment, look at who gets it, send."""

from fastapi import APIRouter
from fastapi.responses import Response
from pydantic import ValidationError
from sqlalchemy import select
from starlette.datastructures import FormData

from loyalbell.core.plain_errors import say_error
from loyalbell.desk import campaigns, sending
from loyalbell.desk.campaigns import CannotSend
from loyalbell.store.tables import Campaign, Message, Segment
from loyalbell.web.campaign_form import plan_from
from loyalbell.web.campaign_sheet import sheet
from loyalbell.web.visit import Form, NotFound, SignedIn, Visit, number_of, text_of

router = APIRouter()
WAITING = ("draft", "scheduled", "held")
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
def confirm(campaign_id: int, visit: Visit = SignedIn, message: int = 0) -> Response:
    campaign = _campaign(visit, campaign_id)
    if campaign.state not in WAITING:
        return visit.go(f"/results/{campaign_id}")
    return _confirm(visit, campaign, message=message)


def _confirm(visit: Visit, campaign: Campaign, problem: str | None = None, message: int = 0) -> Response:
    values = sheet(visit, campaign, message)
    return visit.page(
        "campaigns/confirm.html", "campaigns", 422 if problem else 200, problem=problem, **values
    )


@router.post("/campaigns/{campaign_id}/send")
def send(campaign_id: int, visit: Visit = SignedIn, form: FormData = Form) -> Response:
    """Sends it, or puts it to wait for its time; one that was held is let go."""
    campaign, people = _campaign(visit, campaign_id), number_of(form, "people") or 0
    act = campaigns.release_campaign if campaign.state == "held" else campaigns.start_campaign
    try:
        act(visit.desk, campaign_id, people, visit.by)
    except CannotSend as problem:
        if _campaign(visit, campaign_id).state not in WAITING:
            return visit.go(f"/results/{campaign_id}")
        return _confirm(visit, campaign, str(problem))
    visit.wake()
    scheduled = _campaign(visit, campaign_id).state == "scheduled"
    return visit.go(f"/campaigns/{campaign_id}" if scheduled else f"/results/{campaign_id}")


@router.post("/campaigns/{campaign_id}/plan")
def change_plan(campaign_id: int, visit: Visit = SignedIn, form: FormData = Form) -> Response:
    """To whom not, which message, when and how fast; the page shows at once what that gives."""
    campaign = _campaign(visit, campaign_id)
    try:
        campaigns.change_plan(visit.desk, campaign_id, plan_from(form, visit.desk.the_shop().zone))
    except (CannotSend, ValueError) as problem:
        words = f"{say_error(problem.errors()[0])}." if isinstance(problem, ValidationError) else str(problem)
        return _confirm(visit, campaign, words)
    return visit.go(f"/campaigns/{campaign_id}")


@router.post("/campaigns/{campaign_id}/back")
def take_back(campaign_id: int, visit: Visit = SignedIn) -> Response:
    campaigns.unschedule(visit.desk, _campaign(visit, campaign_id).id, visit.by)
    return visit.go(f"/campaigns/{campaign_id}")


@router.post("/campaigns/{campaign_id}/end")
def end(campaign_id: int, visit: Visit = SignedIn) -> Response:
    campaigns.end_campaign(visit.desk, _campaign(visit, campaign_id).id, visit.by)
    return visit.go(f"/results/{campaign_id}")


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
