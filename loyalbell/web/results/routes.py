"""Results: what came of each campaign, with the people behind each figure."""

from dataclasses import dataclass
from typing import Annotated, Any, Literal

from fastapi import APIRouter, Depends
from fastapi.responses import HTMLResponse, Response
from starlette.datastructures import FormData

from loyalbell.core.clock.local_time import local_day
from loyalbell.core.policy.origins import SEQUENCE, Origin
from loyalbell.services.results import deliverability, openings
from loyalbell.services.results.breakdown.by_kind import breakdown, ordered
from loyalbell.services.results.breakdown.lift_by import by_month, by_segment
from loyalbell.services.results.breakdown.offers_used import offers_of
from loyalbell.services.results.detail import detail
from loyalbell.services.results.experiments import CannotKeep, experiments, keep_only, of_origin
from loyalbell.services.results.export import as_csv, as_sheet
from loyalbell.services.results.overview import RETURN_DAYS, in_order, overview
from loyalbell.services.results.people import FIGURES as PEOPLE_FIGURES
from loyalbell.services.results.people import behind
from loyalbell.services.results.ranges import USUAL, Days, RangeProblem, days_of
from loyalbell.services.results.shop_wide import shop_wide
from loyalbell.services.segments import commands as segment_commands
from loyalbell.services.settings.channels import ResultsSettings, loaded
from loyalbell.storage import schema
from loyalbell.storage.files.export import MEDIA
from loyalbell.web.request import Form, NotFound, RequestContext, SignedIn, text_of
from loyalbell.web.results.score_view import score_view
from loyalbell.web.results.views import (
    Address,
    RowView,
    SequenceAddress,
    added_people,
    headline,
    lift_picture,
    part_views,
    per_thousand,
    test_views,
    views,
)

router = APIRouter()
PAGE = 40
FILES = ("csv", "xlsx")


@dataclass(frozen=True)
class Asked:
    """What the address of a page of results asks for."""

    days: str = USUAL
    first: str = ""
    last: str = ""
    by: str = "delivered"
    show: str = ""


def days_asked(context: RequestContext, asked: Asked) -> tuple[Days, str]:
    """The days, and what is wrong with those given; then the usual ones stand."""
    shop = context.application.the_shop()
    today, zone = local_day(context.application.clock.now(), shop.zone), shop.zone
    try:
        return days_of(asked.days, today, zone, asked.first, asked.last), ""
    except RangeProblem as problem:
        return days_of(USUAL, today, zone), str(problem)


@router.get("/results")
def list_page(asked: Annotated[Asked, Depends()], context: RequestContext = SignedIn) -> Response:
    days, problem = days_asked(context, asked)
    found = overview(context.application, days)
    rows = views(in_order(found.rows, asked.by))
    shown = next((row for row in rows if row.key == asked.show), None)
    address = Address(days, asked.by, asked.show)
    values: dict[str, Any] = {
        "rows": rows,
        "totals": found.totals,
        "days": days,
        "by": asked.by,
        "address": address,
        "problem": problem,
        "usual_days": RETURN_DAYS,
        "window": loaded(context.application, ResultsSettings).window_days,
        "per_thousand": per_thousand,
        "shown": shown,
        "domains": address.link().replace("/results?", "/results/domains?"),
        "together": shop_wide(context.application, days),
        "next": openings.next_steps(context.application),
        "files": [(form, address.link().replace("/results?", f"/results.{form}?")) for form in FILES],
    }
    if shown is not None:
        values |= panel(context, shown, days)
    return context.page("results/results.html", "results", status=422 if problem else 200, **values)


def panel(context: RequestContext, shown: RowView, days: Days) -> dict[str, Any]:
    """What the picture of one row and the words beside it show."""
    found = detail(context.application, shown.row, days)
    return {
        "lift": found,
        "picture": lift_picture(found),
        "headline": headline(shown.row, found),
        "added": added_people(shown.row),
        "worth": shown.row.judged.worth,
        "per_thousand": per_thousand,
        "range_query": Address(days, "").link().partition("?")[2],
    }


@router.post("/results/openings/{key}")
def draft_of_opening(key: str, context: RequestContext = SignedIn) -> Response:
    """A campaign ready to be looked at, to the people of a suggestion."""
    try:
        made = openings.make_draft(context.application, key, context.by)
    except openings.CannotDraft as problem:
        return context.problem(str(problem))
    return context.go(f"/campaigns/{made}")


@router.get("/results.{form}")
def download(
    form: Literal["csv", "xlsx"], asked: Annotated[Asked, Depends()], context: RequestContext = SignedIn
) -> Response:
    """The table as a file, in the order in which it is shown."""
    days, problem = days_asked(context, asked)
    if problem:
        raise NotFound(problem)
    rows = in_order(overview(context.application, days).rows, asked.by)
    name = f"results-{days.first.isoformat()}-{days.last.isoformat()}.{form}"
    currency = context.application.the_shop().currency
    context.note("downloaded results", form=form)
    content = as_csv(rows, currency) if form == "csv" else as_sheet(rows, currency)
    headers = {"Content-Disposition": f'attachment; filename="{name}"'}
    return Response(content, media_type=MEDIA[form], headers=headers)


@router.get("/results/{kind}/{number}.svg")
def picture(
    kind: Literal["campaign", "sequence"],
    number: int,
    asked: Annotated[Asked, Depends()],
    context: RequestContext = SignedIn,
) -> Response:
    """What one of them added, week by week, as a picture of its own."""
    days, _ = days_asked(context, asked)
    rows = overview(context.application, days).rows
    row = next((one for one in rows if one.origin == (kind, number)), None)
    drawn = lift_picture(detail(context.application, row, days)) if row is not None else None
    if row is None or drawn is None:
        raise NotFound("There is no picture of it yet: too few people have qualified.")
    content = context.piece("results/picture.svg", picture=drawn, row=row)
    headers = {"Content-Disposition": f'attachment; filename="added-{kind}-{number}.svg"'}
    return Response(content, media_type="image/svg+xml", headers=headers)


@router.get("/results/tests")
def tests_page(context: RequestContext = SignedIn) -> Response:
    """Every test, and what was learned from it."""
    return context.page("results/tests.html", "results", tests=test_views(experiments(context.application)))


@router.get("/results/domains")
def domains_page(asked: Annotated[Asked, Depends()], context: RequestContext = SignedIn) -> Response:
    """How well email arrives at each receiving domain."""
    days, problem = days_asked(context, asked)
    rows = deliverability.by_domain(context.application, days)
    values = {"rows": rows, "days": days, "problem": problem, "fewest": deliverability.FEWEST}
    values["most"] = deliverability.MOST_REFUSED
    return context.page("results/deliverability.html", "results", status=422 if problem else 200, **values)


@router.get("/results/sequence/{sequence_id}")
def sequence_page(
    sequence_id: int,
    asked: Annotated[Asked, Depends()],
    context: RequestContext = SignedIn,
    figure: str = "",
    step: str = "",
    page: int = 1,
) -> Response:
    """One sequence: what it added, step by step, its tests, and who is behind each figure."""
    days, problem = days_asked(context, asked)
    origin = (SEQUENCE, sequence_id)
    row = next((one for one in overview(context.application, days).rows if one.origin == origin), None)
    if row is None:
        raise NotFound("No such sequence has been live in these days.")
    figure, page = figure if figure in PEOPLE_FIGURES else "", max(page, 1)
    who = behind(context.application, origin, days, figure, step, (page - 1) * PAGE, PAGE) if figure else None
    shown = views([row])[0]
    address = SequenceAddress(sequence_id, Address(days, "", ""))
    values: dict[str, Any] = {
        "row": row,
        "shown": shown,
        "days": days,
        "problem": problem,
        "address": address,
        "figures": PEOPLE_FIGURES,
        "figure": figure,
        "step": step,
        "who": who,
        "page": page,
        "pages": max(1, -(-len(who.ids) // PAGE)) if who else 1,
        "per_thousand": per_thousand,
        **parts_of(context, origin, days),
        "tests": test_views(of_origin(context.application, origin)),
        "lift_parts": part_views(by_month(context.application, row, days)),
        "window": loaded(context.application, ResultsSettings).window_days,
    }
    values |= panel(context, shown, days)
    values["on_score"] = score_view(context, sequence_id, values["lift"].steps)
    return context.page("results/sequence.html", "results", status=422 if problem else 200, **values)


@router.get("/results/{kind}/{number}/segments")
def segments_piece(
    kind: str, number: int, asked: Annotated[Asked, Depends()], context: RequestContext = SignedIn
) -> Response:
    """What a campaign or sequence added among the people of each segment; asked for when somebody wants to
    see it.
    """
    days, _ = days_asked(context, asked)
    rows = overview(context.application, days).rows
    row = next((row for row in rows if row.origin == (kind, number)), None)
    if row is None:
        raise NotFound("No such campaign or sequence has been live in these days.")
    parts = part_views(by_segment(context.application, row, days))
    return HTMLResponse(
        context.piece("results/segments_lift.html", lift_parts=parts, per_thousand=per_thousand)
    )


def parts_of(context: RequestContext, origin: Origin, days: Days) -> dict[str, Any]:
    """What a campaign or sequence brought, told apart."""
    return {
        "parts": breakdown(context.application, origin, days),
        "bought": ordered(context.application, origin, days),
        "offers": offers_of(context.application, origin, days),
    }


@router.post("/results/sequence/{sequence_id}/keep/{step}/{arm}")
def keep_arm(sequence_id: int, step: str, arm: int, context: RequestContext = SignedIn) -> Response:
    """One arm of a test in the place of it, in the sequence's draft."""
    try:
        keep_only(context.application, sequence_id, step, arm, context.by)
    except CannotKeep as problem:
        return context.problem(str(problem))
    return context.go(f"/sequences/{sequence_id}")


@router.post("/results/sequence/{sequence_id}/segment")
def keep_people(
    sequence_id: int,
    asked: Annotated[Asked, Depends()],
    context: RequestContext = SignedIn,
    form: FormData = Form,
) -> Response:
    """Keeps the people behind a figure as a fixed segment."""
    figure, step = text_of(form, "figure"), text_of(form, "step")
    sequence = context.application.find(schema.Sequence, sequence_id)
    if sequence is None or figure not in PEOPLE_FIGURES:
        raise NotFound("There is no such figure.")
    days, _ = days_asked(context, asked)
    who = behind(context.application, (SEQUENCE, sequence_id), days, figure, step, 0, 0)
    name = f"{sequence.name}: {PEOPLE_FIGURES[figure].lower()}"
    made = segment_commands.keep_fixed(context.application, name, tuple(who.ids), context.by)
    return context.go(f"/segments/{made}")
