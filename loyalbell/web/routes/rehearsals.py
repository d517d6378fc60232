"""The rehearsal of one sequence as pictures, with the people behind each bar: over the past, or the coming weeks."""

from datetime import UTC, date, datetime
from types import SimpleNamespace
from typing import Any

from fastapi import APIRouter
from fastapi.responses import Response
from sqlalchemy import select

from loyalbell.core.segments.model import RuleProblem
from loyalbell.core.sequences import plan as p
from loyalbell.core.sequences.rehearsal import Sent
from loyalbell.core.zones import day_of, zone_of
from loyalbell.desk.channel_settings import StaffSettings, loaded
from loyalbell.desk.sequences import coming, rehearsing
from loyalbell.desk.sequences.editing import draft_of
from loyalbell.desk.sequences.rehearsing import Rehearsed
from loyalbell.store.tables import Person
from loyalbell.web import sequence_rail as rail
from loyalbell.web import sequence_sheet as sheet
from loyalbell.web.rehearsal_pictures import day_columns, quarter_columns, say_quarter
from loyalbell.web.routes.sequences import sequence_of
from loyalbell.web.visit import SignedIn, Visit

router = APIRouter()
PAGE = 40
SPANS = {"past": "the past 180 days", "coming": f"the coming {coming.WEEKS} weeks"}


@router.get("/sequences/{sequence_id:int}/rehearsal")
def rehearsal(sequence_id: int, visit: Visit = SignedIn, over: str = "past", day: str = "", quarter: str = "", page: int = 1) -> Response:  # fmt: skip
    """Of the draft as it is saved. ``day`` is local, ``quarter`` a time of that day."""
    sequence, over = sequence_of(visit, sequence_id), over if over in SPANS else "past"
    plan = draft_of(sequence)
    values: dict[str, Any] = {
        "sequence": sequence,
        "over": over,
        "spans": SPANS,
        "unclear": "",
        "rehearsed": None,
    }
    try:
        if over == "coming":
            made = coming.rehearse_coming(visit.desk, plan, sequence_id)
        else:
            made = rehearsing.rehearse_past(visit.desk, plan, sequence_id)
    except RuleProblem as problem:
        return visit.page("sequences/rehearsal.html", "sequences", **values | {"unclear": str(problem)})
    if made is not None:
        values |= _values(visit, plan, made) | _behind(visit, plan, made, day, quarter, page)
    return visit.page("sequences/rehearsal.html", "sequences", **values)


def _values(visit: Visit, plan: p.Plan, made: Rehearsed) -> dict[str, Any]:
    most = rail.guard_most(visit, made.figures, len(visit.desk.ledger().people))
    staff = loaded(visit.desk, StaffSettings)
    return {
        "rehearsed": made, "f": made.figures, "facts": rail.facts(visit, made.figures, made.days), "most": most,
        "picture": day_columns(made.figures.days, most),
        "hours": made.figures.replies * 7 / made.days / staff.answers_an_hour,
        "cause_words": rail.say_withheld, "out_words": rail.say_kept_out,
    }  # fmt: skip


def _behind(visit: Visit, plan: p.Plan, made: Rehearsed, day: str, quarter: str, page: int) -> dict[str, Any]:
    """The day looked at, by default the heaviest, by the quarter of an hour, and the people behind it."""
    zone = zone_of(visit.desk.the_shop().zone)
    heaviest = made.figures.heaviest
    chosen = _day(day) or (day_of(heaviest.day) if heaviest and heaviest.messages else None)
    if chosen is None:
        return {"chosen": None}
    sent = [one for one in made.found.sent if one.play == 0 and day_of(zone.day(one.at)) == chosen]
    start = zone.instant((chosen - date(1970, 1, 1)).days, 0)
    staff = loaded(visit.desk, StaffSettings)
    answerable = {one: staff.answers_an_hour / rate for one, rate in made.replies.items() if rate}
    some = [one for one in sent if not quarter or say_quarter(one.at, zone) == quarter]
    page = max(page, 1)
    return {
        "chosen": chosen, "quarter": quarter, "quarters": quarter_columns(sent, start, zone, answerable),
        "of_day": len(sent), "total": len(some), "page": page, "pages": max(1, -(-len(some) // PAGE)),
        "lines": _lines(visit, plan, some[(page - 1) * PAGE : page * PAGE]),
    }  # fmt: skip


def _day(words: str) -> date | None:
    try:
        return date.fromisoformat(words)
    except ValueError:
        return None


def _lines(visit: Visit, plan: p.Plan, some: list[Sent]) -> list[SimpleNamespace]:
    ids = visit.desk.ledger().people.ids
    with visit.desk.book.reading() as session:
        names = sheet.names_of(visit, session)
        kept = session.scalars(select(Person).where(Person.id.in_({int(ids[one.person]) for one in some})))
        people = {one.id: one for one in kept}
    steps = {one.id: rail.short_step(one, names) for one in p.every_step(plan.steps)}
    return [
        SimpleNamespace(person=people[at], at=datetime.fromtimestamp(one.at, UTC), step=steps.get(one.step, ""), channel=one.channel)
        for one in some
        if (at := int(ids[one.person])) in people
    ]  # fmt: skip
