"""What other programs may be told, and putting it down for each of them in the transaction in which it
happens.
"""

import json
import secrets
from datetime import UTC, datetime
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from loyalbell.storage.schema import ConsentEntry, Webhook, WebhookDelivery

HAPPENINGS = {
    "customer.changed": "a customer’s facts were changed on their page",
    "customer.merged": "two records of a customer became one",
    "customer.erased": "customers were erased",
    "consent.changed": "a customer agreed to, or refused, a channel",
    "message.sent": "a message left",
    "message.bounced": "a message was not accepted",
    "message.clicked": "a customer clicked a link in a message",
    "import.finished": "a file was imported",
    "sequence.step": "a customer reached a step of a sequence that tells other programs",
    "campaign.finished": "a campaign was sent to everyone",
}
TEST = "webhook.test"


LISTENS = select(Webhook.id).where(Webhook.stopped_at.is_(None)).limit(1)


def anyone_listens(session: Session) -> bool:
    return session.connection().scalar(LISTENS) is not None


def announce(session: Session, kind: str, now: datetime, /, **data: Any) -> None:
    """Puts one happening down for every webhook that asked for its kind."""
    for webhook in session.scalars(select(Webhook).where(Webhook.stopped_at.is_(None))):
        if kind in webhook.kinds or kind == TEST:
            put_down(session, webhook.id, kind, now, data)


def put_down(session: Session, webhook_id: int, kind: str, now: datetime, data: dict[str, Any]) -> None:
    """One delivery, due now. The body is kept as it will be sent, for every attempt the same."""
    body = {"type": kind, "timestamp": now.astimezone(UTC).isoformat(), "data": data}
    session.add(
        WebhookDelivery(
            webhook_id=webhook_id,
            message_id=f"msg_{secrets.token_hex(12)}",
            kind=kind,
            body=json.dumps(body, ensure_ascii=False),
            made_at=now,
            due_at=now,
            attempts=0,
            state="waiting",
        )
    )


def announce_consent(session: Session, entry: ConsentEntry, now: datetime) -> None:
    facts = {
        "person": entry.person_id,
        "channel": entry.channel,
        "state": entry.state,
        "source": entry.source,
    }
    announce(session, "consent.changed", now, **facts)
