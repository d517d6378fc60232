"""What the page of a campaign shows before it goes out, and between its rounds."""

from datetime import UTC, datetime
from itertools import islice
from typing import Any

from loyalbell.core.campaigns.plan import CampaignPlan
from loyalbell.core.clock.local_time import local_day
from loyalbell.core.clock.pacing import Paced, paced
from loyalbell.core.clock.zones import zone_of
from loyalbell.core.messages.email_rendering import FilledEmail
from loyalbell.core.messages.merge_fields import FieldProblem
from loyalbell.services.application import Application
from loyalbell.services.campaigns import queries as campaign_queries
from loyalbell.services.campaigns.audience import Audience, audience, plan_of
from loyalbell.services.campaigns.commands import plan_mark
from loyalbell.services.customers import queries as customer_queries
from loyalbell.services.delivery import timing
from loyalbell.services.messages import preview
from loyalbell.services.messages import queries as message_queries
from loyalbell.services.results.planner import ComparisonPlan, plan_for
from loyalbell.services.segments import queries as segment_queries
from loyalbell.storage.schema import Campaign, Message, Person, Segment
from loyalbell.web.campaigns.sentence import say_act, say_button
from loyalbell.web.formatting import Formatter
from loyalbell.web.messages.drafts import Writing, drafts_of
from loyalbell.web.request import RequestContext

SHOWN_PEOPLE = 6
SHOWN_ROUNDS = 6


def _mark(application: Application, campaign_id: int) -> str:
    with application.database.reading() as session:
        return plan_mark(session, session.get_one(Campaign, campaign_id))


def sheet(context: RequestContext, campaign: Campaign, chosen: int = 0) -> dict[str, Any]:
    """All of the page's values; ``chosen`` is the message that is shown as its readers get it."""
    plan, who = plan_of(campaign), audience(context.application, campaign)
    found, now = campaign_queries.findings(context.application, campaign), context.application.clock.now()
    chosen = chosen if chosen in found else campaign.message_id
    application, some = context.application, list(who.reached)[:SHOWN_PEOPLE]
    values: dict[str, Any] = {
        "segment": application.find(Segment, campaign.segment_id),
        "message": application.find(Message, campaign.message_id),
        "letters": message_queries.names_with(application, set(campaign_queries.message_ids(campaign))),
        "segments": dict(segment_queries.current_names(application)),
        "people": customer_queries.some_people(application, some),
        "later": timing.would_wait(application, list(who.reached), plan.at or now),
    }
    zone = context.application.the_shop().zone
    first = plan.at or now
    rounds = [
        one for one in islice(plan.rounds(now, zone), 500) if one >= now.replace(second=0, microsecond=0)
    ][:SHOWN_ROUNDS]
    say = Formatter(context.application.the_shop(), now)
    return (
        values
        | _reading(context, campaign, who, chosen)
        | {
            "campaign": campaign,
            "who": who,
            "plan": plan,
            "findings": found,
            "comparison": _comparison(context, campaign, who),
            "blocked": campaign_queries.blocked(found),
            "finish": _finish(context, plan, len(who.reached)),
            "instant": lambda one: datetime.fromtimestamp(one, UTC),
            "rounds": rounds if plan.recurs else [],
            "button": say_button(who, plan, rounds, say),
            "act": say_act(values["message"].name, who, plan, rounds, say),
            "mark": _mark(application, campaign.id),
            "repeats": plan.repeat.words(local_day(first, zone)) if plan.repeat else "",
        }
    )


def _comparison(context: RequestContext, campaign: Campaign, who: Audience) -> ComparisonPlan | None:
    """What will be learned from those held back."""
    segment = context.application.find(Segment, campaign.segment_id)
    held = sum(cause == "held back" for cause in who.left_out.values())
    if segment is None:
        return None
    return plan_for(context.application, segment_queries.rule_of(segment), len(who.reached) + held, held)


def _reading(context: RequestContext, campaign: Campaign, who: Audience, chosen: int) -> dict[str, Any]:
    """The chosen message as the first of those who get it reads it."""
    content = message_queries.content_of(context.application, chosen)
    first = next((one for one in who.reached if who.message[one] == chosen), None)
    writing = content.find(who.channel[first] if first else campaign.channels[0])
    reader = context.application.find(Person, first)
    return {
        "chosen": chosen,
        "writing": writing,
        "shown": _as_read(context, writing, first),
        "reader": first or 0,
        "reader_name": reader.name if reader else "",
        "draft": drafts_of(context).put(context.visitor.csrf, writing) if writing else "",
    }


def _finish(context: RequestContext, plan: CampaignPlan, people: int) -> Paced | None:
    """When the last of them is written to, for a paced campaign."""
    if plan.pacing is None or not people:
        return None
    start = max(plan.at or context.application.clock.now(), context.application.clock.now())
    return paced(
        people, int(start.timestamp()), plan.pacing.pace(), zone_of(context.application.the_shop().zone)
    )


def _as_read(
    context: RequestContext, writing: Writing | None, reader: int | None
) -> FilledEmail | str | None:
    if writing is None:
        return None
    try:
        return preview.read_as(context.application, writing, reader)
    except FieldProblem:
        return None
