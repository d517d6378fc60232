"""Settings of the shop, its letterhead, and the master switch."""

from collections.abc import Mapping
from typing import Any

from fastapi import APIRouter
from fastapi.responses import Response
from starlette.datastructures import FormData

from loyalbell.services.messages import queries as message_queries
from loyalbell.services.settings import shop as shop_settings
from loyalbell.services.settings.shop import NotSetUp
from loyalbell.web.request import Form, RequestContext, SignedIn, number_of, own_path, text_of
from loyalbell.web.settings.forms import read_shop_form
from loyalbell.web.settings.place_routes import choices

router = APIRouter()


@router.get("/settings")
def settings_page(context: RequestContext = SignedIn, saved: str = "") -> Response:
    return _page(context, vars(context.application.the_shop()), saved=bool(saved))


def _page(
    context: RequestContext, form: Mapping[str, Any], saved: bool = False, problem: str | None = None
) -> Response:
    values = {
        "form": form,
        "place": choices(),
        "letterheads": message_queries.letterheads(context.application),
        "saved": saved,
        "problem": problem,
    }
    return context.page("settings/settings.html", "settings", 422 if problem else 200, **values)


@router.post("/settings")
def save(context: RequestContext = SignedIn, form: FormData = Form) -> Response:
    try:
        shop_settings.change_shop(context.application, read_shop_form(form), context.by)
    except NotSetUp as problem:
        return _page(context, dict(form), problem=str(problem))
    return context.go("/settings?saved=yes")


@router.post("/settings/letterhead/{letterhead_id}")
def save_letterhead(
    letterhead_id: int, context: RequestContext = SignedIn, form: FormData = Form
) -> Response:
    accent = text_of(form, "accent")
    if (
        len(accent) != 7
        or not accent.startswith("#")
        or any(c not in "0123456789abcdefABCDEF" for c in accent[1:])
    ):
        return _page(
            context, vars(context.application.the_shop()), problem="The colour must be written like #173b39."
        )
    try:
        shop_settings.change_letterhead(
            context.application,
            letterhead_id,
            text_of(form, "header"),
            text_of(form, "footer"),
            accent,
            context.by,
        )
    except NotSetUp as problem:
        return _page(context, vars(context.application.the_shop()), problem=str(problem))
    return context.go("/settings?saved=yes")


@router.post("/switch")
def switch(context: RequestContext = SignedIn, form: FormData = Form) -> Response:
    shop_settings.switch(context.application, number_of(form, "ringing") == 1, context.by)
    context.wake()
    return context.go(own_path(text_of(form, "back", "/")))
