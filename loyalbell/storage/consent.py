"""What a person agreed to, now: the newest line of the log per channel."""

from collections.abc import Iterable

from sqlalchemy import func, select
from sqlalchemy.orm import InstrumentedAttribute
from sqlalchemy.orm import Session as Reader

from loyalbell.core.channels import TYPES
from loyalbell.storage.erased_addresses import erased_among
from loyalbell.storage.schema import ConsentEntry, Person, Suppression


def consent_now(reader: Reader, person_ids: Iterable[int], channel: str) -> dict[int, str]:
    """State per person id; people without a line are missing (never asked)."""
    query = (
        select(ConsentEntry.person_id, ConsentEntry.state)
        .where(ConsentEntry.person_id.in_(list(person_ids)), ConsentEntry.channel == channel)
        .order_by(ConsentEntry.at, ConsentEntry.id)
    )
    return {person_id: state for person_id, state in reader.execute(query)}


def address_of(person: Person, channel: str) -> str | None:
    address: str | None = getattr(person, TYPES[channel].address)
    return address


def address_column(channel: str) -> InstrumentedAttribute[str | None]:
    """The column of people that holds their address on the channel."""
    column: InstrumentedAttribute[str | None] = getattr(Person, TYPES[channel].address)
    return column


def suppressed_addresses(reader: Reader, addresses: Iterable[str], channel: str) -> set[str]:
    """Which of these addresses are suppressed on the channel now, whatever the size of their letters."""
    by_small: dict[str, set[str]] = {}
    for address in addresses:
        by_small.setdefault(address.lower(), set()).add(address)
    query = select(func.lower(Suppression.address)).where(
        Suppression.channel == channel,
        func.lower(Suppression.address).in_(list(by_small)),
        Suppression.lifted_at.is_(None),
    )
    known = set(reader.scalars(query)) | erased_among(reader, channel, list(by_small))
    return set().union(*(by_small.get(small, set()) for small in known))


def suppressed_people(reader: Reader, person_ids: Iterable[int], channel: str) -> set[int]:
    """Which of these people carry a suppression of their own on the channel now."""
    query = select(Suppression.person_id).where(
        Suppression.channel == channel,
        Suppression.person_id.in_(list(person_ids)),
        Suppression.lifted_at.is_(None),
    )
    return {person_id for person_id in reader.scalars(query) if person_id is not None}
