"""Today, and the search across everything."""

from fastapi import APIRouter
from fastapi.responses import Response
from sqlalchemy import select

from loyalbell.desk import customers, staff_notes
from loyalbell.desk.today import AWAY_DAYS, today
from loyalbell.store.tables import Campaign, Message, Segment, Sequence
from loyalbell.web.pictures import day_bars
from loyalbell.web.visit import SignedIn, Visit

router = APIRouter()
FOUND_SHOWN = 8
NAMED = (
    ("Segments", Segment.id, Segment.name, "/segments"),
    ("Messages", Message.id, Message.name, "/messages"),
    ("Campaigns", Campaign.id, Campaign.name, "/campaigns"),
    ("Sequences", Sequence.id, Sequence.name, "/sequences"),
)


@router.get("/")
def today_page(visit: Visit = SignedIn) -> Response:
    found, notes = today(visit.desk), staff_notes.open_notes(visit.desk)
    return visit.page(
        "today/today.html", "today", today=found, bars=day_bars(found.days), away_days=AWAY_DAYS, notes=notes
    )


@router.get("/search")
def search(visit: Visit = SignedIn, q: str = "") -> Response:
    q = q.strip()[:200]
    found: dict[str, list[tuple[str, str]]] = {}
    if q:
        people = customers.find(visit.desk, q, limit=FOUND_SHOWN)
        found["Customers"] = [
            (f"/customers/{p.person.id}", p.person.name or p.person.email or "no name on file")
            for p in people
        ]
        with visit.desk.book.reading() as session:
            for title, ids, name, base in NAMED:
                query = select(ids, name).where(name.icontains(q, autoescape=True)).limit(FOUND_SHOWN)
                found[title] = [(f"{base}/{at}", called) for at, called in session.execute(query)]
    return visit.page("today/search.html", "", q=q, found=found)
