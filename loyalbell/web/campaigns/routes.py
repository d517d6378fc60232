"""Campaigns: choose message and segment, look at who gets it, send."""

from collections.abc import Mapping
from typing import Any

from fastapi import APIRouter
from fastapi.responses import Response
from pydantic import ValidationError
from starlette.datastructures import FormData

from loyalbell.core.validation_errors import say_error
from loyalbell.services import approvals
from loyalbell.services.campaigns import commands as campaign_commands
from loyalbell.services.campaigns import queries as campaign_queries
from loyalbell.services.campaigns.queries import CannotSend
from loyalbell.services.delivery import after_stop
from loyalbell.services.messages import queries as message_queries
from loyalbell.services.segments import queries as segment_queries
from loyalbell.storage.schema import Campaign
from loyalbell.web.accounts.approval_asking import ask_approval
from loyalbell.web.campaigns.forms import plan_from
from loyalbell.web.campaigns.views import sheet
from loyalbell.web.channel_orders import ORDERS, orders_with
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
    context: RequestContext,
    campaign: Campaign,
    problem: str | None = None,
    message: int = 0,
    status: int | None = None,
) -> Response:
    values = sheet(context, campaign, message)
    values["request"] = approvals.newest(context.application, "campaign", campaign.id)
    values["must_ask"] = _must_ask(context, values)
    if campaign.state == "draft":
        values |= {
            "all_messages": message_queries.library(context.application),
            "orders": orders_with(campaign.channels),
        }
    code = status or (422 if problem else 200)
    return context.page("campaigns/confirm.html", "campaigns", code, problem=problem, **values)


@router.post("/campaigns/{campaign_id}/sure")
def save_and_ask(campaign_id: int, context: RequestContext = SignedIn, form: FormData = Form) -> Response:
    """Keeps everything that stands in the form, then asks once, with what sending would do."""
    campaign = _campaign(context, campaign_id)
    if campaign.state == "draft":
        try:
            _keep(context, campaign_id, form)
        except (CannotSend, ValueError) as problem:
            # what was typed stays in the form, with what is wrong above it
            return _confirm(context, campaign, _words(problem), status=200 if context.typing else 422)
    return context.go(f"/campaigns/{campaign_id}/sure")


@router.get("/campaigns/{campaign_id}/sure")
def sure(campaign_id: int, context: RequestContext = SignedIn) -> Response:
    return _sure(context, campaign_id)


def _must_ask(context: RequestContext, values: Mapping[str, Any]) -> bool:
    return approvals.must_ask(context.application, context.visitor, len(values["who"].reached))


def _sure(context: RequestContext, campaign_id: int, problem: str | None = None) -> Response:
    campaign = _campaign(context, campaign_id)
    if campaign.state != "draft":
        return context.go(f"/campaigns/{campaign_id}")
    values = sheet(context, campaign)
    return context.page(
        "campaigns/sure.html",
        "campaigns",
        422 if problem else 200,
        problem=problem,
        must_ask=_must_ask(context, values),
        **values,
    )


@router.post("/campaigns/{campaign_id}/send")
def send(campaign_id: int, context: RequestContext = SignedIn, form: FormData = Form) -> Response:
    """Sends it, or puts it to wait for its time, as it was asked; one that was held is let go."""
    campaign, people = _campaign(context, campaign_id), number_of(form, "people") or 0
    held = campaign.state == "held"
    if approvals.must_ask(context.application, context.visitor, people):
        asked = {"people": people}
        back = f"/campaigns/{campaign_id}"
        return ask_approval(context, "campaign", campaign.id, campaign.name, asked, back)
    try:
        if held:
            campaign_commands.release_campaign(context.application, campaign_id, people, context.by)
        else:
            mark = text_of(form, "mark")
            campaign_commands.start_campaign(context.application, campaign_id, people, context.by, mark)
    except CannotSend as problem:
        if _campaign(context, campaign_id).state not in WAITING:
            return context.go(f"/results/{campaign_id}")
        return (
            _confirm(context, campaign, str(problem)) if held else _sure(context, campaign_id, str(problem))
        )
    approvals.done(context.application, "campaign", campaign_id, context.by)
    context.wake()
    scheduled = _campaign(context, campaign_id).state == "scheduled"
    return context.go(f"/campaigns/{campaign_id}" if scheduled else f"/results/{campaign_id}")


@router.post("/campaigns/{campaign_id}/plan")
def change_plan(campaign_id: int, context: RequestContext = SignedIn, form: FormData = Form) -> Response:
    """To whom, with which message, when and how fast, kept as it is typed; the page shows what that gives."""
    campaign = _campaign(context, campaign_id)
    try:
        _keep(context, campaign_id, form)
    except (CannotSend, ValueError) as problem:
        # what was typed stays in the form; only what it gives is shown anew
        return _confirm(context, campaign, _words(problem), status=200 if context.typing else 422)
    if context.typing:
        return _confirm(context, _campaign(context, campaign_id))
    return context.go(f"/campaigns/{campaign_id}")


def _keep(context: RequestContext, campaign_id: int, form: FormData) -> None:
    """Raises ``CannotSend`` and ``ValueError``."""
    application = context.application
    segment, message = number_of(form, "segment"), number_of(form, "message")
    if segment and message:
        channels = [one for one in text_of(form, "channels", "email").split(" ") if one]
        name = text_of(form, "name")
        campaign_commands.change_draft(application, campaign_id, segment, message, channels, name)
    campaign_commands.change_plan(application, campaign_id, plan_from(form, application.the_shop().zone))


def _words(problem: Exception) -> str:
    return f"{say_error(problem.errors()[0])}." if isinstance(problem, ValidationError) else str(problem)


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
