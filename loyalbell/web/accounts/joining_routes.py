"""Choosing a password by a link: who was invited, and who forgot theirs."""

from fastapi import APIRouter, BackgroundTasks, Depends, Request
from fastapi.responses import RedirectResponse, Response
from starlette.datastructures import FormData

from loyalbell.services.accounts import account_links
from loyalbell.services.accounts.account_links import LinkOver
from loyalbell.services.accounts.passwords import LEAST, WeakPassword
from loyalbell.services.accounts.sessions import Visitor
from loyalbell.web.accounts.cookies import outside_page, token_holds, visitor_of, with_session
from loyalbell.web.rate_limits import RateLimit
from loyalbell.web.request import Form, application_of, text_of

router = APIRouter()


@router.get("/forgotten")
def forgotten_page(request: Request) -> Response:
    token, visitor = visitor_of(request)
    page = outside_page(request, visitor).page("accounts/forgotten.html", "", sent=False)
    return with_session(request, page, token)


@router.post("/forgotten")
def forgotten(
    request: Request,
    later: BackgroundTasks,
    form: FormData = Form,
    visitor: Visitor = Depends(token_holds),
) -> Response:
    """Says the same whoever asks, and as fast: the mail goes after the answer."""
    page = outside_page(request, visitor)
    limit: RateLimit = request.app.state.forgotten
    if limit.take(request.client.host if request.client else ""):
        problem = "That was asked for too often from here. Wait an hour, or ask the owner for a link."
        return page.page("accounts/forgotten.html", "", 429, sent=False, problem=problem)
    later.add_task(account_links.forgot, application_of(request), page.sender, text_of(form, "email"))
    answer = page.page("accounts/forgotten.html", "", sent=True)
    answer.background = later
    return answer


@router.get("/join/{token}")
def join_page(request: Request, token: str) -> Response:
    return _page(request, token)


def _page(request: Request, token: str, problem: str = "") -> Response:
    cookie, visitor = visitor_of(request)
    try:
        user, status = account_links.whose(application_of(request), token), 422 if problem else 200
    except LinkOver:
        user, status = None, 410
    page = outside_page(request, visitor)
    values = {"user": user, "token": token, "least": LEAST, "problem": problem}
    return with_session(request, page.page("accounts/join.html", "", status, **values), cookie)


@router.post("/join/{token}")
def join(
    request: Request, token: str, form: FormData = Form, visitor: Visitor = Depends(token_holds)
) -> Response:
    password = text_of(form, "password")
    if password != text_of(form, "again"):
        return _page(request, token, "The two passwords differ. Type the same one twice.")
    try:
        account_links.choose_password(application_of(request), token, password)
    except WeakPassword as problem:
        return _page(request, token, str(problem))
    except LinkOver:
        return _page(request, token)
    return RedirectResponse("/sign-in?chosen=yes", status_code=303)
