"""Passwords and keys are sealed in the book: those of an older book at its first start, and Today says where
the key file that opens them is lost.
"""

from sqlalchemy import func, select

from loyalbell.services.application import Application, UnitOfWork
from loyalbell.services.settings.channels import ChatSettings, EmailSettings, SettingsGroup, TextSettings
from loyalbell.storage import erased_addresses
from loyalbell.storage.erased_addresses import HASHED, REASON
from loyalbell.storage.schema import Setting, Shop, Suppression, User, Webhook
from loyalbell.storage.secret_box import SEALED, KeyLost, box_of

GROUPS = (EmailSettings, TextSettings, ChatSettings)
TOPIC = "key"


def look_after(application: Application) -> None:
    """Seals what stands open, and sets or clears the trouble of a lost key."""
    with application.database.reading() as session:
        kept = _every_secret(session)
    if any(not one.startswith(SEALED) for one in kept):
        _seal(application)
    _hash_erased(application)
    _hold_without_key(application)
    try:
        for one in kept:
            application.secrets.open(one)
        application.troubles.pop(TOPIC, None)
    except KeyLost as problem:
        application.troubles[TOPIC] = str(problem)


def _every_secret(session: UnitOfWork) -> list[str]:
    values = {row.name: row.value for row in session.scalars(select(Setting))}
    found = [str(values.get(group.kept_as, {}).get(name, "")) for group in GROUPS for name in group.sealed]
    found += session.scalars(select(Webhook.secret))
    found += session.scalars(select(User.second_factor))
    return [one for one in found if one]


def _seal(application: Application) -> None:
    with application.database.transaction() as session:
        for group in GROUPS:
            if session.get(Setting, group.kept_as) is not None:
                group.load(session).save(session)
        for webhook in session.scalars(select(Webhook).where(~Webhook.secret.startswith(SEALED))):
            webhook.secret = application.secrets.seal(webhook.secret)


def _hash_erased(application: Application) -> None:
    """Addresses of erased people that an older book kept in clear."""
    open_ones = select(Suppression).where(
        Suppression.reason == REASON,
        Suppression.person_id.is_(None),
        ~Suppression.address.startswith(HASHED),
    )
    with application.database.reading() as session:
        if session.scalar(open_ones.limit(1)) is None:
            return
    with application.database.transaction() as session:
        for one in session.scalars(open_ones):
            erased_addresses.keep(session, one)


class KeySeen(SettingsGroup):
    """The key by whose loss the book was switched to silent, once."""

    kept_as = "key seen"
    name: str = ""


def _hold_without_key(application: Application) -> None:
    """Whoever was erased cannot be told from others: nothing leaves until somebody has looked."""
    name = application.secrets.name or "none"
    with application.database.reading() as session:
        if not unknown_erased(session) or KeySeen.load(session).name == name:
            return
    with application.database.transaction() as session:
        KeySeen(name=name).save(session)
        shop = session.get(Shop, 1)
        if shop is not None:
            shop.ringing = False
        application.note(session, "the clock", "switched to silent", why="the key file is missing or another")


def unknown_erased(session: UnitOfWork) -> int:
    """How many erased addresses were hashed with another key than that of now: they are not recognised."""
    of_now = f"{HASHED}{box_of(session).name}:"
    query = select(func.count()).where(
        Suppression.address.startswith(HASHED), ~Suppression.address.startswith(of_now)
    )
    return session.scalar(query) or 0
