"""Today, and the search across everything."""

from fastapi import APIRouter
from fastapi.responses import Response
from sqlalchemy import select

from loyalbell.services.customers import queries as customer_queries
from loyalbell.services.today import staff_notes
from loyalbell.services.today.queries import AWAY_DAYS, today
from loyalbell.storage.schema import Campaign, Message, Segment, Sequence
from loyalbell.web.charts import day_bars
from loyalbell.web.request import RequestContext, SignedIn

router = APIRouter()
FOUND_SHOWN = 8
NAMED = (
    ("Segments", Segment.id, Segment.name, "/segments"),
    ("Messages", Message.id, Message.name, "/messages"),
    ("Campaigns", Campaign.id, Campaign.name, "/campaigns"),
    ("Sequences", Sequence.id, Sequence.name, "/sequences"),
)


@router.get("/")
def today_page(context: RequestContext = SignedIn) -> Response:
    found, notes = today(context.application), staff_notes.open_notes(context.application)
    return context.page(
        "today/today.html", "today", today=found, bars=day_bars(found.days), away_days=AWAY_DAYS, notes=notes
    )


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
        with context.application.database.reading() as session:
            for title, ids, name, base in NAMED:
                query = select(ids, name).where(name.icontains(q, autoescape=True)).limit(FOUND_SHOWN)
                found[title] = [(f"{base}/{at}", called) for at, called in session.execute(query)]
    return context.page("today/search.html", "", q=q, found=found)
