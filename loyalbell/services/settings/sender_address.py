"""Whether the sender's address is really ours: a link goes to it, and pressing the link confirms it."""

import secrets
from datetime import datetime

from sqlalchemy.orm import Session

from loyalbell.channels.sender import Outgoing, Sender
from loyalbell.services.application import Application
from loyalbell.services.own_mail import own_mail
from loyalbell.services.settings.channels import SenderCheck
from loyalbell.storage.schema import Shop


class NotAsked(Exception):
    """Why no link could be sent to the sender's address, in words."""


def is_confirmed(session: Session, shop: Shop) -> bool:
    """A changed address is a new one: it must be confirmed again."""
    return SenderCheck.load(session).confirmed.lower() == shop.sender_email.lower()


def ask(application: Application, sender: Sender, by: str) -> str:
    """Sends the link at once and returns the address. Raises ``NotAsked``."""
    shop, now = application.the_shop(), application.clock.now()
    if not shop.sender_email or not shop.smtp_host:
        raise NotAsked("Give the sender’s address and the mail server in Settings first.")
    check = SenderCheck(asked=shop.sender_email, token=secrets.token_hex(16))
    with application.database.transaction() as session:
        check.confirmed = SenderCheck.load(session).confirmed
        check.save(session)
        application.note(session, by, "asked to confirm the sender’s address", address=shop.sender_email)
    outcome = sender.send([_mail(shop, check.token, now)])[0]
    sender.finish()
    if outcome.result != "accepted":
        raise NotAsked(f"The mail server did not take it: {outcome.words}. Try the connection first.")
    return shop.sender_email


def waiting(application: Application, token: str) -> str | None:
    """The address that a link stands for, or ``None`` where the link is not the newest one."""
    with application.database.reading() as session:
        check = SenderCheck.load(session)
    return (
        check.asked
        if check.token and secrets.compare_digest(check.token.encode(), token.encode("utf-8", "replace"))
        else None
    )


def confirm(application: Application, token: str) -> str | None:
    """Takes the address as ours; pressing twice does no more. Returns the address."""
    address = waiting(application, token)
    if address is None:
        return None
    with application.database.transaction() as session:
        check = SenderCheck.load(session)
        if check.confirmed != address:
            check.confirmed = address
            check.save(session)
            application.note(session, address, "confirmed the sender’s address", address=address)
    return address


def _mail(shop: Shop, token: str, now: datetime) -> Outgoing:
    words = (
        f"{shop.name} is about to write to its customers from {shop.sender_email}.\n\n"
        f"If that is right, open this page and click the button:\n{shop.public_url}/sender/{token}\n\n"
        "If you know nothing of it, do nothing: nobody is written to from this address.\n"
    )
    return own_mail(shop, shop.sender_email, f"Is this address {shop.name}’s?", words, token, now)


def confirmed(application: Application) -> bool:
    """Whether the sender's address of now is known to be the shop's own."""
    with application.database.reading() as session:
        return is_confirmed(session, application.the_shop())
