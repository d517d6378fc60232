"""Today, and the search across everything."""

from fastapi import APIRouter
from fastapi.responses import HTMLResponse, Response

from loyalbell.services.accounts.permissions import Permission
from loyalbell.services.customers import queries as customer_queries
from loyalbell.services.guide.steps import next_step
from loyalbell.services.imports import watched_folder
from loyalbell.services.results.openings import next_steps
from loyalbell.services.today import skipped, staff_notes
from loyalbell.services.today.booked import booked_today
from loyalbell.services.today.queries import AWAY_DAYS, search_names, today
from loyalbell.services.today.summary import past
from loyalbell.web.charts import day_bars
from loyalbell.web.request import RequestContext, SignedIn

router = APIRouter()
FOUND_SHOWN = 8


@router.get("/")
def today_page(context: RequestContext = SignedIn) -> Response:
    """Each role its own: figures, or what the front desk does."""
    if not context.may(Permission.FIGURES):
        notes = staff_notes.open_notes(context.application)
        booked = booked_today(context.application)
        return context.page("today/desk.html", "today", notes=notes, booked=booked)
    found, notes = today(context.application), staff_notes.open_notes(context.application)
    return context.page(
        "today/today.html",
        "today",
        today=found,
        bars=day_bars(found.days),
        away_days=AWAY_DAYS,
        notes=notes,
        next=next_steps(context.application),
        guide=next_step(context.application),
        dropped=watched_folder.lately(context.application),
    )


@router.get("/week")
def week(context: RequestContext = SignedIn) -> Response:
    """The past week in a few sentences, asked for after the page is there."""
    return HTMLResponse(context.piece("today/week.html", week=past(context.application, wait=True)))


@router.get("/worth-doing")
def worth_doing(context: RequestContext = SignedIn) -> Response:
    """The suggestions of Today, asked for again while they are worked out."""
    return HTMLResponse(context.piece("today/worth_doing.html", next=next_steps(context.application)))


@router.get("/skipped")
def skipped_page(context: RequestContext = SignedIn) -> Response:
    total, rows = skipped.skipped(context.application)
    return context.page("today/skipped.html", "today", total=total, rows=rows)


@router.post("/skipped/seen")
def skipped_seen(context: RequestContext = SignedIn) -> Response:
    skipped.seen(context.application, context.by)
    return context.go("/")


@router.get("/search")
def search(context: RequestContext = SignedIn, q: str = "") -> Response:
    q = q.strip()[:200]
    found: dict[str, list[tuple[str, str]]] = {}
    if q:
        people = customer_queries.find(context.application, q, limit=FOUND_SHOWN)
        found["Customers"] = [
            (f"/customers/{p.person.id}", p.person.name or p.person.email or "no name on file")
            for p in people
        ]
        found |= {
            title: [(link, name) for link, name in links if context.may_go(link)]
            for title, links in search_names(context.application, q, FOUND_SHOWN).items()
        }
    return context.page("today/search.html", "", q=q, found=found)
