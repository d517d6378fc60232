"""Touches that are due, made ready to hand over: asked once more, filled, and put in their channel's form."""

import json
from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from datetime import datetime
from email.errors import MessageError

import structlog
from sqlalchemy import func, select
from sqlalchemy.orm import Session

from loyalbell.channels.dkim_signing import BadKey, signed
from loyalbell.channels.sender import Outgoing
from loyalbell.core.messages.content import AnyWriting, ChatContent, EmailContent, TextContent
from loyalbell.core.messages.email_rendering import FilledEmail
from loyalbell.core.messages.merge_fields import FieldProblem
from loyalbell.core.messages.sections import marks
from loyalbell.core.messages.short_rendering import CompiledShort, conversation_open, fill_short
from loyalbell.core.messages.text_parts import parts
from loyalbell.core.policy.origins import PROOF, TO_ONE
from loyalbell.services.application import Application
from loyalbell.services.delivery.composing.facts_at_hand import put_over
from loyalbell.services.delivery.composing.rendering import (
    Codes,
    Compiled,
    ContentFiller,
    Filled,
    fill_for_delivery,
    fill_for_preview,
    mail_for,
    message_id,
    picture_url,
)
from loyalbell.services.delivery.composing.writings import Writings
from loyalbell.services.settings.channels import GATEWAYS, EmailSettings, GatewaySettings
from loyalbell.storage.schema import (
    Delivery,
    GalleryPicture,
    OpeningMessage,
    Person,
    Reply,
    Shop,
)

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


@dataclass(frozen=True)
class Made:
    """One message: ready to hand over, or why not; and what is to be noted of it."""

    delivery_id: int
    outgoing: Outgoing | None = None
    language: str | None = None
    shown: str = ""
    parts: int | None = None
    cost_minor: int | None = None
    cause: str | None = None
    detail: str | None = None


@dataclass
class Composer:
    """Makes a batch of one channel out of a session that only reads; facts are asked once a language."""

    application: Application
    session: Session
    shop: Shop
    now: datetime
    writings: Writings
    codes: Codes
    facts: dict[tuple[int, str], dict[int, dict[str, object]]] = field(default_factory=dict)
    at_hand: dict[int, dict[str, object]] = field(default_factory=dict)
    gateways: dict[str, GatewaySettings] = field(default_factory=dict)
    email: EmailSettings | None = None

    def make(self, delivery_ids: Sequence[int]) -> list[Made]:
        """Of each delivery in hand its message, or why it cannot be made. Raises ``ChannelFault``."""
        query = select(Delivery).where(Delivery.id.in_(delivery_ids))
        rows = {delivery.id: delivery for delivery in self.session.scalars(query)}
        deliveries = [rows[delivery_id] for delivery_id in delivery_ids]
        ids = [delivery.person_id for delivery in deliveries]
        people = {one.id: one for one in self.session.scalars(select(Person).where(Person.id.in_(ids)))}
        self.facts = self._all_facts(deliveries, people)
        found = []
        for delivery in deliveries:
            try:
                found.append(self._one(delivery, people[delivery.person_id]))
            except Withhold as why:
                found.append(Made(delivery.id, cause=why.cause, detail=why.detail))
        return found

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
        self.at_hand = {}
        for delivery in deliveries:
            key = (delivery.message_version_id, people[delivery.person_id].language or "")
            made = self.writings.of(self.session, delivery, key[1])
            if made is not None and key not in found:
                found[key] = filler.facts(list({group.id: group for group in groups[key]}.values()), made[1])
                alike = [one for one in deliveries if one.message_version_id == key[0]]
                self.at_hand |= filler.at_hand(alike, made[1])
        return found

    def _one(self, delivery: Delivery, person: Person) -> Made:
        language = person.language or ""
        made = self.writings.of(self.session, delivery, language)
        if made is None:
            raise Withhold("not written", f"the message says nothing on {delivery.channel}")
        writing, template = made
        try:
            facts = self.facts[delivery.message_version_id, language][person.id]
            facts = put_over(facts, self.at_hand.get(delivery.id, {}))
            filled = self._filled(delivery, template, facts)
            sender, content = self._form(delivery, person, writing, template, filled, facts)
        except FieldProblem as problem:
            raise Withhold("not filled", str(problem)) from problem
        except FAULTS_OF_ONE as fault:
            log.warning("a message could not be made", delivery=delivery.id, exc_info=fault)
            raise Withhold("not made", str(fault)[:200]) from fault
        address, name = delivery.address or "", message_id(delivery, self.shop)
        outgoing = Outgoing(delivery.id, sender, address, name, content, delivery.channel)
        whole = Made(delivery.id, outgoing, writing.language, marks(template.sections, facts))
        if not (isinstance(writing, TextContent) and isinstance(filled, str)):
            return whole
        count = parts(filled).parts
        cost = round(count * self._settings(delivery.channel).cost_minor)
        return replace(whole, parts=count, cost_minor=cost)

    def _filled(self, delivery: Delivery, template: Compiled, facts: dict[str, object]) -> Filled:
        if delivery.origin_kind == PROOF:
            return fill_for_preview(self.session, template, facts, self.shop, self.now)
        return fill_for_delivery(self.session, template, facts, delivery, self.shop, self.now, self.codes)

    def _form(
        self,
        delivery: Delivery,
        person: Person,
        writing: AnyWriting,
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


def return_path(delivery: Delivery, shop: Shop, settings: EmailSettings) -> str:
    """Each mail has its own (VERP), so that a report that comes back names the touch."""
    return (
        f"bounce+{delivery.message_key}@{settings.bounce_domain}"
        if settings.bounce_domain
        else shop.sender_email
    )
