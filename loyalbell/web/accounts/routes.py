"""Signing in, signing out, and the first day of a new shop."""

from math import ceil
from typing import Any
from urllib.parse import quote

from fastapi import APIRouter, Depends, Request
from fastapi.concurrency import run_in_threadpool
from fastapi.responses import HTMLResponse, RedirectResponse, Response
from starlette.datastructures import FormData

from loyalbell.services.accounts import second_factor, sessions
from loyalbell.services.accounts.failed_sign_ins import FailedSignIns
from loyalbell.services.accounts.sessions import Visitor
from loyalbell.services.settings import shop as shop_settings
from loyalbell.web.accounts.cookies import (
    browser_of,
    outside_page,
    token_holds,
    visitor_of,
    with_session,
)
from loyalbell.web.request import (
    COOKIE,
    LOOK_COOKIE,
    LOOKS,
    DemoParts,
    Form,
    RequestContext,
    SignedIn,
    application_of,
    check_token,
    own_path,
    text_of,
)
from loyalbell.web.settings.forms import read_shop_form
from loyalbell.web.settings.place_routes import choices

router = APIRouter()
A_YEAR = 365 * 86_400


@router.get("/sign-in")
def sign_in_page(request: Request, next: str = "/", chosen: str = "") -> Response:
    token, visitor = visitor_of(request)
    if not shop_settings.has_owner(application_of(request)):
        return with_session(request, RedirectResponse("/first-day", status_code=303), token)
    return with_session(request, _sign_in(request, visitor, next, chosen=bool(chosen)), token)


def _sign_in(
    request: Request,
    visitor: Visitor,
    next: str,
    problem: str | None = None,
    status: int = 200,
    chosen: bool = False,
) -> HTMLResponse:
    page = outside_page(request, visitor)
    demo: DemoParts | None = request.app.state.demo
    shown = demo.sign_in if demo else None
    return page.page(
        "accounts/sign_in.html", "", status, next=own_path(next), problem=problem, shown=shown, chosen=chosen
    )


def say_wait(seconds: int) -> str:
    return f"{seconds} seconds" if seconds < 120 else f"{ceil(seconds / 60)} minutes"


def _wait_first(request: Request, visitor: Visitor, where: str, seconds: int) -> Response:
    problem = f"Too many tries with a wrong password. Wait {say_wait(seconds)}, then try again."
    response = _sign_in(request, visitor, where, problem, status=429)
    response.headers["Retry-After"] = str(seconds)
    return response


@router.post("/sign-in")
def sign_in(request: Request, form: FormData = Form, visitor: Visitor = Depends(token_holds)) -> Response:
    application, where = application_of(request), own_path(text_of(form, "next", "/"))
    failures: FailedSignIns = request.app.state.failed_sign_ins
    email, source = text_of(form, "email"), request.client.host if request.client else ""
    if wait := failures.wait(email, source):
        return _wait_first(request, visitor, where, ceil(wait))
    user_id = sessions.check_password(application, email, text_of(form, "password"))
    if user_id is None:
        failures.failed(email, source)
        sessions.note_failure(application, email)
        problem = "That email and password do not belong together. Try again."
        return _sign_in(request, visitor, where, problem, status=422)
    failures.succeeded(email, source)
    if second_factor.is_on(application, user_id):
        token, _ = sessions.new_session(application, user_id, waits_for_code=True)
        return with_session(request, RedirectResponse(f"/sign-in/code?next={quote(where)}", 303), token)
    return _enter(request, user_id, where)


def _enter(request: Request, user_id: int, where: str) -> Response:
    """A session of its own for each sign-in; the one before ends."""
    application = application_of(request)
    sessions.end_session(application, request.cookies.get(COOKIE))
    token, _ = sessions.new_session(application, user_id, browser=browser_of(request))
    return with_session(request, RedirectResponse(where, status_code=303), token)


def _waiting(request: Request) -> Visitor | None:
    """Whose password was right in this browser, and whose code is still asked."""
    return sessions.find_session(application_of(request), request.cookies.get(COOKIE), waits_for_code=True)


@router.get("/sign-in/code")
def code_page(request: Request, next: str = "/") -> Response:
    visitor = _waiting(request)
    if visitor is None:
        return RedirectResponse("/sign-in", status_code=303)
    return outside_page(request, visitor).page("accounts/code.html", "", next=own_path(next))


@router.post("/sign-in/code")
async def code(request: Request, form: FormData = Form) -> Response:
    visitor, where = _waiting(request), own_path(text_of(form, "next", "/"))
    if visitor is None or visitor.user_id is None:
        return RedirectResponse("/sign-in", status_code=303)
    await check_token(request, visitor)
    return await run_in_threadpool(_try_code, request, visitor, where, text_of(form, "code"))


def _try_code(request: Request, visitor: Visitor, where: str, given: str) -> Response:
    application, user_id = application_of(request), visitor.user_id or 0
    failures: FailedSignIns = request.app.state.failed_sign_ins
    who, source = f"code of {user_id}", request.client.host if request.client else ""
    if wait := failures.wait(who, source):
        said = say_wait(ceil(wait))
        return _code(request, visitor, where, f"Too many wrong codes. Wait {said}, then try again.", 429)
    if not second_factor.passes(application, user_id, given):
        failures.failed(who, source)
        sessions.note_failure(application, visitor.name or "")
        words = "This code does not fit, or has been used. Wait for the next one, or take a recovery code."
        return _code(request, visitor, where, words, 422)
    failures.succeeded(who, source)
    return _enter(request, user_id, where)


def _code(request: Request, visitor: Visitor, where: str, problem: str, status: int) -> Response:
    page = outside_page(request, visitor)
    return page.page("accounts/code.html", "", status, next=where, problem=problem)


@router.post("/sign-out")
def sign_out(context: RequestContext = SignedIn) -> Response:
    sessions.note_sign_out(context.application, context.by)
    sessions.end_session(context.application, context.request.cookies.get(COOKIE))
    response = RedirectResponse("/sign-in", status_code=303)
    response.delete_cookie(COOKIE)
    return response


@router.post("/look")
def look(context: RequestContext = SignedIn, form: FormData = Form) -> Response:
    """Light or dark colours in this browser, or those of the device."""
    chosen = text_of(form, "look")
    response = RedirectResponse(own_path(text_of(form, "back", "/")), status_code=303)
    if chosen in LOOKS:
        response.set_cookie(LOOK_COOKIE, chosen, max_age=A_YEAR, httponly=True, samesite="lax")
    else:
        response.delete_cookie(LOOK_COOKIE)
    return response


@router.get("/first-day")
def first_day_page(request: Request) -> Response:
    token, visitor = visitor_of(request)
    if shop_settings.has_owner(application_of(request)):
        return RedirectResponse("/sign-in", status_code=303)
    page = outside_page(request, visitor)
    # only offered: what a request calls us is what somebody typed into it
    values: dict[str, Any] = {"form": {}, "place": choices(), "address": str(request.base_url).rstrip("/")}
    return with_session(request, page.page("accounts/first_day.html", "", **values), token)


@router.post("/first-day")
def first_day(request: Request, form: FormData = Form, visitor: Visitor = Depends(token_holds)) -> Response:
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
        page = outside_page(request, visitor)
        return page.page(
            "accounts/first_day.html",
            "",
            422,
            form=dict(form),
            place=choices(),
            address="",
            problem=str(problem),
        )
    return _enter(request, owner, "/guide")
