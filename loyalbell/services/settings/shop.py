"""The shop's first day, and its settings."""

from dataclasses import dataclass
from urllib.parse import urlsplit
from zoneinfo import available_timezones

from babel.numbers import list_currencies
from email_validator import EmailNotValidError, validate_email
from sqlalchemy import select
from sqlalchemy.orm import Session

from loyalbell.core.changes import changes
from loyalbell.core.messages.merge_fields import FieldProblem, template
from loyalbell.services.accounts.passwords import WeakPassword, check_strength, hash_password
from loyalbell.services.application import Application
from loyalbell.services.references import say_uses
from loyalbell.services.settings.channel_needs import uses_of_channel
from loyalbell.services.settings.places import countries
from loyalbell.storage.schema import Letterhead, Shop, User


class NotSetUp(Exception):
    """What is wrong with what was entered, in words."""


@dataclass(frozen=True)
class ShopForm:
    name: str
    zone: str
    currency: str
    country: str
    postal_address: str
    public_url: str
    sender_name: str
    sender_email: str
    smtp_host: str
    smtp_port: int


def check(form: ShopForm) -> None:
    """Raises ``NotSetUp`` with the first thing that is wrong."""
    if not form.name.strip():
        raise NotSetUp("Give the shop’s name.")
    if any(sign in text for text in (form.name, form.postal_address) for sign in ("{{", "{%")):
        raise NotSetUp(
            "The shop’s name and address cannot hold {{ or {%: messages would take it for a field."
        )
    if form.zone not in available_timezones():
        raise NotSetUp(f"“{form.zone}” is not a time zone. Choose one such as America/New_York.")
    if form.currency not in list_currencies():
        raise NotSetUp(f"“{form.currency}” is not a currency code. Choose one such as USD.")
    if form.country not in countries():
        raise NotSetUp(f"“{form.country}” is not a country’s two-letter code, such as US or GB.")
    if form.sender_email:
        _email(form.sender_email)
    if not _is_address(form.public_url):
        raise NotSetUp("The address of this application must begin with https:// (or http:// for a trial).")
    if not 1 <= form.smtp_port <= 65535:
        raise NotSetUp("The mail server’s port must lie between 1 and 65535.")


def _is_address(url: str) -> bool:
    """Of a program: a scheme, a host, perhaps a port and a path."""
    try:
        parts = urlsplit(url)
        return (
            parts.scheme in ("http", "https")
            and bool(parts.hostname)
            and parts.port != 0
            and not (parts.query or parts.fragment or parts.username or set(url) & set(" \\<>\"'"))
        )
    except ValueError:
        return False


def _email(text: str) -> str:
    try:
        return validate_email(text, check_deliverability=False).normalized
    except EmailNotValidError as error:
        raise NotSetUp(f"“{text}” is not an email address: {error}") from error


def open_shop(application: Application, form: ShopForm, owner: str, email: str, password: str) -> int:
    """Makes the shop, its owner and a first letterhead. Returns the owner's id. Raises ``NotSetUp``."""
    check(form)
    address = _email(email).lower()
    if not owner.strip():
        raise NotSetUp("Give your name.")
    try:
        check_strength(password, (owner, address, form.name))
    except WeakPassword as problem:
        raise NotSetUp(str(problem)) from problem
    with application.database.transaction() as session:
        if session.get(Shop, 1) is not None:
            raise NotSetUp("The shop has been set up already. Sign in instead.")
        session.add(Shop(id=1, ringing=True, **vars(form)))
        user = User(name=owner.strip(), email=address, password_hash=hash_password(password), role="owner")
        session.add(user)
        session.add(
            Letterhead(
                name="Plain", header=form.name, footer=form.postal_address, ink="#1f2a2b", accent="#173b39"
            )
        )
        session.flush()
        return user.id


def change_shop(application: Application, form: ShopForm, by: str) -> None:
    """Raises ``NotSetUp``."""
    check(form)
    with application.database.transaction() as session:
        shop = session.get_one(Shop, 1)
        _still_sends(session, shop, form)
        before = {name: getattr(shop, name) for name in vars(form)}
        for name, value in vars(form).items():
            setattr(shop, name, value)
        application.note(session, by, "changed the settings", group="shop", **changes(before, vars(form)))


def _still_sends(session: Session, shop: Shop, form: ShopForm) -> None:
    """What messages on their way need cannot be emptied beneath them. Raises ``NotSetUp``."""
    emptied = [
        words
        for words, was, now in (
            ("The sender’s address", shop.sender_email, form.sender_email),
            ("The mail server", shop.smtp_host, form.smtp_host),
        )
        if was and not now
    ]
    uses = uses_of_channel(session, "email") if emptied else []
    if uses:
        raise NotSetUp(
            f"{emptied[0]} cannot be left empty: {say_uses(uses)} "
            f"{'sends' if len(uses) == 1 else 'send'} email. Pause or stop them first, or enter another one."
        )


def change_letterhead(
    application: Application, letterhead_id: int, header: str, footer: str, accent: str, by: str
) -> None:
    with application.database.transaction() as session:
        letterhead = session.get_one(Letterhead, letterhead_id)
        after = {"header": header.strip(), "footer": footer.strip(), "accent": accent}
        for words in (after["header"], after["footer"]):
            _fields_hold(words)
        before = {name: getattr(letterhead, name) for name in after}
        for name, value in after.items():
            setattr(letterhead, name, value)
        application.note(
            session, by, "changed a letterhead", letterhead=letterhead.name, **changes(before, after)
        )


def _fields_hold(words: str) -> None:
    """Raises ``NotSetUp`` where a field in it cannot be filled: every email would fail."""
    try:
        template(words)
    except FieldProblem as problem:
        raise NotSetUp(str(problem)) from problem


def switch(application: Application, ringing: bool, by: str) -> None:
    """The master switch: while silent, nothing leaves."""
    with application.database.transaction() as session:
        session.get_one(Shop, 1).ringing = ringing
        application.note(session, by, "switched to ringing" if ringing else "switched to silent")


def has_owner(application: Application) -> bool:
    with application.database.reading() as session:
        return session.scalar(select(User.id).limit(1)) is not None
