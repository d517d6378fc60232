"""What a new shop still has to do before something works for it, in order.

Every step is read off the book, so the guide can be left and taken up again at any time.
"""

from dataclasses import dataclass
from datetime import UTC, datetime

import numpy as np
from sqlalchemy import func, select
from sqlalchemy.orm import Session

from loyalbell.core.channels import CHANNELS
from loyalbell.core.history.before import before
from loyalbell.core.history.visits import local_days, today_number
from loyalbell.services.application import Application
from loyalbell.services.rhythm import page_figures
from loyalbell.services.rhythm.page_figures import Names
from loyalbell.services.settings.channels import LinkSettings, SettingsGroup, loaded
from loyalbell.storage.schema import LogEntry, Offer, Order, Person, Segment, Sequence, SequenceVersion, Shop

RULE_OF_THUMB = 60
PROVED = ("sent a proof",)


class GuideSettings(SettingsGroup):
    """``closed``: somebody does not want to see it any more."""

    kept_as = "guide"
    closed: bool = False


@dataclass(frozen=True)
class Step:
    """``act`` is the button, ``link`` where it leads; without a link the step has a form of its own."""

    key: str
    title: str
    words: str
    is_done: bool
    act: str = ""
    link: str = ""


@dataclass(frozen=True)
class FoundPeople:
    """What the files have brought: counts of people and orders, the first and last order, how many people may
    be written to by channel, the ``typical`` gap in days, and the ``line`` from which somebody counts as lost
    (days), with how many are past it.
    """

    people: int
    orders: int
    sums: int
    first: datetime | None
    last: datetime | None
    agreed: dict[str, int]
    typical: int | None
    line: int
    past: int


def steps(application: Application) -> list[Step]:
    with application.database.reading() as session:
        shop, links = session.get_one(Shop, 1), LinkSettings.load(session)
        sequence = session.scalar(select(Sequence.id).order_by(Sequence.id).limit(1))
        edit = f"/sequences/{sequence}" if sequence else ""
        return [
            Step("shop", "Your shop", "Its name, place and currency.", True, "Change", "/settings"),
            Step(
                "senders",
                "Who your messages come from",
                "The address your emails come from, and the hours in which nothing may be sent.",
                bool(shop.sender_email),
                "Set up sending",
                "/settings/channels",
            ),
            Step(
                "links",
                "Where your buttons lead",
                "The page where customers order or book: buttons of ready-made messages lead there.",
                bool(links.booking_url),
                "Give the links",
                "/settings/channels#links",
            ),
            Step(
                "files",
                "Your customers and what they bought",
                "Take the files as your till or booking system exports them. Several at once are fine.",
                _has_history(session),
            ),
            Step(
                "segment",
                "Your first segment",
                "The customers who have stayed away longer than yours usually do.",
                _exists(session, Segment),
            ),
            Step(
                "offer",
                "Something to come back for",
                "An offer for the second message. The first has none: many come back without one.",
                _exists(session, Offer),
                "Make an offer",
                "/offers/new",
            ),
            Step(
                "sequence",
                "Your first win-back",
                "A draft with its messages, timed by how your customers come back. Nothing is sent yet.",
                sequence is not None,
            ),
            Step(
                "proof",
                "See it in your own inbox",
                "Send yourself every message as one of your customers would get it.",
                _was_proved(session),
                "Send me a proof",
                f"{edit}/proof" if edit else "",
            ),
            Step(
                "start",
                "Start it",
                "Look at the rehearsal, choose how those already past the line come in, and start.",
                _exists(session, SequenceVersion),
                "Rehearse and start",
                f"{edit}/publish" if edit else "",
            ),
        ]


def next_step(application: Application) -> Step | None:
    """The first that is not done; ``None`` once something runs, or where nobody wants to know."""
    if loaded(application, GuideSettings).closed:
        return None
    found = steps(application)
    return None if found[-1].is_done else next((step for step in found if not step.is_done), None)


def close(application: Application, closed: bool = True) -> None:
    with application.database.transaction() as session:
        GuideSettings(closed=closed).save(session)


def segment_named(application: Application, name: str) -> int | None:
    """Its number, where there is one of that name already."""
    with application.database.reading() as session:
        return session.scalar(select(Segment.id).where(func.lower(Segment.name) == name.lower()).limit(1))


def _exists(session: Session, table: type[Segment | Sequence | SequenceVersion | Offer]) -> bool:
    return session.scalar(select(table.id).limit(1)) is not None


def _has_history(session: Session) -> bool:
    if session.scalar(select(Order.id).limit(1)) is not None:
        return True
    return session.scalar(select(Person.id).where(Person.before_last_at.is_not(None)).limit(1)) is not None


def _was_proved(session: Session) -> bool:
    return session.scalar(select(func.count()).select_from(LogEntry).where(LogEntry.act.in_(PROVED))) != 0


def found_people(application: Application) -> FoundPeople | None:
    """``None`` while nobody is on file."""
    snapshot, now = application.snapshot(), application.clock.now()
    as_of = int(now.timestamp())
    here = snapshot.on_file(as_of)
    if not here.any():
        return None
    orders = snapshot.orders
    sums = before(snapshot, as_of)
    curve = page_figures.repeat(application, Names())["all"]
    line = int(curve["winback_days"] or RULE_OF_THUMB)
    last = np.full(len(snapshot.people), -1, dtype=np.int64)
    last[orders.person] = local_days(orders.at, snapshot.zone)
    if sums is not None:
        last = np.where((last < 0) & sums.holds, sums.last_day(snapshot.zone), last)
    past = here & (last >= 0) & (today_number(as_of, snapshot.zone) - last >= line)
    return FoundPeople(
        people=int(here.sum()),
        orders=len(orders),
        sums=int(sums.holds.sum()) if sums is not None else 0,
        first=_instant(orders.at[0]) if len(orders) else None,
        last=_instant(orders.at[-1]) if len(orders) else None,
        agreed={
            name: int((here & snapshot.agreed(at, as_of) & snapshot.reachable(at, as_of)).sum())
            for at, name in enumerate(CHANNELS)
        },
        typical=round(curve["typical_days"]) if curve["typical_days"] else None,
        line=line,
        past=int(past.sum()),
    )


def _instant(seconds: int) -> datetime:
    return datetime.fromtimestamp(int(seconds), UTC)
