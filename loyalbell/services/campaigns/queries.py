"""Campaigns: one message to one segment. Looking before sending, starting, stopping."""

from collections.abc import Mapping

from sqlalchemy import select

from loyalbell.core.messages.content import read_content
from loyalbell.core.messages.preflight import Finding, blocks_sending
from loyalbell.services.application import Application
from loyalbell.services.campaigns.audience import plan_of
from loyalbell.services.delivery.composing.rendering import newest_version
from loyalbell.services.messages.preflight import findings_of_all
from loyalbell.storage.schema import Campaign, Message, Segment


class CannotSend(Exception):
    """Why a campaign cannot start, in words."""


def message_ids(campaign: Campaign) -> list[int]:
    """Its own message first, then those of its variants."""
    return [campaign.message_id, *(variant.message for variant in plan_of(campaign).variants)]


def findings(application: Application, campaign: Campaign) -> dict[int, list[Finding]]:
    """Pre-flight of the newest version of each of its messages, by message id, on its channels."""
    found = {}
    for message_id in message_ids(campaign):
        with application.database.reading() as session:
            message = session.get_one(Message, message_id)
            content = read_content(newest_version(session, message_id).content)
        found[message_id] = findings_of_all(
            application, content, campaign.channels, message.purpose == "marketing"
        )
    return found


def blocked(found: Mapping[int, list[Finding]]) -> bool:
    """Whether one of its messages has something that must be fixed."""
    return any(blocks_sending(one) for one in found.values())


def started(application: Application) -> list[Campaign]:
    """The campaigns that have begun to go out, the newest first."""
    query = select(Campaign).where(Campaign.started_at.is_not(None)).order_by(Campaign.started_at.desc())
    with application.database.reading() as session:
        return list(session.scalars(query))


def with_names(application: Application) -> list[tuple[Campaign, str, str]]:
    """Every campaign with the names of its segment and its message, the newest first."""
    query = (
        select(Campaign, Segment.name, Message.name)
        .join(Segment, Segment.id == Campaign.segment_id)
        .join(Message, Message.id == Campaign.message_id)
        .order_by(Campaign.id.desc())
    )
    with application.database.reading() as session:
        return [(campaign, segment, message) for campaign, segment, message in session.execute(query)]
