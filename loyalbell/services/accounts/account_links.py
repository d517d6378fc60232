"""Links by which somebody chooses a password: when invited, or when it was forgotten. Each works once and
runs out; a newer one ends the older ones.
"""

import secrets
from dataclasses import dataclass
from datetime import timedelta

from sqlalchemy import select, update

from loyalbell.channels.sender import Sender
from loyalbell.services.accounts import passwords, sessions
from loyalbell.services.accounts.sessions import digest, real_now
from loyalbell.services.application import Application, UnitOfWork
from loyalbell.services.own_mail import own_mail
from loyalbell.storage.schema import AccountLink, Shop, User

INVITE, RESET = "invite", "reset"
STAYS = {INVITE: timedelta(days=7), RESET: timedelta(hours=1)}
SOONEST_AGAIN = timedelta(minutes=2)
"""Between two mails to one mailbox that forgot its password."""

SUBJECT = {INVITE: "Work with {shop} in Loyal Bell", RESET: "A new password for Loyal Bell"}
WORDS = {
    INVITE: (
        "Hello {name},\n\n{by} invites you to work with {shop} in Loyal Bell.\n\nChoose your password within"
        " seven days here:\n{link}\n\nIf you do not know what this is about, do nothing.\n"
    ),
    RESET: (
        "Hello {name},\n\nsomebody asked for a new password for your sign-in at {shop}. If it was you, choose"
        " one within an hour here:\n{link}\n\nIf it was not you, do nothing: your password stays as it is.\n"
    ),
}


class LinkOver(Exception):
    """The link is unknown, used, or has run out."""


@dataclass(frozen=True)
class Invited:
    """``link`` is set where no mail could be sent, with why in ``words``: somebody must hand it over."""

    email: str
    link: str = ""
    words: str = ""


def make(session: UnitOfWork, user: User, purpose: str) -> str:
    """A new link's token; older ones of this user end."""
    token, now = secrets.token_urlsafe(32), real_now()
    session.execute(
        update(AccountLink)
        .where(AccountLink.user_id == user.id, AccountLink.used_at.is_(None))
        .values(used_at=now)
    )
    session.add(
        AccountLink(
            user_id=user.id,
            purpose=purpose,
            token_hash=digest(token),
            made_at=now,
            expires_at=now + STAYS[purpose],
        )
    )
    return token


def mail_link(
    application: Application, sender: Sender, user: User, purpose: str, token: str, by: str
) -> Invited:
    """Hands the mail over at once; where that fails, the link is for handing over by a person."""
    shop = application.the_shop()
    link = f"{shop.public_url.rstrip('/')}/join/{token}"
    if not (shop.sender_email and shop.smtp_host):
        return Invited(user.email, link, "No mail server is set up yet.")
    said = {"name": user.name, "by": by, "shop": shop.name, "link": link}
    now = application.clock.now()
    key = f"{purpose}-{digest(token)[:20]}"
    subject, words = (text[purpose].format(**said) for text in (SUBJECT, WORDS))
    outcome = sender.send([own_mail(shop, user.email, subject, words, key, now)])[0]
    sender.finish("email")
    if outcome.result == "accepted":
        return Invited(user.email)
    return Invited(user.email, link, f"The mail server did not take the invitation: {outcome.words}.")


def forgot(application: Application, sender: Sender, email: str) -> None:
    """Mails a link where there is such a user; says nothing either way."""
    with application.database.transaction() as session:
        user = session.scalar(
            select(User).where(User.email == email.strip().lower(), User.ended_at.is_(None))
        )
        if user is None or session.get(Shop, 1) is None:
            return
        lately = select(AccountLink.id).where(
            AccountLink.user_id == user.id, AccountLink.made_at > real_now() - SOONEST_AGAIN
        )
        if session.scalar(lately.limit(1)) is not None:
            return
        token = make(session, user, RESET)
        application.note(session, user.name, "asked for a new password")
    mail_link(application, sender, user, RESET, token, user.name)


def whose(application: Application, token: str) -> User:
    """Raises ``LinkOver``."""
    query = (
        select(User)
        .join(AccountLink, AccountLink.user_id == User.id)
        .where(
            AccountLink.token_hash == digest(token),
            AccountLink.used_at.is_(None),
            AccountLink.expires_at > real_now(),
            User.ended_at.is_(None),
        )
    )
    with application.database.reading() as session:
        user = session.scalar(query)
    if user is None:
        raise LinkOver
    return user


def choose_password(application: Application, token: str, password: str) -> User:
    """Ends every session and link of the user. Raises ``LinkOver``, ``WeakPassword``."""
    user = whose(application, token)
    passwords.check_strength(password, (user.name, user.email, application.the_shop().name))
    with application.database.transaction() as session:
        link = session.scalar(
            select(AccountLink).where(AccountLink.token_hash == digest(token), AccountLink.used_at.is_(None))
        )
        if link is None:
            raise LinkOver
        link.used_at = real_now()
        kept = session.get_one(User, user.id)
        kept.password_hash = passwords.hash_password(password)
        sessions.end_sessions(session, user.id)
        application.note(session, kept.name, "chose a password", by_link=link.purpose)
    return user
