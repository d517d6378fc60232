"""Moving the demo's clock on."""

from datetime import timedelta

from fastapi import APIRouter
from fastapi.responses import Response
from starlette.datastructures import FormData

from loyalbell.demo.clock_driver import DemoClockDriver
from loyalbell.services.clock import DemoClock
from loyalbell.web.request import Form, NotFound, RequestContext, SignedIn, own_path, text_of

router = APIRouter()
STEPS = {"hour": timedelta(hours=1), "day": timedelta(days=1), "week": timedelta(weeks=1)}


@router.post("/clock")
def move(context: RequestContext = SignedIn, form: FormData = Form) -> Response:
    clock, step = context.application.clock, STEPS.get(text_of(form, "step"))
    if not isinstance(clock, DemoClock) or step is None:
        raise NotFound("Only the demo’s clock can be moved, by an hour, a day or a week.")
    driver: DemoClockDriver | None = getattr(context.request.app.state, "clock_driver", None)
    if driver is not None:
        driver.move_on(step)
    else:
        clock.move_on(step)
    context.wake()
    return context.go(own_path(text_of(form, "back", "/")))
