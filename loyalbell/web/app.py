"""The web application: routes, headers, and pages for what went wrong."""

from collections.abc import Awaitable, Callable
from pathlib import Path

import structlog
from fastapi import FastAPI, Request
from fastapi.exceptions import RequestValidationError
from fastapi.responses import HTMLResponse, PlainTextResponse, RedirectResponse, Response
from fastapi.staticfiles import StaticFiles
from sqlalchemy.exc import NoResultFound
from starlette.exceptions import HTTPException

from loyalbell.channels.post_room.store import PostRoomStore
from loyalbell.desk.desk import Desk
from loyalbell.desk.ticking import Heartbeat
from loyalbell.web.api.app import create_api
from loyalbell.web.drafts import Drafts
from loyalbell.web.routes import (
    campaigns,
    clock,
    customer,
    customers,
    duplicates,
    fields,
    imports,
    messages,
    other_programs,
    post_room,
    public,
    results,
    rhythm,
    segments,
    settings,
    sign_in,
    today,
)
from loyalbell.web.visit import BadToken, NotFound, SignInFirst, desk_of, render, sign_in_address
from loyalbell.web.words import Words

STATIC = Path(__file__).parent / "static"
PAGE_POLICY = (
    "default-src 'none'; script-src 'self'; style-src 'self'; img-src 'self' data:; font-src 'self'; "
    "connect-src 'self'; form-action 'self'; frame-src 'self'; frame-ancestors 'none'; base-uri 'none'"
)
MAIL_POLICY = "default-src 'none'; style-src 'unsafe-inline'; img-src 'self'; frame-ancestors 'self'; base-uri 'none'; sandbox allow-popups allow-popups-to-escape-sandbox allow-top-navigation-by-user-activation"

log = structlog.get_logger()
Next = Callable[[Request], Awaitable[Response]]


def create_app(
    desk: Desk,
    heartbeat: Heartbeat | None = None,
    room: PostRoomStore | None = None,
    demo_sign_in: tuple[str, str] | None = None,
) -> FastAPI:
    """The application on a desk. ``demo_sign_in`` is shown on the sign-in page of the demo."""
    app = FastAPI(title="Loyal Bell", docs_url=None, redoc_url=None, openapi_url=None)
    app.state.desk, app.state.heartbeat, app.state.room = desk, heartbeat, room
    app.state.demo_sign_in, app.state.drafts = demo_sign_in, Drafts()
    app.mount("/static", StaticFiles(directory=STATIC), name="static")
    for area in (
        public,
        sign_in,
        today,
        customers,
        customer,
        duplicates,
        fields,
        imports,
        rhythm,
        segments,
        messages,
        campaigns,
        results,
        settings,
        other_programs,
        clock,
        post_room,
    ):
        app.include_router(area.router)
    app.mount("/api/v1", create_api(desk))
    app.middleware("http")(_headers)
    _what_went_wrong(app)
    return app


async def _headers(request: Request, call_next: Next) -> Response:
    response = await call_next(request)
    is_mail = response.headers.get("X-Mail-Page") == "yes"
    response.headers["Content-Security-Policy"] = MAIL_POLICY if is_mail else PAGE_POLICY
    response.headers["X-Content-Type-Options"] = "nosniff"
    response.headers["Referrer-Policy"] = "same-origin"
    if not request.url.path.startswith("/static"):
        response.headers.setdefault("Cache-Control", "no-store")
    return response


def _plain_page(request: Request, title: str, words: str, status: int) -> Response:
    desk = desk_of(request)
    shop, now = desk.shop(), desk.clock.now()
    values = {"title": title, "words": words, "shop": shop, "now": now, "say": Words(shop, now)}
    return HTMLResponse(render("parts/went_wrong.html", values), status_code=status)


def _what_went_wrong(app: FastAPI) -> None:
    async def sign_in_first(request: Request, error: Exception) -> Response:
        where = sign_in_address(request)
        if request.headers.get("HX-Request"):
            return Response(status_code=204, headers={"HX-Redirect": where})
        return RedirectResponse(where, status_code=303)

    async def bad_token(request: Request, error: Exception) -> Response:
        words = "This page was open too long, or was not ours. Nothing was changed. Go back, load it again, and repeat."
        return _plain_page(request, "This page is out of date", words, 403)

    async def not_found(request: Request, error: Exception) -> Response:
        what = str(error) if isinstance(error, NotFound) else "Nothing is at this address."
        return _plain_page(
            request, "Not here", f"{what} It may have been deleted, or the address is mistyped.", 404
        )

    async def bad_address(request: Request, error: Exception) -> Response:
        return _plain_page(request, "Not here", "This address is not written as one of ours.", 404)

    async def http_error(request: Request, error: Exception) -> Response:
        status = error.status_code if isinstance(error, HTTPException) else 500
        if status == 404:
            return await not_found(
                request, error if isinstance(error, NotFound) else NotFound("Nothing is at this address.")
            )
        return _plain_page(request, "That did not work", "This address does not take that request.", status)

    async def unforeseen(request: Request, error: Exception) -> Response:
        log.error("a page failed", path=request.url.path, exc_info=error)
        if request.headers.get("HX-Request"):
            return PlainTextResponse("Something unforeseen went wrong. Nothing was changed.", status_code=500)
        words = "Something unforeseen went wrong and was written to the log. Nothing was changed."
        return _plain_page(request, "That did not work", words, 500)

    app.add_exception_handler(SignInFirst, sign_in_first)
    app.add_exception_handler(BadToken, bad_token)
    app.add_exception_handler(NotFound, not_found)
    app.add_exception_handler(NoResultFound, not_found_row)
    app.add_exception_handler(RequestValidationError, bad_address)
    app.add_exception_handler(HTTPException, http_error)
    app.add_exception_handler(Exception, unforeseen)


async def not_found_row(request: Request, error: Exception) -> Response:
    return _plain_page(
        request, "Not here", "What this address names is not on file. It may have been deleted.", 404
    )
