"""What other programs may do here, and what they are told: tokens, repeated requests, outgoing webhooks."""

from datetime import datetime
from typing import Any

from sqlalchemy import ForeignKey, Index, UniqueConstraint
from sqlalchemy.orm import Mapped, mapped_column

from loyalbell.storage.schema.base import Base


class ApiToken(Base):
    """A key for another program. Only its hash is kept; ``shown`` is its first characters."""

    __tablename__ = "api_token"

    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str]
    shown: Mapped[str]
    token_hash: Mapped[str] = mapped_column(unique=True)
    scopes: Mapped[list[Any]]
    made_at: Mapped[datetime]
    by: Mapped[str]
    used_at: Mapped[datetime | None]
    revoked_at: Mapped[datetime | None]


class KeptAnswer(Base):
    """The answer to a request with an idempotency key, given again when the request comes again."""

    __tablename__ = "kept_answer"
    __table_args__ = (UniqueConstraint("token_id", "key"),)

    id: Mapped[int] = mapped_column(primary_key=True)
    token_id: Mapped[int] = mapped_column(ForeignKey("api_token.id", ondelete="CASCADE"))
    key: Mapped[str]
    request_hash: Mapped[str]
    status: Mapped[int]
    body: Mapped[dict[str, Any]]
    at: Mapped[datetime]


class Webhook(Base):
    """Where other programs want to hear from us. ``kinds`` are the happenings they asked for."""

    __tablename__ = "webhook"

    id: Mapped[int] = mapped_column(primary_key=True)
    url: Mapped[str]
    secret: Mapped[str]
    kinds: Mapped[list[Any]]
    made_at: Mapped[datetime]
    by: Mapped[str]
    stopped_at: Mapped[datetime | None]


class WebhookDelivery(Base):
    """One happening for one webhook, and how its delivery went."""

    __tablename__ = "webhook_delivery"
    __table_args__ = (Index("ix_webhook_delivery_state_due", "state", "due_at"),)

    id: Mapped[int] = mapped_column(primary_key=True)
    webhook_id: Mapped[int] = mapped_column(ForeignKey("webhook.id", ondelete="CASCADE"), index=True)
    message_id: Mapped[str]
    kind: Mapped[str]
    body: Mapped[str]
    made_at: Mapped[datetime]
    due_at: Mapped[datetime]
    attempts: Mapped[int] = mapped_column(default=0)
    state: Mapped[str]
    status: Mapped[int | None]
    problem: Mapped[str | None]
    delivered_at: Mapped[datetime | None]
