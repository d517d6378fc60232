"""The web application: routes, headers, and pages for what went wrong."""

from collections.abc import Awaitable, Callable
from pathlib import Path

from fastapi import FastAPI, Request
from fastapi.responses import Response
from fastapi.staticfiles import StaticFiles

from loyalbell.channels.post_room.store import PostRoomStore
from loyalbell.desk.desk import Desk
from loyalbell.desk.ticking import Heartbeat
from loyalbell.web import went_wrong
from loyalbell.web.api.app import create_api
from loyalbell.web.drafts import Drafts
from loyalbell.web.routes import (
    calendar,
    callbacks,
    campaigns,
    care,
    channels,
    clock,
    customer,
    customers,
    duplicates,
    fields,
    gallery,
    held,
    imports,
    listed,
    messages,
    offers,
    other_programs,
    own_pages,
    post_room,
    proof_runs,
    public,
    rehearsals,
    results,
    rhythm,
    segments,
    sequences,
    sequences_live,
    settings,
    sign_in,
    today,
    tray,
)

STATIC = Path(__file__).parent / "static"
PAGE_POLICY = (
    "default-src 'none'; script-src 'self'; style-src 'self'; img-src 'self' data:; font-src 'self'; "
    "connect-src 'self'; form-action 'self'; frame-src 'self'; frame-ancestors 'none'; base-uri 'none'"
)
MAIL_POLICY = "default-src 'none'; style-src 'unsafe-inline'; img-src 'self'; frame-ancestors 'self'; base-uri 'none'; sandbox allow-popups allow-popups-to-escape-sandbox allow-top-navigation-by-user-activation"

Next = Callable[[Request], Awaitable[Response]]


AREAS = (
    public,
    callbacks,
    sign_in,
    today,
    customers,
    customer,
    duplicates,
    fields,
    imports,
    rhythm,
    segments,
    listed,
    gallery,
    messages,
    campaigns,
    sequences,
    rehearsals,
    sequences_live,
    proof_runs,
    held,
    care,
    calendar,
    results,
    settings,
    other_programs,
    clock,
    post_room,
    offers,
    own_pages,
    tray,
    channels,
)


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
    for area in AREAS:
        app.include_router(area.router)
    app.mount("/api/v1", create_api(desk))
    app.middleware("http")(_headers)
    for kind, handler in went_wrong.HANDLERS:
        app.add_exception_handler(kind, handler)
    return app


async def _headers(request: Request, call_next: Next) -> Response:
    response = await call_next(request)
    is_mail = response.headers.get("X-Mail-Page") == "yes"
    policy = MAIL_POLICY if is_mail else PAGE_POLICY
    if response.headers.get("X-In-Frame") == "yes":
        policy = policy.replace("frame-ancestors 'none'", "frame-ancestors 'self'")
    response.headers["Content-Security-Policy"] = policy
    response.headers["X-Content-Type-Options"] = "nosniff"
    response.headers["Referrer-Policy"] = "same-origin"
    if not request.url.path.startswith("/static"):
        response.headers.setdefault("Cache-Control", "no-store")
    return response
