"""Who leans on a channel: what a person must stop before its settings may be emptied."""

from sqlalchemy import select
from sqlalchemy.orm import Session

from loyalbell.core.sequences.plan import MessageStep, every_step, plan_or_none
from loyalbell.services.references import Use
from loyalbell.storage.schema import Campaign, Sequence, SequenceVersion

BUSY = ("sending", "scheduled", "held")


def uses_of_channel(session: Session, channel: str) -> list[Use]:
    """Campaigns that are under way or scheduled, and sequences that are live, which send on the channel."""
    campaigns = session.scalars(select(Campaign).where(Campaign.state.in_(BUSY)).order_by(Campaign.name))
    found = [
        Use("campaign", campaign.id, campaign.name) for campaign in campaigns if channel in campaign.channels
    ]
    live = session.execute(
        select(Sequence, SequenceVersion.plan)
        .join(SequenceVersion, SequenceVersion.id == Sequence.live_version_id)
        .where(Sequence.state == "live")
        .order_by(Sequence.name)
    )
    for sequence, data in live:
        plan = plan_or_none(data)
        steps = every_step(plan.steps) if plan is not None else ()
        if any(isinstance(step, MessageStep) and channel in step.channels for step in steps):
            found.append(Use("sequence", sequence.id, sequence.name))
    return found
