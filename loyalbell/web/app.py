"""The web application: routes, headers, and pages for what went wrong."""

from collections.abc import Awaitable, Callable

from fastapi import FastAPI, Request
from fastapi.responses import Response
from starlette.types import ASGIApp, Receive, Scope, Send

from loyalbell.services.accounts.failed_sign_ins import FailedSignIns
from loyalbell.services.application import FROM_WHERE, Application
from loyalbell.services.give_way import MAY_BE_OLD
from loyalbell.services.scheduler import Heartbeat
from loyalbell.storage.database import PATIENCE
from loyalbell.web import errors, watching_routes
from loyalbell.web.accounts import approval_routes, joining_routes, own_routes, people_routes
from loyalbell.web.accounts import routes as accounts_routes
from loyalbell.web.api.app import create_api
from loyalbell.web.body_limits import BodyLimit
from loyalbell.web.campaigns import calendar_routes
from loyalbell.web.campaigns import routes as campaigns_routes
from loyalbell.web.catalogue import routes as catalogue_routes
from loyalbell.web.customers import asking_routes, duplicate_routes, field_routes, profile_routes
from loyalbell.web.customers import routes as customers_routes
from loyalbell.web.guide import routes as guide_routes
from loyalbell.web.handbook import routes as handbook_routes
from loyalbell.web.imports import routes as imports_routes
from loyalbell.web.integrations import routes as integrations_routes
from loyalbell.web.messages import gallery_routes
from loyalbell.web.messages import routes as messages_routes
from loyalbell.web.messages.drafts import Drafts
from loyalbell.web.offers import routes as offers_routes
from loyalbell.web.public import callback_routes, mail_link_routes, preference_centre_routes
from loyalbell.web.rate_limits import RateLimit
from loyalbell.web.replies import routes as replies_routes
from loyalbell.web.request import DemoParts
from loyalbell.web.results import campaign_routes as campaign_results_routes
from loyalbell.web.results import links_routes
from loyalbell.web.results import routes as results_routes
from loyalbell.web.rhythm import routes as rhythm_routes
from loyalbell.web.segments import membership_change_routes, pasted_routes
from loyalbell.web.segments import routes as segments_routes
from loyalbell.web.sequences import (
    held_batch_routes,
    left_out_routes,
    live_routes,
    rehearsal_routes,
    test_run_routes,
)
from loyalbell.web.sequences import routes as sequences_routes
from loyalbell.web.settings import (
    care_routes,
    channel_routes,
    counting_routes,
    log_routes,
    machine_routes,
    place_routes,
)
from loyalbell.web.settings import routes as settings_routes
from loyalbell.web.static_files import VersionedFiles
from loyalbell.web.today import routes as today_routes

PAGE_POLICY = (
    "default-src 'none'; script-src 'self'; style-src 'self'; img-src 'self' data:; font-src 'self'; "
    "connect-src 'self'; form-action 'self'; frame-src 'self'; frame-ancestors 'none'; base-uri 'none'"
)
MAIL_POLICY = (
    "default-src 'none'; style-src 'unsafe-inline'; img-src 'self'; frame-ancestors 'self'; base-uri 'none';"
    " sandbox allow-popups allow-popups-to-escape-sandbox allow-top-navigation-by-user-activation"
)

ALWAYS = {
    "X-Content-Type-Options": "nosniff",
    "Referrer-Policy": "same-origin",
    "Permissions-Policy": "camera=(), geolocation=(), microphone=(), payment=(), usb=()",
    "Cross-Origin-Opener-Policy": "same-origin",
    "X-Permitted-Cross-Domain-Policies": "none",
}
"""Of every answer (the OWASP Secure Headers Project's list)."""
SHOWN_ELSEWHERE = ("/picture/", "/o/", "/offer/")
PAGE_SECONDS = 8.0
SIGN_UPS_AN_HOUR = 20
"""From one place; a tablet at the till stays below."""
FORGOTTEN_AN_HOUR = 10
"""Links for a new password, from one place."""
Next = Callable[[Request], Awaitable[Response]]


AREAS = (
    watching_routes,
    mail_link_routes,
    callback_routes,
    accounts_routes,
    joining_routes,
    own_routes,
    people_routes,
    approval_routes,
    today_routes,
    customers_routes,
    profile_routes,
    duplicate_routes,
    field_routes,
    asking_routes,
    imports_routes,
    guide_routes,
    handbook_routes,
    catalogue_routes,
    rhythm_routes,
    pasted_routes,
    segments_routes,
    membership_change_routes,
    gallery_routes,
    messages_routes,
    campaigns_routes,
    sequences_routes,
    rehearsal_routes,
    live_routes,
    left_out_routes,
    test_run_routes,
    held_batch_routes,
    care_routes,
    counting_routes,
    machine_routes,
    calendar_routes,
    links_routes,
    results_routes,
    campaign_results_routes,
    settings_routes,
    log_routes,
    place_routes,
    integrations_routes,
    offers_routes,
    preference_centre_routes,
    replies_routes,
    channel_routes,
)


def create_app(
    application: Application,
    heartbeat: Heartbeat | None = None,
    demo: DemoParts | None = None,
    metrics_token: str = "",
) -> FastAPI:
    """The web application. ``demo`` is what only the made-up shop has: its sign-in, its pages, its clock."""
    app = FastAPI(title="Loyal Bell", docs_url=None, redoc_url=None, openapi_url=None)
    app.state.application, app.state.heartbeat, app.state.demo = application, heartbeat, demo
    app.state.drafts, app.state.metrics_token = Drafts(), metrics_token
    app.state.failed_sign_ins = FailedSignIns()
    app.state.forgotten = RateLimit(FORGOTTEN_AN_HOUR, FORGOTTEN_AN_HOUR / 3_600)
    app.state.sign_ups = RateLimit(SIGN_UPS_AN_HOUR, SIGN_UPS_AN_HOUR / 3_600)
    app.mount("/static", VersionedFiles(), name="static")
    for area in AREAS:
        app.include_router(area.router)
    for router in demo.routers if demo else ():
        app.include_router(router)
    app.mount("/api/v1", create_api(application))
    app.add_middleware(BodyLimit)  # within the next, which would wrap what it raises
    app.middleware("http")(_headers)
    app.add_middleware(SomebodyWaits, application=application)
    for kind, handler in errors.HANDLERS:
        app.add_exception_handler(kind, handler)
    return app


class SomebodyWaits:
    """Whoever waits for a page or an answer goes before what can wait, and is told after a few seconds where
    the book is busy.
    """

    def __init__(self, app: ASGIApp, application: Application) -> None:
        self.app, self.application = app, application

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http":
            await self.app(scope, receive, send)
            return
        PATIENCE.set(PAGE_SECONDS)
        FROM_WHERE.set(scope["client"][0] if scope.get("client") else "")
        only_reads = scope["method"] in ("GET", "HEAD")
        MAY_BE_OLD.set(self.application.is_ticking and only_reads)
        with self.application.pages.one():
            try:
                await self.app(scope, receive, send)
            finally:
                if not only_reads:
                    self.application.cache.forget_recent()


async def _headers(request: Request, call_next: Next) -> Response:
    response = await call_next(request)
    is_mail = response.headers.get("X-Mail-Page") == "yes"
    policy = MAIL_POLICY if is_mail else PAGE_POLICY
    in_frame = is_mail or response.headers.get("X-In-Frame") == "yes"
    if in_frame:
        policy = policy.replace("frame-ancestors 'none'", "frame-ancestors 'self'")
    response.headers["Content-Security-Policy"] = policy
    response.headers["X-Frame-Options"] = "SAMEORIGIN" if in_frame else "DENY"
    response.headers.update(ALWAYS)
    # pictures in mails are shown by the pages of others
    is_picture = request.url.path.startswith(SHOWN_ELSEWHERE)
    response.headers["Cross-Origin-Resource-Policy"] = "cross-origin" if is_picture else "same-origin"
    if request.url.scheme == "https":
        response.headers["Strict-Transport-Security"] = "max-age=31536000"
    if not request.url.path.startswith("/static"):
        response.headers.setdefault("Cache-Control", "no-store")
    return response
