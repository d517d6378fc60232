"""Settings, Results: how orders are put down to messages, and which difference is worth having."""

from fastapi import APIRouter
from fastapi.responses import Response
from pydantic import ValidationError
from starlette.datastructures import FormData

from loyalbell.core.validation_errors import say_error
from loyalbell.services.settings.channels import ResultsSettings, keep, loaded
from loyalbell.web.request import Form, RequestContext, SignedIn, text_of

router = APIRouter()


@router.get("/settings/results")
def results_settings(context: RequestContext = SignedIn, saved: str = "") -> Response:
    return _page(context, loaded(context.application, ResultsSettings), saved=bool(saved))


def _page(
    context: RequestContext, settings: ResultsSettings, problem: str | None = None, saved: bool = False
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
                "summary_to": text_of(form, "summary_to").replace(",", " ").replace(";", " ").split(),
            }
        )
    except ValidationError as error:
        kept = loaded(context.application, ResultsSettings)
        return _page(context, kept, f"Nothing is saved yet. {say_error(error.errors()[0])}.")
    keep(context.application, made, "results", context.by)
    return context.go("/settings/results?saved=yes")
