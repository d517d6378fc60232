"""The rehearsal of one sequence as pictures, with the people behind each bar: over the past, or the coming
weeks.
"""

from datetime import date
from typing import Any

from fastapi import APIRouter
from fastapi.responses import Response

from loyalbell.core.clock.zones import day_of, zone_of
from loyalbell.core.segments.model import RuleProblem
from loyalbell.core.sequences import plan as p
from loyalbell.services.application import Application
from loyalbell.services.rehearsal import forecast, rehearsals
from loyalbell.services.rehearsal.rehearsals import Rehearsed
from loyalbell.services.rehearsal.silence import why_silent
from loyalbell.services.sequences.drafts import draft_of
from loyalbell.services.settings.channels import StaffSettings, loaded
from loyalbell.web.request import RequestContext, SignedIn
from loyalbell.web.sequences import editor_rail as rail
from loyalbell.web.sequences.lookup import sequence_of
from loyalbell.web.sequences.rehearsal_charts import day_columns, quarter_columns
from loyalbell.web.sequences.rehearsal_people import Asked, behind

router = APIRouter()
FIRST_YEAR, LAST_YEAR = 1970, 9998
SPANS = {
    "past": "the past 180 days",
    "agreed": "the past 180 days, as if today’s consents had held",
    "coming": f"the coming {forecast.WEEKS} weeks",
}


@router.get("/sequences/{sequence_id:int}/rehearsal")
def rehearsal(
    sequence_id: int,
    context: RequestContext = SignedIn,
    over: str = "",
    day: str = "",
    quarter: str = "",
    cause: str = "",
    out: str = "",
    page: int = 1,
) -> Response:
    """Of the draft as it is saved. ``day`` is local, ``quarter`` a time of that day."""
    sequence = sequence_of(context, sequence_id)
    plan = draft_of(sequence)
    if not over and _only_ahead(context.application, plan, sequence_id):
        over = "coming"
    over = over if over in SPANS else "past"
    asked = Asked(over, day, quarter, cause, out, page)
    values: dict[str, Any] = {
        "sequence": sequence,
        "over": over,
        "spans": SPANS,
        "unclear": "",
        "rehearsed": None,
    }
    try:
        if over == "coming":
            made = forecast.rehearse_coming(context.application, plan, sequence_id)
        else:
            as_agreed = over == "agreed"
            made = rehearsals.rehearse_past(context.application, plan, sequence_id, consent_now=as_agreed)
    except RuleProblem as problem:
        return context.page("sequences/rehearsal.html", "sequences", **values | {"unclear": str(problem)})
    if made is not None:
        values["silence"] = _silence(context.application, plan, made, over, sequence_id)
        values |= _values(context, plan, made) | _pictures(context, plan, made, asked)
    return context.page("sequences/rehearsal.html", "sequences", **values)


def _only_ahead(application: Application, plan: p.Plan, sequence_id: int) -> bool:
    """Whether its dates, such as the next renewal, lie ahead of us only: the past would show nothing."""
    if not isinstance(plan.start, p.OnDate):
        return False
    try:
        made = rehearsals.rehearse_past(application, plan, sequence_id)
    except RuleProblem:
        return False
    return not made.figures.entered


def _silence(
    application: Application, plan: p.Plan, made: Rehearsed, over: str, sequence_id: int
) -> list[str]:
    """Why the picture is empty; or, beside the coming weeks, why the past would have been."""
    if over != "coming":
        return why_silent(application, plan, made.figures, made.days)
    if _only_ahead(application, plan, sequence_id):
        past = rehearsals.rehearse_past(application, plan, sequence_id)
        return why_silent(application, plan, past.figures, past.days)[:1]
    return [] if made.figures.messages or made.figures.entered else ["Nobody is expected to come in."]


def _values(context: RequestContext, plan: p.Plan, made: Rehearsed) -> dict[str, Any]:
    most = rail.guard_most(context, made.figures, len(context.application.snapshot().people))
    staff = loaded(context.application, StaffSettings)
    return {
        "rehearsed": made,
        "f": made.figures,
        "facts": rail.facts(context, made.figures, made.days),
        "most": most,
        "picture": day_columns(made.figures.days, most),
        "hours": made.figures.replies * 7 / made.days / staff.answers_an_hour,
        "cause_words": rail.say_withheld,
        "out_words": rail.say_entry_refusal,
    }


def _pictures(context: RequestContext, plan: p.Plan, made: Rehearsed, asked: Asked) -> dict[str, Any]:
    """The day looked at, by default the heaviest, by the quarter of an hour, and the people behind what was
    pressed.
    """
    zone = zone_of(context.application.the_shop().zone)
    heaviest = made.figures.heaviest
    chosen = _day(asked.day) or (day_of(heaviest.day) if heaviest and heaviest.messages else None)
    values: dict[str, Any] = {
        "asked": asked,
        "chosen": chosen,
        "behind": behind(context, plan, made.found, asked, chosen, zone),
    }
    if chosen is not None:
        sent = [one for one in made.found.sent if one.play == 0 and day_of(zone.day(one.at)) == chosen]
        staff = loaded(context.application, StaffSettings)
        answerable = {one: staff.answers_an_hour / rate for one, rate in made.replies.items() if rate}
        start = zone.instant((chosen - date(1970, 1, 1)).days, 0)
        values |= {"quarters": quarter_columns(sent, start, zone, answerable), "of_day": len(sent)}
    return values


def _day(words: str) -> date | None:
    """A day that may be looked at; the calendar's very ends have no neighbours to count to."""
    try:
        day = date.fromisoformat(words)
    except ValueError:
        return None
    return day if FIRST_YEAR <= day.year <= LAST_YEAR else None
