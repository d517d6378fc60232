"""Campaigns: choose message and segment, look at who gets it, send."""

from fastapi import APIRouter
from fastapi.responses import Response
from pydantic import ValidationError
from starlette.datastructures import FormData

from loyalbell.core.validation_errors import say_error
from loyalbell.services.campaigns import commands as campaign_commands
from loyalbell.services.campaigns import queries as campaign_queries
from loyalbell.services.campaigns.queries import CannotSend
from loyalbell.services.delivery import after_stop
from loyalbell.services.messages import queries as message_queries
from loyalbell.services.segments import queries as segment_queries
from loyalbell.storage.schema import Campaign
from loyalbell.web.campaigns.forms import plan_from
from loyalbell.web.campaigns.views import sheet
from loyalbell.web.channel_orders import ORDERS
from loyalbell.web.request import Form, NotFound, RequestContext, SignedIn, number_of, text_of

router = APIRouter()
WAITING = ("draft", "scheduled", "held")


def _campaign(context: RequestContext, campaign_id: int) -> Campaign:
    campaign = context.application.find(Campaign, campaign_id)
    if campaign is None:
        raise NotFound("No such campaign is on file.")
    return campaign


@router.get("/campaigns")
def list_page(context: RequestContext = SignedIn) -> Response:
    rows = campaign_queries.with_names(context.application)
    return context.page("campaigns/campaigns.html", "campaigns", rows=rows)


@router.get("/campaigns/new")
def new(context: RequestContext = SignedIn, segment: int = 0, message: int = 0) -> Response:
    return _choose(context, {"segment": segment, "message": message, "name": ""})


def _choose(context: RequestContext, chosen: dict[str, object], problem: str | None = None) -> Response:
    values = {
        "segments": segment_queries.every_segment(context.application),
        "messages": message_queries.library(context.application),
        "chosen": chosen,
        "problem": problem,
        "orders": ORDERS,
    }
    return context.page("campaigns/new.html", "campaigns", 422 if problem else 200, **values)


@router.post("/campaigns")
def draft(context: RequestContext = SignedIn, form: FormData = Form) -> Response:
    segment, message = number_of(form, "segment"), number_of(form, "message")
    chosen: dict[str, object] = {"segment": segment, "message": message, "name": text_of(form, "name")}
    if segment is None or message is None:
        return _choose(context, chosen, "Choose a message and a segment.")
    try:
        channels = [one for one in text_of(form, "channels", "email").split(" ") if one]
        made = campaign_commands.draft_campaign(
            context.application, text_of(form, "name"), segment, message, context.by, channels
        )
    except CannotSend as problem:
        return _choose(context, chosen, str(problem))
    return context.go(f"/campaigns/{made}")


@router.get("/campaigns/{campaign_id}")
def confirm(campaign_id: int, context: RequestContext = SignedIn, message: int = 0) -> Response:
    campaign = _campaign(context, campaign_id)
    if campaign.state not in WAITING:
        return context.go(f"/results/{campaign_id}")
    return _confirm(context, campaign, message=message)


def _confirm(
    context: RequestContext, campaign: Campaign, problem: str | None = None, message: int = 0
) -> Response:
    values = sheet(context, campaign, message)
    return context.page(
        "campaigns/confirm.html", "campaigns", 422 if problem else 200, problem=problem, **values
    )


@router.post("/campaigns/{campaign_id}/send")
def send(campaign_id: int, context: RequestContext = SignedIn, form: FormData = Form) -> Response:
    """Sends it, or puts it to wait for its time; one that was held is let go."""
    campaign, people = _campaign(context, campaign_id), number_of(form, "people") or 0
    act = campaign_commands.release_campaign if campaign.state == "held" else campaign_commands.start_campaign
    try:
        act(context.application, campaign_id, people, context.by)
    except CannotSend as problem:
        if _campaign(context, campaign_id).state not in WAITING:
            return context.go(f"/results/{campaign_id}")
        return _confirm(context, campaign, str(problem))
    context.wake()
    scheduled = _campaign(context, campaign_id).state == "scheduled"
    return context.go(f"/campaigns/{campaign_id}" if scheduled else f"/results/{campaign_id}")


@router.post("/campaigns/{campaign_id}/plan")
def change_plan(campaign_id: int, context: RequestContext = SignedIn, form: FormData = Form) -> Response:
    """To whom not, which message, when and how fast; the page shows at once what that gives."""
    campaign = _campaign(context, campaign_id)
    try:
        campaign_commands.change_plan(
            context.application, campaign_id, plan_from(form, context.application.the_shop().zone)
        )
    except (CannotSend, ValueError) as problem:
        words = f"{say_error(problem.errors()[0])}." if isinstance(problem, ValidationError) else str(problem)
        return _confirm(context, campaign, words)
    return context.go(f"/campaigns/{campaign_id}")


@router.post("/campaigns/{campaign_id}/back")
def take_back(campaign_id: int, context: RequestContext = SignedIn) -> Response:
    campaign_commands.unschedule(context.application, _campaign(context, campaign_id).id, context.by)
    return context.go(f"/campaigns/{campaign_id}")


@router.post("/campaigns/{campaign_id}/end")
def end(campaign_id: int, context: RequestContext = SignedIn) -> Response:
    campaign_commands.end_campaign(context.application, _campaign(context, campaign_id).id, context.by)
    return context.go(f"/results/{campaign_id}")


@router.post("/campaigns/{campaign_id}/stop")
def stop(campaign_id: int, context: RequestContext = SignedIn) -> Response:
    campaign_commands.stop_campaign(context.application, _campaign(context, campaign_id).id, context.by)
    return context.go(f"/results/{campaign_id}")


@router.post("/campaigns/{campaign_id}/delete")
def delete(campaign_id: int, context: RequestContext = SignedIn) -> Response:
    campaign_commands.discard_draft(context.application, _campaign(context, campaign_id).id)
    return context.go("/campaigns")


@router.post("/campaigns/{campaign_id}/failed")
def failed(campaign_id: int, context: RequestContext = SignedIn) -> Response:
    """Sends again to everybody whose message was given up."""
    campaign = _campaign(context, campaign_id)
    after_stop.send_failed_again(context.application, "campaign", campaign.id, context.by)
    context.wake()
    return context.go(f"/results/{campaign_id}")


@router.post("/campaigns/{campaign_id}/unsure")
def unsure(campaign_id: int, context: RequestContext = SignedIn, form: FormData = Form) -> Response:
    again = text_of(form, "word") == "again"
    after_stop.decide_unsure(context.application, _campaign(context, campaign_id).id, again, context.by)
    context.wake()
    return context.go(f"/results/{campaign_id}")
