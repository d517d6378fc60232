"""Other programs: tokens for those that send to us, webhooks for those that we tell."""

from typing import Any

from fastapi import APIRouter
from fastapi.responses import Response
from starlette.datastructures import FormData

from loyalbell.services.integrations import api_tokens, webhook_outbox
from loyalbell.services.integrations.api_tokens import SCOPES, CannotMakeToken
from loyalbell.services.integrations.webhook_outbox import CannotKeepWebhook
from loyalbell.storage.schema import Webhook
from loyalbell.storage.webhook_events import HAPPENINGS
from loyalbell.web.request import Form, NotFound, RequestContext, SignedIn, text_of

router = APIRouter()


@router.get("/other-programs")
def list_page(context: RequestContext = SignedIn) -> Response:
    return _page(context)


def _page(
    context: RequestContext, made: str = "", problem: str | None = None, typed: FormData | None = None
) -> Response:
    values: dict[str, Any] = {
        "tokens": api_tokens.all_tokens(context.application),
        "scopes": SCOPES,
        "webhooks": webhook_outbox.all_webhooks(context.application),
        "happenings": HAPPENINGS,
        "made": made,
        "problem": problem,
        "typed": typed or {},
        "address": context.application.the_shop().public_url + "/api/v1",
    }
    return context.page("integrations/integrations.html", "other_programs", 422 if problem else 200, **values)


@router.post("/other-programs/tokens")
def make_token(context: RequestContext = SignedIn, form: FormData = Form) -> Response:
    """The token is shown on the page that answers, and nowhere again."""
    try:
        made = api_tokens.make_token(
            context.application,
            text_of(form, "name"),
            [str(one) for one in form.getlist("scope")],
            context.by,
        )
    except CannotMakeToken as problem:
        return _page(context, problem=str(problem), typed=form)
    return _page(context, made=made)


@router.post("/other-programs/tokens/{token_id}/revoke")
def revoke(token_id: int, context: RequestContext = SignedIn) -> Response:
    api_tokens.revoke(context.application, token_id, context.by)
    return context.go("/other-programs")


@router.post("/other-programs/webhooks")
def add_webhook(context: RequestContext = SignedIn, form: FormData = Form) -> Response:
    try:
        kinds = [str(one) for one in form.getlist("kind")]
        added, secret = webhook_outbox.add_webhook(
            context.application, text_of(form, "url"), kinds, context.by, bool(text_of(form, "inside"))
        )
    except CannotKeepWebhook as problem:
        return _page(context, problem=str(problem), typed=form)
    return _webhook(context, added, secret)


@router.get("/other-programs/webhooks/{webhook_id}")
def webhook_page(webhook_id: int, context: RequestContext = SignedIn) -> Response:
    return _webhook(context, webhook_id)


@router.post("/other-programs/webhooks/{webhook_id}/secret")
def renew_secret(webhook_id: int, context: RequestContext = SignedIn) -> Response:
    return _webhook(
        context, webhook_id, webhook_outbox.renew_secret(context.application, webhook_id, context.by)
    )


def _webhook(context: RequestContext, webhook_id: int, secret: str = "") -> Response:
    """``secret`` is shown once, when it is made."""
    webhook = context.application.find(Webhook, webhook_id)
    if webhook is None:
        raise NotFound("No such webhook is kept.")
    values = {
        "webhook": webhook,
        "secret": secret,
        "deliveries": webhook_outbox.deliveries(context.application, webhook_id),
        "happenings": HAPPENINGS,
    }
    return context.page("integrations/webhook.html", "other_programs", 200, **values)


@router.post("/other-programs/webhooks/{webhook_id}/test")
def send_test(webhook_id: int, context: RequestContext = SignedIn) -> Response:
    webhook_outbox.send_test(context.application, webhook_id)
    return context.go(f"/other-programs/webhooks/{webhook_id}")


@router.post("/other-programs/webhooks/{webhook_id}/stop")
def stop(webhook_id: int, context: RequestContext = SignedIn) -> Response:
    webhook_outbox.stop_webhook(context.application, webhook_id, context.by)
    return context.go("/other-programs")


@router.post("/other-programs/webhooks/{webhook_id}/again/{delivery_id}")
def again(webhook_id: int, delivery_id: int, context: RequestContext = SignedIn) -> Response:
    webhook_outbox.send_again(context.application, delivery_id)
    return context.go(f"/other-programs/webhooks/{webhook_id}")
