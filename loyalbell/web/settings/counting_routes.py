"""Settings, Results: how orders are put down to messages, and which difference is worth having."""

from typing import Any

from fastapi import APIRouter
from fastapi.responses import Response
from pydantic import ValidationError
from starlette.datastructures import FormData

from loyalbell.services.settings.channels import ResultsSettings, keep, loaded
from loyalbell.web.request import Form, RequestContext, SignedIn, text_of

router = APIRouter()
WRONG = {
    "window_days": "Give the days as a whole number from 1 to 60.",
    "worth_per_thousand": "Give the people of 1,000 as a whole number from 1 to 200.",
    "summary_every": "Choose whether the summary goes out every week or every day.",
    "summary_to": "One of the addresses for the week is no email address. Put commas between them.",
}


@router.get("/settings/results")
def results_settings(context: RequestContext = SignedIn, saved: str = "") -> Response:
    return _page(context, loaded(context.application, ResultsSettings), saved=bool(saved))


def _page(
    context: RequestContext,
    settings: ResultsSettings | dict[str, Any],
    problem: str | None = None,
    saved: bool = False,
) -> Response:
    values = {"counting": settings, "problem": problem, "saved": saved}
    return context.page("settings/results_counting.html", "settings", 422 if problem else 200, **values)


@router.post("/settings/results")
def save_results(context: RequestContext = SignedIn, form: FormData = Form) -> Response:
    try:
        made = ResultsSettings.model_validate(
            {
                "window_days": text_of(form, "window_days").strip(),
                "opens_count": "opens_count" in form,
                "worth_per_thousand": text_of(form, "worth_per_thousand").strip(),
                "summary_every": text_of(form, "summary_every", "week"),
                "summary_to": text_of(form, "summary_to").replace(",", " ").replace(";", " ").split(),
            }
        )
    except ValidationError as error:
        field = str(error.errors()[0]["loc"][0])
        return _page(context, _as_typed(form), f"Nothing is saved yet. {WRONG[field]}")
    keep(context.application, made, "results", context.by)
    return context.go("/settings/results?saved=yes")


def _as_typed(form: FormData) -> dict[str, Any]:
    """What was typed stays on the page, to be mended there."""
    return {
        "window_days": text_of(form, "window_days"),
        "opens_count": "opens_count" in form,
        "worth_per_thousand": text_of(form, "worth_per_thousand"),
        "summary_every": text_of(form, "summary_every", "week"),
        "summary_to": [text_of(form, "summary_to")],
    }
