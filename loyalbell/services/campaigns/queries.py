"""Campaigns: one message to one segment. Looking before sending, starting, stopping."""

from collections.abc import Mapping

from loyalbell.core.messages.content import read_content
from loyalbell.core.messages.preflight import Finding, blocks_sending
from loyalbell.services.application import Application
from loyalbell.services.campaigns.audience import plan_of
from loyalbell.services.delivery.rendering import newest_version
from loyalbell.services.messages.preflight import findings_of_all
from loyalbell.storage.schema import Campaign, Message


class CannotSend(Exception):
    """Why a campaign cannot start, in words."""


def message_ids(campaign: Campaign) -> list[int]:
    """Its own message first, then those of its variants."""
    return [campaign.message_id, *(one.message for one in plan_of(campaign).variants)]


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
