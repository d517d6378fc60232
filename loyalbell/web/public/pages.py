"""The pages that customers see, without signing in."""

from fastapi import Request
from fastapi.responses import HTMLResponse

from loyalbell.services.application import Application
from loyalbell.web.request import application_of, render

UNKNOWN = "This link is not one we sent, or it was cut short on the way."


def render_piece(application: Application, template: str, **values: object) -> str:
    """What such a page holds, for showing its text."""
    return render(template, {"shop": application.the_shop()} | values)


def page(request: Request, template: str, **values: object) -> HTMLResponse:
    return HTMLResponse(render(template, {"shop": application_of(request).the_shop()} | values))
