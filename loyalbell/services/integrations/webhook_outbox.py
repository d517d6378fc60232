"""Outgoing webhooks: who is told, the deliveries due, trying again, and the log of it."""

from collections.abc import Callable, Sequence
from datetime import UTC, datetime, timedelta
from typing import ClassVar
from urllib.parse import urlsplit

from sqlalchemy import select

from loyalbell.channels.outward import NotOutside, check_outside
from loyalbell.channels.webhook import Answer, deliver, new_secret
from loyalbell.services.application import Application
from loyalbell.services.settings.channels import SettingsGroup
from loyalbell.storage.schema import Webhook, WebhookDelivery
from loyalbell.storage.secret_box import KeyLost
from loyalbell.storage.webhook_events import HAPPENINGS, TEST, put_down

# The schedule that Standard Webhooks 1.0 recommends, after the first attempt.
WAITS = tuple(
    timedelta(seconds=seconds) for seconds in (5, 300, 1_800, 7_200, 18_000, 36_000, 50_400, 72_000, 86_400)
)
GONE = 410
BATCH = 20
Deliver = Callable[[str, str, str, int, str], Answer]


class CannotKeepWebhook(Exception):
    """What is wrong with a webhook, in words."""


class WebhookSettings(SettingsGroup):
    """``inside`` are the hosts of our own network that webhooks may go to."""

    kept_as: ClassVar[str] = "webhooks"
    inside: list[str] = []


def add_webhook(
    application: Application, url: str, kinds: Sequence[str], by: str, inside: bool = False
) -> tuple[int, str]:
    """Returns its id and its secret, which is made here and shown only now. ``inside`` says that the address
    is in our own network and may be called. Raises ``CannotKeepWebhook``.
    """
    url = url.strip()
    try:
        parts = urlsplit(url)
        fits = (
            parts.scheme in ("http", "https")
            and bool(parts.hostname)
            and (parts.port is None or parts.port > 0)
        )
    except ValueError:
        fits = False
    if not fits or len(url) > 2_000 or " " in url:
        raise CannotKeepWebhook("Give the whole address of the other program, beginning with https://.")
    host = str(parts.hostname)
    if not inside:
        _refuse_inside(host, parts.port or 443)
    chosen = [kind for kind in HAPPENINGS if kind in kinds]
    if not chosen:
        raise CannotKeepWebhook("Choose at least one thing to be told about.")
    with application.database.transaction() as session:
        secret = new_secret()
        webhook = Webhook(
            url=url,
            secret=application.secrets.seal(secret),
            kinds=chosen,
            made_at=application.clock.now(),
            by=by,
        )
        session.add(webhook)
        session.flush()
        if inside:
            settings = WebhookSettings.load(session)
            WebhookSettings(inside=sorted({*settings.inside, host})).save(session)
        application.note(session, by, "added a webhook", url=url, inside=inside)
        return webhook.id, secret


def renew_secret(application: Application, webhook_id: int, by: str) -> str:
    """Another secret, for one that was lost or seen; the old one signs nothing any more."""
    secret = new_secret()
    with application.database.transaction() as session:
        webhook = session.get_one(Webhook, webhook_id)
        webhook.secret = application.secrets.seal(secret)
        application.note(session, by, "made a new secret of a webhook", url=webhook.url)
    return secret


def _refuse_inside(host: str, port: int) -> None:
    """A name that cannot be looked up now is judged at each call."""
    try:
        check_outside(host, port)
    except NotOutside:
        raise CannotKeepWebhook(
            "This address is inside your own network. If it should be called all the same, tick"
            " “it is in our own network”."
        ) from None
    except (OSError, ValueError):
        return


def stop_webhook(application: Application, webhook_id: int, by: str) -> None:
    with application.database.transaction() as session:
        webhook = session.get_one(Webhook, webhook_id)
        webhook.stopped_at = application.clock.now()
        application.note(session, by, "stopped a webhook", url=webhook.url)


def send_test(application: Application, webhook_id: int) -> None:
    with application.database.transaction() as session:
        webhook = session.get_one(Webhook, webhook_id)
        put_down(session, webhook.id, TEST, application.clock.now(), {"hello": "from Loyal Bell"})


def send_again(application: Application, delivery_id: int) -> None:
    """Makes a delivery due once more, with the same id, so that the other side knows it for the same."""
    with application.database.transaction() as session:
        delivery = session.get_one(WebhookDelivery, delivery_id)
        delivery.state, delivery.due_at = "waiting", application.clock.now()


def deliver_due(application: Application, send: Deliver | None = None) -> int:
    """Tries what is due, outside of any transaction; returns how many were tried."""
    now = application.clock.now()
    with application.database.reading() as session:
        due = session.execute(
            select(WebhookDelivery, Webhook)
            .join(Webhook, Webhook.id == WebhookDelivery.webhook_id)
            .where(
                WebhookDelivery.state == "waiting",
                WebhookDelivery.due_at <= now,
                Webhook.stopped_at.is_(None),
            )
            .order_by(WebhookDelivery.id)
            .limit(BATCH)
        ).all()
        allowed = WebhookSettings.load(session).inside
    for delivery, webhook in due:
        stamp = int(datetime.now(UTC).timestamp())  # receivers compare it with their own clock
        inside = urlsplit(webhook.url).hostname in allowed
        try:
            secret = application.secrets.open(webhook.secret)
        except KeyLost:
            continue  # it waits; Today says what is lost
        said = (webhook.url, secret, delivery.message_id, stamp, delivery.body)
        answer = send(*said) if send else deliver(*said, inside)
        _record(application, delivery.id, answer, now)
    return len(due)


def _record(application: Application, delivery_id: int, answer: Answer, now: datetime) -> None:
    with application.database.transaction() as session:
        delivery = session.get(WebhookDelivery, delivery_id)
        if delivery is None:
            return
        delivery.attempts += 1
        delivery.status, delivery.problem = answer.status, answer.problem
        if answer.taken:
            delivery.state, delivery.delivered_at = "delivered", now
        elif answer.status == GONE:
            delivery.state = "failed"
            session.get_one(Webhook, delivery.webhook_id).stopped_at = now
        elif delivery.attempts <= len(WAITS):
            delivery.due_at = now + WAITS[delivery.attempts - 1]
        else:
            delivery.state = "failed"


def deliveries(application: Application, webhook_id: int, most: int = 100) -> list[WebhookDelivery]:
    """The newest first."""
    with application.database.reading() as session:
        query = select(WebhookDelivery).where(WebhookDelivery.webhook_id == webhook_id)
        return list(session.scalars(query.order_by(WebhookDelivery.id.desc()).limit(most)))


def all_webhooks(application: Application) -> list[Webhook]:
    with application.database.reading() as session:
        return list(session.scalars(select(Webhook).order_by(Webhook.stopped_at.is_not(None), Webhook.id)))
