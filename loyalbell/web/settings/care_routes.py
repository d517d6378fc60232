"""Care: contact limits, quiet hours, the volume guard, silence of a part."""

from fastapi import APIRouter
from fastapi.responses import Response
from pydantic import ValidationError
from starlette.datastructures import FormData

from loyalbell.core.channels import CHANNELS
from loyalbell.core.policy.send_policy import FrequencyCap
from loyalbell.core.validation_errors import say_error
from loyalbell.services.catalogue import queries as catalogue_queries
from loyalbell.services.settings.channels import CareSettings, keep, loaded
from loyalbell.web.request import Form, RequestContext, SignedIn, number_of, text_of

router = APIRouter()


@router.get("/settings/care")
def care(context: RequestContext = SignedIn, saved: str = "") -> Response:
    return _care(context, loaded(context.application, CareSettings), saved=bool(saved))


def _care(
    context: RequestContext, settings: CareSettings, problem: str | None = None, saved: bool = False
) -> Response:
    departments = catalogue_queries.department_names(context.application)
    values = {
        "care": settings,
        "problem": problem,
        "saved": saved,
        "departments": departments,
        "channels": CHANNELS,
    }
    return context.page("settings/care.html", "settings", 422 if problem else 200, **values)


@router.post("/settings/care")
def save_care(context: RequestContext = SignedIn, form: FormData = Form) -> Response:
    kept = loaded(context.application, CareSettings)
    try:
        limits = [
            FrequencyCap(count=number_of(form, f"count{at}") or 0, days=number_of(form, f"days{at}") or 1)
            for at in range(4)
            if text_of(form, f"count{at}").strip()
        ]
        made = CareSettings.model_validate(
            {
                "limits": [one.model_dump() for one in limits],
                "quiet_begins": text_of(form, "quiet_begins"),
                "quiet_ends": text_of(form, "quiet_ends"),
                "holidays": "holidays" in form,
                "closed": text_of(form, "closed").split(),
                "leap_day": text_of(form, "leap_day", "28 February"),
                "guard_factor": text_of(form, "guard_factor", "3"),
                "guard_floor": text_of(form, "guard_floor", "50"),
                "newcomer_percent": text_of(form, "newcomer_percent", "1"),
                "silent": [str(one) for one in form.getlist("silent")],
                "silent_departments": [int(str(one)) for one in form.getlist("silent_departments")],
            }
        )
    except ValidationError as error:
        return _care(context, kept, f"{say_error(error.errors()[0])}.")
    keep(context.application, made, "care", context.by)
    return context.go("/settings/care?saved=yes")
