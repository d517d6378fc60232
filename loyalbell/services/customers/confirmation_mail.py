"""The mail that asks whether an address is really its owner's wish: to each wish once."""

from datetime import datetime, timedelta

from sqlalchemy import Select, select
from sqlalchemy.orm import Session

from loyalbell.channels.sender import Outgoing, Sender
from loyalbell.services.application import Application
from loyalbell.services.customers.signing_up import CONFIRM_DAYS
from loyalbell.services.delivery.circuits import resting
from loyalbell.services.own_mail import own_mail
from loyalbell.services.settings.channels import CareSettings
from loyalbell.services.translations import ENGLISH
from loyalbell.services.translations import catalogue as known_texts
from loyalbell.storage.consent import suppressed_addresses
from loyalbell.storage.schema import Shop, SignUp

CONFIRM_SUBJECT = "Confirm your address for %(shop)s"
CONFIRM_WORDS = (
    "Somebody, we hope you, asked that %(shop)s may write to this address.\n\nYes, it was me: %(link)s\n\n"
    "If it was not you, do nothing: nobody will write again."
)
AGAIN_AFTER = timedelta(minutes=30)
AT_ONCE = 50


def send_due(application: Application, sender: Sender) -> int:
    """Hands over what is due. Returns how many were accepted. What is in doubt is not sent again."""
    now = application.clock.now()
    with application.database.reading() as session:
        if not _may(session, now) or session.scalar(_due(now).limit(1)) is None:
            return 0
    with application.database.transaction() as session:
        shop, batch = session.get_one(Shop, 1), []
        for row in session.scalars(_due(now).limit(AT_ONCE)):
            row.ask_at = None  # handed over: if this breaks, nobody is asked twice
            gone = suppressed_addresses(session, [row.email], "email")
            if row.at > now - timedelta(days=CONFIRM_DAYS) and not gone:
                batch.append(_mail(shop, row, now))
    outcomes = {outcome.delivery_id: outcome.result for outcome in sender.send(batch)} if batch else {}
    sender.finish("email")
    later = [-number for number, result in outcomes.items() if result == "try later"]
    if later:
        with application.database.transaction() as session:
            for row in session.scalars(select(SignUp).where(SignUp.id.in_(later))):
                row.ask_at = now + AGAIN_AFTER
    return sum(result == "accepted" for result in outcomes.values())


def _due(now: datetime) -> Select[SignUp]:
    return select(SignUp).where(SignUp.ask_at <= now, SignUp.confirmed_at.is_(None)).order_by(SignUp.id)


def _may(session: Session, now: datetime) -> bool:
    shop = session.get(Shop, 1)
    if shop is None or not shop.ringing or not shop.sender_email:
        return False
    return "email" not in CareSettings.load(session).silent and "email" not in resting(session, now)


def _mail(shop: Shop, row: SignUp, now: datetime) -> Outgoing:
    """Holds nothing that was typed but the address itself."""
    texts = known_texts(str(row.answers.get("language", ENGLISH)))
    values = {"shop": shop.name, "link": f"{shop.public_url}/confirm/{row.token}"}
    subject, words = (texts.get(text, text) % values for text in (CONFIRM_SUBJECT, CONFIRM_WORDS))
    key = f"confirm-{row.id}-{int(now.timestamp())}"
    return own_mail(shop, row.email, subject, words, key, now, -row.id)
