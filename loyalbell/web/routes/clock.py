"""Moving the demo's clock on."""

from datetime import timedelta

from fastapi import APIRouter
from fastapi.responses import Response
from starlette.datastructures import FormData

from loyalbell.desk.clock import DemoClock
from loyalbell.web.visit import Form, NotFound, SignedIn, Visit, text_of

router = APIRouter()
STEPS = {"hour": timedelta(hours=1), "day": timedelta(days=1), "week": timedelta(weeks=1)}


@router.post("/clock")
def move(visit: Visit = SignedIn, form: FormData = Form) -> Response:
    clock, step = visit.desk.clock, STEPS.get(text_of(form, "step"))
    if not isinstance(clock, DemoClock) or step is None:
        raise NotFound("Only the demo’s clock can be moved, by an hour, a day or a week.")
    mover = getattr(visit.request.app.state, "mover", None)
    if mover is not None:
        mover.move_on(step)
    else:
        clock.move_on(step)
    visit.wake()
    back = text_of(form, "back", "/")
    return visit.go(back if back.startswith("/") and not back.startswith("//") else "/")
