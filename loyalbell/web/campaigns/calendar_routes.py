"""The calendar: what has gone out and what is expected, with campaigns that can be moved."""

from datetime import date
from zoneinfo import ZoneInfo

from fastapi import APIRouter
from fastapi.responses import Response
from starlette.datastructures import FormData

from loyalbell.services.calendar import queries as calendar_queries
from loyalbell.services.campaigns.queries import CannotSend
from loyalbell.services.rehearsal.forecast import coming
from loyalbell.web.request import Form, RequestContext, SignedIn, text_of

router = APIRouter()


@router.get("/calendar")
def page(context: RequestContext = SignedIn) -> Response:
    return _page(context)


def _page(context: RequestContext, problem: str | None = None) -> Response:
    expected = coming(context.application)
    days = calendar_queries.calendar(context.application, expected)
    weeks = [days[at : at + 7] for at in range(0, len(days), 7)]
    top = max([day.messages for day in days] or [0]) or 1
    today = context.application.clock.now().astimezone(ZoneInfo(context.application.the_shop().zone)).date()
    return context.page(
        "campaigns/calendar.html",
        "campaigns",
        422 if problem else 200,
        weeks=weeks,
        top=top,
        today=today,
        working=expected is None,
        problem=problem,
    )


@router.post("/calendar/{campaign_id}/move")
def move(campaign_id: int, context: RequestContext = SignedIn, form: FormData = Form) -> Response:
    try:
        calendar_queries.move_campaign(
            context.application, campaign_id, date.fromisoformat(text_of(form, "day")), context.by
        )
    except CannotSend as problem:
        return _page(context, str(problem))
    except ValueError:
        return _page(context, "Choose the day it should go out.")
    return context.go("/calendar")
