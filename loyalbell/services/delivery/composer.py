"""Touches that are due, made ready to hand over: asked once more, filled, and put in their channel's form."""

import json
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from email.errors import MessageError
from typing import Any

import structlog
from sqlalchemy import func, select
from sqlalchemy.orm import Session

from loyalbell.channels.dkim_signing import BadKey, signed
from loyalbell.channels.sender import Outgoing
from loyalbell.core.messages.content import AnyWriting, ChatContent, EmailContent, TextContent
from loyalbell.core.messages.email_rendering import FilledEmail
from loyalbell.core.messages.merge_fields import FieldProblem
from loyalbell.core.messages.short_rendering import CompiledShort, conversation_open, fill_short
from loyalbell.core.messages.text_parts import parts
from loyalbell.core.policy.delivery_state import IN_FLIGHT, LEFT_US, SENT, WITHHELD
from loyalbell.core.policy.origins import ANSWER, CONFIRMATION, PROOF, TO_ONE
from loyalbell.core.policy.send_policy import SendFacts, first_refusal
from loyalbell.services.application import Application
from loyalbell.services.delivery.enrolment_recheck import exited_since
from loyalbell.services.delivery.outbox import become
from loyalbell.services.delivery.rendering import (
    Compiled,
    ContentFiller,
    Filled,
    codes_for,
    compiled,
    fill_for_delivery,
    fill_for_preview,
    mail_for,
    message_id,
    picture_url,
    render_context_for,
    writing_of,
)
from loyalbell.services.settings.channels import GATEWAYS, EmailSettings, GatewaySettings
from loyalbell.storage.consent import address_of, consent_now, suppressed_addresses, suppressed_people
from loyalbell.storage.schema import (
    Delivery,
    GalleryPicture,
    Message,
    MessageVersion,
    OpeningMessage,
    Person,
    Preference,
    Reply,
    Shop,
)

Writing = AnyWriting
OFTEN = {"weekly": 7, "monthly": 30}
"""Days between two marketing messages, for who asked to hear less often."""
A_DAY = timedelta(days=1)
FAULTS_OF_ONE = (ValueError, LookupError, MessageError)
"""What something odd on file about one person raises while their message is made; the others' go on."""
log = structlog.get_logger()


class Withhold(Exception):
    """Why a touch is not sent: its cause, and what it was."""

    def __init__(self, cause: str, detail: str | None = None) -> None:
        super().__init__(cause)
        self.cause, self.detail = cause, detail


class ChannelFault(Exception):
    """What is wrong with our own settings, so that nothing can be made on the channel; in words."""


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
    return {
        person.id: SendFacts(
            deceased=person.deceased_at is not None and person.deceased_at <= now,
            closed=person.closed_at is not None and person.closed_at <= now,
            suppressed=person.id in marked or address_of(person, channel) in bad,
            consent=consents.get(person.id, "never asked"),
            address=address_of(person, channel),
            paused=person.id in paused,
            too_soon=person.id in too_soon,
        )
        for person in people
    }


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
class Composer:
    """Makes a batch of one channel. What a version says is compiled once a language, its facts asked once."""

    application: Application
    session: Session
    shop: Shop
    now: datetime
    writings: dict[tuple[int, str, str], tuple[Writing, Compiled] | None] = field(default_factory=dict)
    facts: dict[tuple[int, str], dict[int, dict[str, object]]] = field(default_factory=dict)
    codes: dict[int, Mapping[str, object]] = field(default_factory=dict)
    service: set[int] = field(default_factory=set)
    gateways: dict[str, GatewaySettings] = field(default_factory=dict)
    email: EmailSettings | None = None

    def ready(self, deliveries: Sequence[Delivery], channel: str) -> list[Outgoing]:
        """Those that may go, marked *handing*; the others are withheld with their cause."""
        ids = [delivery.person_id for delivery in deliveries]
        people = {one.id: one for one in self.session.scalars(select(Person).where(Person.id.in_(ids)))}
        care = send_facts(self.session, list(people.values()), channel, self.now)
        gone = exited_since(
            self.application, self.session, self.application.snapshot(), deliveries, int(self.now.timestamp())
        )
        for delivery in deliveries:
            if delivery.id in gone:
                become(delivery, WITHHELD, cause=gone[delivery.id])
        deliveries = [delivery for delivery in deliveries if delivery.id not in gone]
        self.service = self._service({delivery.message_version_id for delivery in deliveries})
        self.facts = self._all_facts(deliveries, people)
        self.codes = self._all_codes(
            [one for one in deliveries if self._refusal(one, care[one.person_id]) is None], people
        )
        shared = self._same_address(deliveries, care)
        found = []
        for delivery in deliveries:
            if delivery.id in shared:
                become(delivery, WITHHELD, cause="same address")
                continue
            try:
                found.append(self._one(delivery, people[delivery.person_id], care[delivery.person_id]))
            except Withhold as why:
                become(delivery, WITHHELD, cause=why.cause, detail=why.detail)
        return found

    def _same_address(self, deliveries: Sequence[Delivery], care: Mapping[int, SendFacts]) -> set[int]:
        """Marketing messages that another person at the same address has just got, or gets in this batch.

        One rule for campaigns and sequences: the same message of the same step goes to an address once a day.
        """
        asked = [
            delivery
            for delivery in deliveries
            if delivery.origin_kind not in TO_ONE
            and delivery.message_version_id not in self.service
            and self._refusal(delivery, care[delivery.person_id]) is None
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

    def writing(self, delivery: Delivery, language: str) -> tuple[Writing, Compiled] | None:
        key = (delivery.message_version_id, delivery.channel, language)
        if key not in self.writings:
            found = writing_of(self.session, *key)
            self.writings[key] = (
                None
                if found is None
                else (
                    found,
                    compiled(
                        found,
                        render_context_for(
                            self.session, self.shop, found, delivery.origin_kind in (ANSWER, CONFIRMATION)
                        ),
                    ),
                )
            )
        return self.writings[key]

    def _all_codes(
        self, deliveries: Sequence[Delivery], people: dict[int, Person]
    ) -> dict[int, Mapping[str, object]]:
        """Codes of those who may get one, given out together."""
        groups: dict[tuple[int, str], list[Delivery]] = {}
        for delivery in deliveries:
            if delivery.origin_kind not in TO_ONE:
                key = (delivery.message_version_id, people[delivery.person_id].language or "")
                groups.setdefault(key, []).append(delivery)
        found: dict[int, Mapping[str, object]] = {}
        for delivery in deliveries:
            key = (delivery.message_version_id, people[delivery.person_id].language or "")
            made = self.writing(delivery, key[1])
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

    def _settings(self, channel: str) -> GatewaySettings:
        if channel not in self.gateways:
            self.gateways[channel] = GATEWAYS[channel].load(self.session)
        return self.gateways[channel]

    def _all_facts(
        self, deliveries: Sequence[Delivery], people: dict[int, Person]
    ) -> dict[tuple[int, str], dict[int, dict[str, object]]]:
        groups: dict[tuple[int, str], list[Person]] = {}
        for delivery in deliveries:
            person = people[delivery.person_id]
            groups.setdefault((delivery.message_version_id, person.language or ""), []).append(person)
        filler = ContentFiller(self.application, self.session, self.shop, self.now)
        found = {}
        for delivery in deliveries:
            key = (delivery.message_version_id, people[delivery.person_id].language or "")
            made = self.writing(delivery, key[1])
            if made is not None and key not in found:
                found[key] = filler.facts(list({one.id: one for one in groups[key]}.values()), made[1])
        return found

    def _refusal(self, delivery: Delivery, care: SendFacts) -> str | None:
        if delivery.origin_kind in TO_ONE:
            return _refusal_of_one(delivery, care)
        return first_refusal(care, delivery.message_version_id not in self.service)

    def _one(self, delivery: Delivery, person: Person, care: SendFacts) -> Outgoing:
        cause = self._refusal(delivery, care)
        if cause:
            raise Withhold(cause)
        delivery.address = (
            delivery.address if delivery.origin_kind in TO_ONE and delivery.address else care.address
        )
        language = person.language or ""
        made = self.writing(delivery, language)
        if made is None:
            raise Withhold("not written", f"the message says nothing on {delivery.channel}")
        writing, template = made
        delivery.language = writing.language
        try:
            facts = self.facts[delivery.message_version_id, language][person.id]
            if delivery.origin_kind == PROOF:
                filled = fill_for_preview(self.session, template, facts, self.shop, self.now)
            else:
                filled = fill_for_delivery(
                    self.session, template, facts, delivery, self.shop, self.now, self.codes
                )
            sender, content = self._form(delivery, person, writing, template, filled, facts)
        except FieldProblem as problem:
            raise Withhold("not filled", str(problem)) from problem
        except FAULTS_OF_ONE as fault:
            log.warning("a message could not be made", delivery=delivery.id, exc_info=fault)
            raise Withhold("not made", str(fault)[:200]) from fault
        become(delivery, IN_FLIGHT, handed_at=None, detail=None)
        return Outgoing(
            delivery.id,
            sender,
            delivery.address or "",
            message_id(delivery, self.shop),
            content,
            delivery.channel,
        )

    def _form(
        self,
        delivery: Delivery,
        person: Person,
        writing: Writing,
        template: Compiled,
        filled: Filled,
        facts: dict[str, object],
    ) -> tuple[str, bytes]:
        if isinstance(writing, EmailContent):
            assert isinstance(filled, FilledEmail)
            return self._email(delivery, person, writing, filled)
        assert isinstance(filled, str) and isinstance(template, CompiledShort)
        if not filled:
            raise FieldProblem("Nothing of it is shown to this person.")
        settings = self._settings(delivery.channel)
        body: dict[str, object] = {
            "id": message_id(delivery, self.shop),
            "from": settings.sender,
            "to": delivery.address,
        }
        if isinstance(writing, TextContent):
            delivery.parts = parts(filled).parts
            delivery.cost_minor = round(delivery.parts * settings.cost_minor)
            return settings.sender, json.dumps(body | {"text": filled}).encode()
        return settings.sender, json.dumps(
            body | self._chat(delivery, writing, template, filled, facts)
        ).encode()

    def _email(
        self, delivery: Delivery, person: Person, writing: EmailContent, filled: FilledEmail
    ) -> tuple[str, bytes]:
        self.email = self.email or EmailSettings.load(self.session)
        settings = self.email
        if not self.shop.sender_email:
            raise ChannelFault("There is no sender’s address in Settings.")
        mail = mail_for(self.session, delivery, person, filled, writing, self.shop, self.now, settings)
        if settings.dkim_key and settings.dkim_domain:
            try:
                mail = signed(mail, settings.dkim_domain, settings.dkim_selector, settings.dkim_key)
            except BadKey as problem:
                raise ChannelFault(str(problem)) from problem
        return return_path(delivery, self.shop, settings), mail

    def _chat(
        self,
        delivery: Delivery,
        writing: ChatContent,
        template: CompiledShort,
        filled: str,
        facts: dict[str, object],
    ) -> dict[str, object]:
        last = self.session.scalar(
            select(func.max(Reply.at)).where(
                Reply.channel == "chat", Reply.address == (delivery.address or ""), Reply.inward
            )
        )
        if delivery.origin_kind not in TO_ONE and not conversation_open(last, self.now):
            opening = self.session.get(OpeningMessage, writing.opening) if writing.opening else None
            if opening is None or opening.state != "approved":
                raise Withhold(
                    "no open conversation",
                    "they have not written within a day, and no approved opening message is chosen",
                )
            return {
                "opening": opening.name,
                "text": fill_short(CompiledShort(opening.text, (), (), ()), facts),
            }
        picture = self.session.get(GalleryPicture, writing.picture) if writing.picture else None
        return {
            "text": filled,
            "picture": picture_url(self.shop, picture.token) if picture else None,
            "replies": list(template.replies),
        }


def _refusal_of_one(delivery: Delivery, care: SendFacts) -> str | None:
    if delivery.origin_kind == PROOF:
        return None if delivery.address else "no address"
    if care.deceased:
        return "deceased"
    if care.suppressed and delivery.origin_kind != ANSWER:
        return "suppressed"
    return None if delivery.address or care.address else "no address"


def return_path(delivery: Delivery, shop: Shop, settings: EmailSettings) -> str:
    """Each mail has its own (VERP), so that a report that comes back names the touch."""
    return (
        f"bounce+{delivery.token}@{settings.bounce_domain}" if settings.bounce_domain else shop.sender_email
    )


def hidden_message(session: Session, kind: str, now: datetime) -> Message:
    """The message that holds what is written once only, by its kind."""
    name = f"({kind})"
    message = session.scalar(select(Message).where(Message.name == name))
    if message is None:
        message = Message(name=name, changed_at=now, purpose="service", hidden=True)
        session.add(message)
        session.flush()
    return message


def once_only(session: Session, kind: str, content: dict[str, object], now: datetime, by: str) -> int:
    """A version for what is written once only. Returns its id."""
    message = hidden_message(session, kind, now)
    last = session.scalar(
        select(func.max(MessageVersion.number)).where(MessageVersion.message_id == message.id)
    )
    version = MessageVersion(
        message_id=message.id, number=(last or 0) + 1, content=content, made_at=now, by=by
    )
    session.add(version)
    session.flush()
    return version.id
