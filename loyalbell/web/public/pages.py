"""The pages that customers see, without signing in."""

from fastapi import Request
from fastapi.responses import HTMLResponse

from loyalbell.services.application import Application
from loyalbell.services.customers.asking import NotTaken
from loyalbell.services.customers.preference_centre import language_of
from loyalbell.services.translations import language_for, month_names, translator
from loyalbell.web.request import application_of, render

UNKNOWN = "This link is not one we sent, or it was cut short on the way."


def render_piece(application: Application, template: str, **values: object) -> str:
    """What such a page holds, for showing its text."""
    return render(template, {"shop": application.the_shop()} | values)


def page(request: Request, template: str, **values: object) -> HTMLResponse:
    """In the language of the person whose ``token`` is among the values, else in the browser's."""
    application = application_of(request)
    token = values.get("token")
    wanted = language_of(application, token) if isinstance(token, str) else None
    language = language_for(wanted, request.headers.get("accept-language", ""))
    say = translator(language)
    problem = values.get("problem")
    if isinstance(problem, NotTaken):
        values["problem"] = say(problem.text, **problem.values)
    words = {"_": say, "language": language, "months": month_names(language)}
    return HTMLResponse(render(template, {"shop": application.the_shop()} | words | values))
