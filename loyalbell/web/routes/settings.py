"""Settings of the shop, its letterhead, the master switch, and the log."""

from collections.abc import Mapping
from typing import Any

from fastapi import APIRouter
from fastapi.responses import Response
from sqlalchemy import select
from starlette.datastructures import FormData

from loyalbell.desk import messages, setting_up
from loyalbell.desk.setting_up import NotSetUp, ShopForm
from loyalbell.store.tables import LogEntry
from loyalbell.web.visit import Form, SignedIn, Visit, number_of, text_of

router = APIRouter()
LOG_SHOWN = 200


def read_shop_form(form: Mapping[str, Any]) -> ShopForm:
    def text(name: str) -> str:
        return str(form.get(name, "")).strip()

    port = text("smtp_port")
    return ShopForm(
        name=text("name"),
        zone=text("zone"),
        currency=text("currency").upper(),
        country=text("country").upper(),
        postal_address=text("postal_address"),
        public_url=text("public_url").rstrip("/"),
        sender_name=text("sender_name") or text("name"),
        sender_email=text("sender_email"),
        smtp_host=text("smtp_host"),
        smtp_port=int(port) if port.isdigit() else 0,
    )


@router.get("/settings")
def settings_page(visit: Visit = SignedIn, saved: str = "") -> Response:
    return _page(visit, vars(visit.desk.the_shop()), saved=bool(saved))


def _page(visit: Visit, form: Mapping[str, Any], saved: bool = False, problem: str | None = None) -> Response:
    values = {
        "form": form,
        "letterheads": messages.letterheads(visit.desk),
        "saved": saved,
        "problem": problem,
    }
    return visit.page("settings/settings.html", "settings", 422 if problem else 200, **values)


@router.post("/settings")
def save(visit: Visit = SignedIn, form: FormData = Form) -> Response:
    try:
        setting_up.change_shop(visit.desk, read_shop_form(form), visit.by)
    except NotSetUp as problem:
        return _page(visit, dict(form), problem=str(problem))
    return visit.go("/settings?saved=yes")


@router.post("/settings/letterhead/{letterhead_id}")
def save_letterhead(letterhead_id: int, visit: Visit = SignedIn, form: FormData = Form) -> Response:
    accent = text_of(form, "accent")
    if (
        len(accent) != 7
        or not accent.startswith("#")
        or any(c not in "0123456789abcdefABCDEF" for c in accent[1:])
    ):
        return _page(visit, vars(visit.desk.the_shop()), problem="The colour must be written like #173b39.")
    setting_up.change_letterhead(
        visit.desk, letterhead_id, text_of(form, "header"), text_of(form, "footer"), accent, visit.by
    )
    return visit.go("/settings?saved=yes")


@router.post("/switch")
def switch(visit: Visit = SignedIn, form: FormData = Form) -> Response:
    setting_up.switch(visit.desk, number_of(form, "ringing") == 1, visit.by)
    visit.wake()
    back = text_of(form, "back", "/")
    return visit.go(back if back.startswith("/") and not back.startswith("//") else "/")


@router.get("/log")
def log_page(visit: Visit = SignedIn) -> Response:
    with visit.desk.book.reading() as session:
        entries = list(session.scalars(select(LogEntry).order_by(LogEntry.id.desc()).limit(LOG_SHOWN)))
    return visit.page("settings/log.html", "log", entries=entries)
