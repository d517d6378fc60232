"""Which due messages may go, asked once more of each person right before they are taken in hand."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from typing import Any

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from loyalbell.core.clock.local_time import local_day
from loyalbell.core.policy.delivery_state import IN_FLIGHT, LEFT_US, SENT, WITHHELD
from loyalbell.core.policy.origins import ANSWER, PROOF, TO_ONE
from loyalbell.core.policy.send_policy import SendFacts, first_refusal
from loyalbell.services.delivery.composing.rendering import Codes, codes_for
from loyalbell.services.delivery.composing.writings import Writings
from loyalbell.services.delivery.message_keys import give_keys
from loyalbell.services.delivery.outbox import become
from loyalbell.services.settings.channels import HoldoutSettings
from loyalbell.storage.consent import address_of, consent_now, suppressed_addresses, suppressed_people
from loyalbell.storage.schema import Delivery, Message, MessageVersion, Person, Preference, Shop

OFTEN = {"weekly": 7, "monthly": 30}
"""Days between two marketing messages, for who asked to hear less often."""
A_DAY = timedelta(days=1)


def send_facts(
    session: Session, people: Sequence[Person], channel: str, now: datetime
) -> dict[int, SendFacts]:
    """What decides whether each of these people may be written to on a channel now."""
    ids = [person.id for person in people]
    consents = consent_now(session, ids, channel)
    addresses = [address for person in people if (address := address_of(person, channel))]
    bad = suppressed_addresses(session, addresses, channel)
    marked = suppressed_people(session, ids, channel)
    paused, too_soon = _asked_for_less(session, ids, now)
    held_out = _held_out(session, ids, now)
    return {
        person.id: SendFacts(
            deceased=person.deceased_at is not None and person.deceased_at <= now,
            closed=person.closed_at is not None and person.closed_at <= now,
            suppressed=person.id in marked or address_of(person, channel) in bad,
            consent=consents.get(person.id, "never asked"),
            address=address_of(person, channel),
            paused=person.id in paused,
            too_soon=person.id in too_soon,
            held_out=person.id in held_out,
        )
        for person in people
    }


def _held_out(session: Session, ids: Sequence[int], now: datetime) -> set[int]:
    """Who gets no marketing on this local day of the shop, to compare with."""
    holdout = HoldoutSettings.load(session).holdout
    if holdout.since is None:
        return set()
    day = local_day(now, session.get_one(Shop, 1).zone)
    return {one for one in ids if holdout.holds(one, day)}


def _asked_for_less(session: Session, ids: Sequence[int], now: datetime) -> tuple[set[int], set[int]]:
    """Who asked for a pause that still runs.

    Who asked to hear less often and heard from us within that time.
    """
    kept = list(session.scalars(select(Preference).where(Preference.person_id.in_(ids))))
    paused = {one.person_id for one in kept if one.paused_until is not None and one.paused_until > now}
    seldom = {one.person_id: OFTEN[one.often] for one in kept if one.often in OFTEN}
    query = (
        select(Delivery.person_id, func.max(Delivery.sent_at))
        .join(MessageVersion, MessageVersion.id == Delivery.message_version_id)
        .join(Message, Message.id == MessageVersion.message_id)
        .where(Delivery.person_id.in_(seldom), Delivery.state == SENT, Message.purpose == "marketing")
        .group_by(Delivery.person_id)
    )
    last = {at: sent for at, sent in session.execute(query).all() if sent is not None} if seldom else {}
    return paused, {at for at, days in seldom.items() if at in last and last[at] > now - timedelta(days=days)}


@dataclass
class Claim:
    """Decides over a batch of one channel, inside the transaction that takes it in hand."""

    session: Session
    shop: Shop
    now: datetime
    writings: Writings
    service: set[int] = field(default_factory=set)

    def take(
        self, deliveries: Sequence[Delivery], channel: str, gone: Mapping[int, str | None]
    ) -> tuple[list[int], Codes]:
        """Ids of those that are in hand now, and the codes that go with them; the others are withheld.

        ``gone``: by delivery id why its person's run has ended.
        """
        ids = [delivery.person_id for delivery in deliveries]
        people = {one.id: one for one in self.session.scalars(select(Person).where(Person.id.in_(ids)))}
        care = send_facts(self.session, list(people.values()), channel, self.now)
        self.service = self._service({delivery.message_version_id for delivery in deliveries})
        refused = {one.id: gone.get(one.id) or self._refusal(one, care[one.person_id]) for one in deliveries}
        asked = [delivery for delivery in deliveries if refused[delivery.id] is None]
        shared = self._same_address(asked, care)
        going = [delivery for delivery in asked if delivery.id not in shared]
        for delivery in deliveries:
            cause = "same address" if delivery.id in shared else refused[delivery.id]
            if cause is not None:
                become(delivery, WITHHELD, cause=cause)
        for delivery in going:
            to_one = delivery.origin_kind in TO_ONE and delivery.address
            address = delivery.address if to_one else care[delivery.person_id].address
            become(delivery, IN_FLIGHT, handed_at=None, detail=None, address=address)
        give_keys(self.session, going)
        return [delivery.id for delivery in going], self._all_codes(going, people)

    def _same_address(self, deliveries: Sequence[Delivery], care: Mapping[int, SendFacts]) -> set[int]:
        """Marketing messages that another person at the same address has just got, or gets in this batch.

        One rule for campaigns and sequences: the same message of the same step goes to an address once a day.
        """
        asked = [
            delivery
            for delivery in deliveries
            if delivery.origin_kind not in TO_ONE and delivery.message_version_id not in self.service
        ]
        address = {delivery.id: care[delivery.person_id].address or "" for delivery in asked}
        lately = select(Delivery.origin_kind, Delivery.origin_id, Delivery.step, Delivery.address).where(
            Delivery.address.in_(set(address.values())),
            Delivery.state.in_(LEFT_US),
            func.coalesce(Delivery.sent_at, Delivery.handed_at, Delivery.due_at) > self.now - A_DAY,
        )
        got: dict[tuple[Any, ...], set[int]] = {}
        for row in self.session.execute(lately.add_columns(Delivery.person_id)):
            got.setdefault(tuple(row[:4]), set()).add(row[4])
        found = set()
        for delivery in asked:
            key = (delivery.origin_kind, delivery.origin_id, delivery.step, address[delivery.id])
            if got.get(key, set()) - {delivery.person_id}:
                found.add(delivery.id)
            else:
                got.setdefault(key, set()).add(delivery.person_id)
        return found

    def _all_codes(self, deliveries: Sequence[Delivery], people: dict[int, Person]) -> Codes:
        """Codes of those who may get one, given out together."""
        groups: dict[tuple[int, str], list[Delivery]] = {}
        for delivery in deliveries:
            if delivery.origin_kind not in TO_ONE:
                key = (delivery.message_version_id, people[delivery.person_id].language or "")
                groups.setdefault(key, []).append(delivery)
        found: dict[int, Mapping[str, object]] = {}
        for delivery in deliveries:
            key = (delivery.message_version_id, people[delivery.person_id].language or "")
            made = self.writings.of(self.session, delivery, key[1])
            if made is not None and delivery.id not in found and key in groups:
                found |= codes_for(self.session, made[1], groups[key], self.shop, self.now)
        return found

    def _service(self, versions: set[int]) -> set[int]:
        """Those of the versions whose message is a service notice."""
        query = (
            select(MessageVersion.id)
            .join(Message)
            .where(MessageVersion.id.in_(versions), Message.purpose == "service")
        )
        return set(self.session.scalars(query))

    def _refusal(self, delivery: Delivery, care: SendFacts) -> str | None:
        if delivery.origin_kind in TO_ONE:
            return _refusal_of_one(delivery, care)
        return first_refusal(care, delivery.message_version_id not in self.service)


def _refusal_of_one(delivery: Delivery, care: SendFacts) -> str | None:
    if delivery.origin_kind == PROOF:
        return None if delivery.address else "no address"
    if care.deceased:
        return "deceased"
    if care.suppressed and delivery.origin_kind != ANSWER:
        return "suppressed"
    return None if delivery.address or care.address else "no address"
