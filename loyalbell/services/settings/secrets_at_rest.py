"""Passwords and keys are sealed in the book: those of an older book at its first start, and Today says where
the key file that opens them is lost.
"""

from sqlalchemy import select

from loyalbell.services.application import Application, UnitOfWork
from loyalbell.services.settings.channels import ChatSettings, EmailSettings, TextSettings
from loyalbell.storage.schema import Setting, User, Webhook
from loyalbell.storage.secret_box import SEALED, KeyLost

GROUPS = (EmailSettings, TextSettings, ChatSettings)
TOPIC = "key"


def look_after(application: Application) -> None:
    """Seals what stands open, and sets or clears the trouble of a lost key."""
    with application.database.reading() as session:
        kept = _every_secret(session)
    if any(not one.startswith(SEALED) for one in kept):
        _seal(application)
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
