"""What the page of a campaign shows before it goes out, and between its rounds."""

from datetime import UTC, datetime
from itertools import islice
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from loyalbell.core.campaigns import CampaignPlan
from loyalbell.core.messages.fields import FieldProblem
from loyalbell.core.messages.letter import FilledEmail
from loyalbell.core.pacing import Paced, paced
from loyalbell.core.timing import local_day
from loyalbell.core.zones import zone_of
from loyalbell.desk import campaign_care, campaigns, messages, reading_as
from loyalbell.desk.campaign_audience import Audience, audience, plan_of
from loyalbell.store.tables import Campaign, Message, Person, Segment
from loyalbell.web.drafts import Writing, drafts_of
from loyalbell.web.visit import Visit

SHOWN_PEOPLE = 6
SHOWN_ROUNDS = 6


def sheet(visit: Visit, campaign: Campaign, chosen: int = 0) -> dict[str, Any]:
    """All of the page's values; ``chosen`` is the message that is shown as its readers get it."""
    plan, who = plan_of(campaign), audience(visit.desk, campaign)
    found, now = campaigns.findings(visit.desk, campaign), visit.desk.clock.now()
    chosen = chosen if chosen in found else campaign.message_id
    with visit.desk.book.reading() as session:
        some = list(who.reached)[:SHOWN_PEOPLE]
        values: dict[str, Any] = {
            "segment": session.get_one(Segment, campaign.segment_id),
            "message": session.get_one(Message, campaign.message_id),
            "letters": _letters(session, campaign, plan),
            "segments": _segments(session),
            "people": list(session.scalars(select(Person).where(Person.id.in_(some)))),
            "later": campaign_care.in_quiet_hours(
                session, visit.desk.the_shop(), list(who.reached), plan.at or now
            ),
        }
    zone = visit.desk.the_shop().zone
    first = plan.at or now
    return values | _reading(visit, campaign, who, chosen) | {
        "campaign": campaign, "who": who, "plan": plan, "findings": found, "blocked": campaigns.blocked(found),
        "finish": _finish(visit, plan, len(who.reached)), "instant": lambda one: datetime.fromtimestamp(one, UTC),
        "rounds": [one for one in islice(plan.rounds(now, zone), 500) if one >= now.replace(second=0, microsecond=0)][:SHOWN_ROUNDS] if plan.recurs else [],
        "repeats": plan.repeat.words(local_day(first, zone)) if plan.repeat else "",
    }  # fmt: skip


def _letters(session: Session, campaign: Campaign, plan: CampaignPlan) -> dict[int, str]:
    """Names of messages by id: those of the campaign, and those that can still be chosen."""
    own = {campaign.message_id, *(one.message for one in plan.variants)}
    query = (
        select(Message.id, Message.name).where(~Message.hidden | Message.id.in_(own)).order_by(Message.name)
    )
    return dict(session.execute(query).all())


def _segments(session: Session) -> dict[int, str]:
    query = select(Segment.id, Segment.name).where(Segment.archived_at.is_(None)).order_by(Segment.name)
    return dict(session.execute(query).all())


def _reading(visit: Visit, campaign: Campaign, who: Audience, chosen: int) -> dict[str, Any]:
    """The chosen message as the first of those who get it reads it."""
    content = messages.content_of(visit.desk, chosen)
    first = next((one for one in who.reached if who.message[one] == chosen), None)
    writing = content.find(who.channel[first] if first else campaign.channels[0])
    with visit.desk.book.reading() as session:
        reader = session.get(Person, first) if first else None
    return {
        "chosen": chosen, "writing": writing, "shown": _as_read(visit, writing, first), "reader": first or 0,
        "reader_name": reader.name if reader else "",
        "draft": drafts_of(visit).put(visit.visitor.csrf, writing) if writing else "",
    }  # fmt: skip


def _finish(visit: Visit, plan: CampaignPlan, people: int) -> Paced | None:
    """When the last of them is written to, for a paced campaign."""
    if plan.pacing is None or not people:
        return None
    start = max(plan.at or visit.desk.clock.now(), visit.desk.clock.now())
    return paced(people, int(start.timestamp()), plan.pacing.pace(), zone_of(visit.desk.the_shop().zone))


def _as_read(visit: Visit, writing: Writing | None, reader: int | None) -> FilledEmail | str | None:
    if writing is None:
        return None
    try:
        return reading_as.read_as(visit.desk, writing, reader)
    except FieldProblem:
        return None
