"""Other programs: tokens for those that send to us, webhooks for those that we tell."""

from typing import Any

from fastapi import APIRouter
from fastapi.responses import Response
from starlette.datastructures import FormData

from loyalbell.desk import tokens, webhooks
from loyalbell.desk.tokens import SCOPES, CannotMakeToken
from loyalbell.desk.webhooks import CannotKeepWebhook
from loyalbell.store.happenings import HAPPENINGS
from loyalbell.store.tables import Webhook
from loyalbell.web.visit import Form, NotFound, SignedIn, Visit, text_of

router = APIRouter()


@router.get("/other-programs")
def list_page(visit: Visit = SignedIn) -> Response:
    return _page(visit)


def _page(
    visit: Visit, made: str = "", problem: str | None = None, typed: FormData | None = None
) -> Response:
    values: dict[str, Any] = {
        "tokens": tokens.all_tokens(visit.desk),
        "scopes": SCOPES,
        "webhooks": webhooks.all_webhooks(visit.desk),
        "happenings": HAPPENINGS,
        "made": made,
        "problem": problem,
        "typed": typed or {},
        "address": visit.desk.the_shop().public_url + "/api/v1",
    }
    return visit.page(
        "other_programs/other_programs.html", "other_programs", 422 if problem else 200, **values
    )


@router.post("/other-programs/tokens")
def make_token(visit: Visit = SignedIn, form: FormData = Form) -> Response:
    """The token is shown on the page that answers, and nowhere again."""
    try:
        made = tokens.make_token(
            visit.desk, text_of(form, "name"), [str(one) for one in form.getlist("scope")], visit.by
        )
    except CannotMakeToken as problem:
        return _page(visit, problem=str(problem), typed=form)
    return _page(visit, made=made)


@router.post("/other-programs/tokens/{token_id}/revoke")
def revoke(token_id: int, visit: Visit = SignedIn) -> Response:
    tokens.revoke(visit.desk, token_id, visit.by)
    return visit.go("/other-programs")


@router.post("/other-programs/webhooks")
def add_webhook(visit: Visit = SignedIn, form: FormData = Form) -> Response:
    try:
        kinds = [str(one) for one in form.getlist("kind")]
        added = webhooks.add_webhook(visit.desk, text_of(form, "url"), kinds, visit.by)
    except CannotKeepWebhook as problem:
        return _page(visit, problem=str(problem), typed=form)
    return visit.go(f"/other-programs/webhooks/{added}")


@router.get("/other-programs/webhooks/{webhook_id}")
def webhook_page(webhook_id: int, visit: Visit = SignedIn) -> Response:
    with visit.desk.book.reading() as session:
        webhook = session.get(Webhook, webhook_id)
    if webhook is None:
        raise NotFound("No such webhook is kept.")
    values = {
        "webhook": webhook,
        "deliveries": webhooks.deliveries(visit.desk, webhook_id),
        "happenings": HAPPENINGS,
    }
    return visit.page("other_programs/webhook.html", "other_programs", 200, **values)


@router.post("/other-programs/webhooks/{webhook_id}/test")
def send_test(webhook_id: int, visit: Visit = SignedIn) -> Response:
    webhooks.send_test(visit.desk, webhook_id)
    return visit.go(f"/other-programs/webhooks/{webhook_id}")


@router.post("/other-programs/webhooks/{webhook_id}/stop")
def stop(webhook_id: int, visit: Visit = SignedIn) -> Response:
    webhooks.stop_webhook(visit.desk, webhook_id, visit.by)
    return visit.go("/other-programs")


@router.post("/other-programs/webhooks/{webhook_id}/again/{delivery_id}")
def again(webhook_id: int, delivery_id: int, visit: Visit = SignedIn) -> Response:
    webhooks.send_again(visit.desk, delivery_id)
    return visit.go(f"/other-programs/webhooks/{webhook_id}")
