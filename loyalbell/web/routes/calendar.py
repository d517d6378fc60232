"""The calendar: what has gone out and what is expected, with campaigns that can be moved."""

from datetime import date
from zoneinfo import ZoneInfo

from fastapi import APIRouter
from fastapi.responses import Response
from starlette.datastructures import FormData

from loyalbell.desk import calendar
from loyalbell.desk.campaigns import CannotSend
from loyalbell.desk.sequences.coming import coming
from loyalbell.web.visit import Form, SignedIn, Visit, text_of

router = APIRouter()


@router.get("/calendar")
def page(visit: Visit = SignedIn) -> Response:
    return _page(visit)


def _page(visit: Visit, problem: str | None = None) -> Response:
    expected = coming(visit.desk)
    days = calendar.calendar(visit.desk, expected)
    weeks = [days[at : at + 7] for at in range(0, len(days), 7)]
    top = max([day.messages for day in days] or [0]) or 1
    today = visit.desk.clock.now().astimezone(ZoneInfo(visit.desk.the_shop().zone)).date()
    return visit.page("calendar/calendar.html", "campaigns", 422 if problem else 200, weeks=weeks, top=top, today=today, working=expected is None, problem=problem)  # fmt: skip


@router.post("/calendar/{campaign_id}/move")
def move(campaign_id: int, visit: Visit = SignedIn, form: FormData = Form) -> Response:
    try:
        calendar.move_campaign(visit.desk, campaign_id, date.fromisoformat(text_of(form, "day")), visit.by)
    except CannotSend as problem:
        return _page(visit, str(problem))
    except ValueError:
        return _page(visit, "Choose the day it should go out.")
    return visit.go("/calendar")
