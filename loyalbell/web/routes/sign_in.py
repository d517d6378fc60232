"""Signing in, signing out, and the first day of a new shop."""

from fastapi import APIRouter, Depends, Request
from fastapi.responses import HTMLResponse, RedirectResponse, Response
from starlette.datastructures import FormData

from loyalbell.desk import setting_up, signing_in
from loyalbell.desk.signing_in import Visitor
from loyalbell.web.routes.settings import read_shop_form
from loyalbell.web.visit import COOKIE, BadToken, Form, SignedIn, Visit, check_token, desk_of, text_of

router = APIRouter()


def _with_session(response: Response, token: str | None) -> Response:
    if token:
        response.set_cookie(COOKIE, token, httponly=True, samesite="lax", max_age=14 * 86_400)
    return response


def _visitor(request: Request) -> tuple[str | None, Visitor]:
    """The browser's session, or a new one for someone not yet signed in, with its token."""
    visitor = signing_in.find_session(desk_of(request), request.cookies.get(COOKIE))
    if visitor is not None:
        return None, visitor
    return signing_in.new_session(desk_of(request))


def _safe(path: str) -> str:
    return path if path.startswith("/") and not path.startswith(("//", "/\\")) else "/"


@router.get("/sign-in")
def sign_in_page(request: Request, next: str = "/") -> Response:
    token, visitor = _visitor(request)
    if not setting_up.has_owner(desk_of(request)):
        return _with_session(RedirectResponse("/first-day", status_code=303), token)
    return _with_session(_sign_in(request, visitor, next), token)


def _sign_in(
    request: Request, visitor: Visitor, next: str, problem: str | None = None, status: int = 200
) -> HTMLResponse:
    page = Visit(request, desk_of(request), visitor)
    shown = request.app.state.demo_sign_in
    return page.page("signing_in/sign_in.html", "", status, next=_safe(next), problem=problem, shown=shown)


async def _token_holds(request: Request) -> Visitor:
    visitor = signing_in.find_session(desk_of(request), request.cookies.get(COOKIE))
    if visitor is None:
        raise BadToken
    await check_token(request, visitor)
    return visitor


@router.post("/sign-in")
def sign_in(request: Request, form: FormData = Form, visitor: Visitor = Depends(_token_holds)) -> Response:
    desk, where = desk_of(request), _safe(text_of(form, "next", "/"))
    user_id = signing_in.check_password(desk, text_of(form, "email"), text_of(form, "password"))
    if user_id is None:
        problem = "That email and password do not belong together. Try again."
        return _sign_in(request, visitor, where, problem, status=422)
    signing_in.end_session(desk, request.cookies.get(COOKIE))
    token, _ = signing_in.new_session(desk, user_id)
    return _with_session(RedirectResponse(where, status_code=303), token)


@router.post("/sign-out")
def sign_out(visit: Visit = SignedIn) -> Response:
    signing_in.end_session(visit.desk, visit.request.cookies.get(COOKIE))
    response = RedirectResponse("/sign-in", status_code=303)
    response.delete_cookie(COOKIE)
    return response


@router.get("/first-day")
def first_day_page(request: Request) -> Response:
    token, visitor = _visitor(request)
    if setting_up.has_owner(desk_of(request)):
        return RedirectResponse("/sign-in", status_code=303)
    page = Visit(request, desk_of(request), visitor)
    return _with_session(page.page("signing_in/first_day.html", "", form={}), token)


@router.post("/first-day")
def first_day(request: Request, form: FormData = Form, visitor: Visitor = Depends(_token_holds)) -> Response:
    desk = desk_of(request)
    entered = dict(form) | {"public_url": str(request.base_url).rstrip("/")}
    entered |= {"smtp_host": "127.0.0.1", "smtp_port": "25"}
    try:
        owner = setting_up.open_shop(
            desk,
            read_shop_form(entered),
            text_of(form, "owner"),
            text_of(form, "email"),
            text_of(form, "password"),
        )
    except setting_up.NotSetUp as problem:
        page = Visit(request, desk, visitor)
        return page.page("signing_in/first_day.html", "", 422, form=dict(form), problem=str(problem))
    signing_in.end_session(desk, request.cookies.get(COOKIE))
    token, _ = signing_in.new_session(desk, owner)
    return _with_session(RedirectResponse("/", status_code=303), token)
