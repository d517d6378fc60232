"""By what name a network knows a message (its Message-ID, before the @).

It is worked out from what the message is, with a key of the book's own: a book that was restored from a
backup gives the same message the same name, and can ask the network whether it was taken. It says nothing
about the person and has nothing to do with the token in the links.
"""

import hashlib
import hmac
import secrets
from collections.abc import Sequence

from sqlalchemy import select
from sqlalchemy.orm import Session

from loyalbell.core.policy.origins import CAMPAIGN, SEQUENCE
from loyalbell.services.settings.channels import SettingsGroup
from loyalbell.storage import schema
from loyalbell.storage.consent import address_of
from loyalbell.storage.schema import Campaign, Delivery, Person

LENGTH = 32


class MessageKey(SettingsGroup):
    """Made once for each book, and part of its backups."""

    kept_as = "message key"
    key: str = ""


def key_of_book(session: Session) -> bytes:
    kept = MessageKey.load(session)
    if not kept.key:
        kept = MessageKey(key=secrets.token_hex(32))
        kept.save(session)
        session.flush()
    return kept.key.encode()


def give_keys(session: Session, deliveries: Sequence[Delivery]) -> None:
    """Gives each its name, once it is known to whom it goes. A second try keeps the first one's."""
    unnamed = [delivery for delivery in deliveries if not delivery.message_key]
    if not unnamed:
        return
    key, stamps = key_of_book(session), _stamps(session, unnamed)
    people = _addresses(session, [delivery for delivery in unnamed if not delivery.address])
    for delivery in unnamed:
        origin = (delivery.origin_kind, delivery.origin_id)
        # numbers are given out again after a restore: when its origin was made, and the address, tell apart
        # what only has the same numbers; anything else is known by its own token
        stamp = stamps.get(origin, delivery.token)
        address = delivery.address or people.get((delivery.person_id, delivery.channel), "")
        parts = (*origin, stamp, delivery.step, delivery.occurrence, delivery.channel, address)
        said = "\x1f".join(map(str, parts)).encode()
        delivery.message_key = hmac.new(key, said, hashlib.sha256).hexdigest()[:LENGTH]


def _stamps(session: Session, deliveries: Sequence[Delivery]) -> dict[tuple[str, int], str]:
    """By origin what tells it from another that gets its number after a restore."""
    of = {
        kind: {delivery.origin_id for delivery in deliveries if delivery.origin_kind == kind}
        for kind in (CAMPAIGN, SEQUENCE)
    }
    made = select(Campaign.id, Campaign.made_at).where(Campaign.id.in_(of[CAMPAIGN]))
    keys = select(schema.Sequence.id, schema.Sequence.key).where(schema.Sequence.id.in_(of[SEQUENCE]))
    found = {(CAMPAIGN, number): at.isoformat() for number, at in session.execute(made)}
    return found | {(SEQUENCE, number): key for number, key in session.execute(keys)}


def _addresses(session: Session, deliveries: Sequence[Delivery]) -> dict[tuple[int, str], str]:
    ids = {delivery.person_id for delivery in deliveries}
    people = {person.id: person for person in session.scalars(select(Person).where(Person.id.in_(ids)))}
    return {
        (delivery.person_id, delivery.channel): address_of(people[delivery.person_id], delivery.channel) or ""
        for delivery in deliveries
        if delivery.person_id in people
    }
