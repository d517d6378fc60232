"""Signing in, signing out, and the first day of a new shop."""

import secrets
from math import ceil
from typing import Any

from fastapi import APIRouter, Depends, Request
from fastapi.responses import HTMLResponse, RedirectResponse, Response
from starlette.datastructures import FormData

from loyalbell.services.accounts import sessions
from loyalbell.services.accounts.failed_sign_ins import FailedSignIns
from loyalbell.services.accounts.sessions import Visitor
from loyalbell.services.settings import shop as shop_settings
from loyalbell.web.request import (
    COOKIE,
    LOOK_COOKIE,
    LOOKS,
    BadToken,
    DemoParts,
    Form,
    RequestContext,
    SignedIn,
    application_of,
    check_token,
    text_of,
)
from loyalbell.web.settings.forms import read_shop_form
from loyalbell.web.settings.place_routes import choices

router = APIRouter()
A_YEAR = 365 * 86_400


def _with_session(request: Request, response: Response, token: str | None) -> Response:
    if token:
        response.set_cookie(
            COOKIE,
            token,
            httponly=True,
            samesite="lax",
            max_age=14 * 86_400,
            secure=request.url.scheme == "https",
        )
    return response


def _visitor(request: Request) -> tuple[str | None, Visitor]:
    """The browser's session; or, for someone not yet signed in, a guest with the token of its cookie."""
    kept = request.cookies.get(COOKIE)
    visitor = sessions.find_session(application_of(request), kept)
    if visitor is not None:
        return None, visitor
    token = kept or secrets.token_urlsafe(32)
    return token, sessions.guest(token)


def _safe(path: str) -> str:
    return path if path.startswith("/") and not path.startswith(("//", "/\\")) else "/"


@router.get("/sign-in")
def sign_in_page(request: Request, next: str = "/") -> Response:
    token, visitor = _visitor(request)
    if not shop_settings.has_owner(application_of(request)):
        return _with_session(request, RedirectResponse("/first-day", status_code=303), token)
    return _with_session(request, _sign_in(request, visitor, next), token)


def _sign_in(
    request: Request, visitor: Visitor, next: str, problem: str | None = None, status: int = 200
) -> HTMLResponse:
    page = RequestContext(request, application_of(request), visitor)
    demo: DemoParts | None = request.app.state.demo
    shown = demo.sign_in if demo else None
    return page.page("accounts/sign_in.html", "", status, next=_safe(next), problem=problem, shown=shown)


def _wait_first(request: Request, visitor: Visitor, where: str, seconds: int) -> Response:
    said = f"{seconds} seconds" if seconds < 120 else f"{ceil(seconds / 60)} minutes"
    problem = f"Too many tries with a wrong password. Wait {said}, then try again."
    response = _sign_in(request, visitor, where, problem, status=429)
    response.headers["Retry-After"] = str(seconds)
    return response


async def _token_holds(request: Request) -> Visitor:
    kept = request.cookies.get(COOKIE)
    if not kept:
        raise BadToken
    visitor = sessions.find_session(application_of(request), kept) or sessions.guest(kept)
    await check_token(request, visitor)
    return visitor


@router.post("/sign-in")
def sign_in(request: Request, form: FormData = Form, visitor: Visitor = Depends(_token_holds)) -> Response:
    application, where = application_of(request), _safe(text_of(form, "next", "/"))
    failures: FailedSignIns = request.app.state.failed_sign_ins
    email, source = text_of(form, "email"), request.client.host if request.client else ""
    if wait := failures.wait(email, source):
        return _wait_first(request, visitor, where, ceil(wait))
    user_id = sessions.check_password(application, email, text_of(form, "password"))
    if user_id is None:
        failures.failed(email, source)
        sessions.note_failure(application, email, source)
        problem = "That email and password do not belong together. Try again."
        return _sign_in(request, visitor, where, problem, status=422)
    failures.succeeded(email, source)
    sessions.end_session(application, request.cookies.get(COOKIE))
    token, _ = sessions.new_session(application, user_id)
    return _with_session(request, RedirectResponse(where, status_code=303), token)


@router.post("/sign-out")
def sign_out(context: RequestContext = SignedIn) -> Response:
    sessions.end_session(context.application, context.request.cookies.get(COOKIE))
    response = RedirectResponse("/sign-in", status_code=303)
    response.delete_cookie(COOKIE)
    return response


@router.post("/look")
def look(context: RequestContext = SignedIn, form: FormData = Form) -> Response:
    """Light or dark colours in this browser, or those of the device."""
    chosen = text_of(form, "look")
    response = RedirectResponse(_safe(text_of(form, "back", "/")), status_code=303)
    if chosen in LOOKS:
        response.set_cookie(LOOK_COOKIE, chosen, max_age=A_YEAR, httponly=True, samesite="lax")
    else:
        response.delete_cookie(LOOK_COOKIE)
    return response


@router.get("/first-day")
def first_day_page(request: Request) -> Response:
    token, visitor = _visitor(request)
    if shop_settings.has_owner(application_of(request)):
        return RedirectResponse("/sign-in", status_code=303)
    page = RequestContext(request, application_of(request), visitor)
    # only offered: what a request calls us is what somebody typed into it
    values: dict[str, Any] = {"form": {}, "place": choices(), "address": str(request.base_url).rstrip("/")}
    return _with_session(request, page.page("accounts/first_day.html", "", **values), token)


@router.post("/first-day")
def first_day(request: Request, form: FormData = Form, visitor: Visitor = Depends(_token_holds)) -> Response:
    application = application_of(request)
    entered = dict(form) | {"smtp_host": "127.0.0.1", "smtp_port": "25"}
    try:
        owner = shop_settings.open_shop(
            application,
            read_shop_form(entered),
            text_of(form, "owner"),
            text_of(form, "email"),
            text_of(form, "password"),
        )
    except shop_settings.NotSetUp as problem:
        page = RequestContext(request, application, visitor)
        return page.page(
            "accounts/first_day.html",
            "",
            422,
            form=dict(form),
            place=choices(),
            address="",
            problem=str(problem),
        )
    sessions.end_session(application, request.cookies.get(COOKIE))
    token, _ = sessions.new_session(application, owner)
    return _with_session(request, RedirectResponse("/guide", status_code=303), token)
