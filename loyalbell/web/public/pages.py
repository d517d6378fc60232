"""The pages that customers see, without signing in."""

from fastapi import Request
from fastapi.responses import HTMLResponse

from loyalbell.web.request import application_of, render

UNKNOWN = "This link is not one we sent, or it was cut short on the way."


def page(request: Request, template: str, **values: object) -> HTMLResponse:
    return HTMLResponse(render(template, {"shop": application_of(request).the_shop()} | values))
