"""Touches that are due, made ready to hand over: asked once more, filled, and put in their channel's form."""

import json
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime, timedelta

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from loyalbell.channels.base import Outgoing
from loyalbell.channels.dkim_sign import BadKey, signed
from loyalbell.core.care import SendFacts, first_refusal
from loyalbell.core.messages.content import ChatContent, EmailContent, TextContent
from loyalbell.core.messages.fields import FieldProblem
from loyalbell.core.messages.letter import FilledEmail
from loyalbell.core.messages.short import CompiledShort, conversation_open, fill_short
from loyalbell.core.messages.text import parts
from loyalbell.desk.channel_settings import GATEWAYS, EmailSettings, GatewaySettings
from loyalbell.desk.desk import Desk
from loyalbell.desk.letters import (
    Compiled,
    Filled,
    Filler,
    codes_for,
    compiled,
    fill_for_preview,
    fill_for_touch,
    kit_for,
    mail_for,
    message_id,
    picture_url,
    writing_of,
)
from loyalbell.desk.sequences.still_meant import no_longer_meant
from loyalbell.store.consent import address_of, consent_now, suppressed_addresses, suppressed_people
from loyalbell.store.tables import (
    GalleryPicture,
    Message,
    MessageVersion,
    OpeningMessage,
    Person,
    Preference,
    Reply,
    Shop,
    Touch,
)

Writing = EmailContent | TextContent | ChatContent
ANSWER, PROOF, CONFIRMATION = "answer", "proof", "confirmation"
OFTEN = {"weekly": 7, "monthly": 30}
"""Days between two marketing messages, for who asked to hear less often."""
TO_ONE = (ANSWER, PROOF, CONFIRMATION)
"""What is written to one address for its own sake: consent to marketing is not asked, suppression is."""


class Withhold(Exception):
    """Why a touch is not sent: its cause, and what it was."""

    def __init__(self, cause: str, detail: str | None = None) -> None:
        super().__init__(cause)
        self.cause, self.detail = cause, detail


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
    """Who asked for a pause that still runs; who asked to hear less often and heard from us within that time."""
    kept = list(session.scalars(select(Preference).where(Preference.person_id.in_(ids))))
    paused = {one.person_id for one in kept if one.paused_until is not None and one.paused_until > now}
    seldom = {one.person_id: OFTEN[one.often] for one in kept if one.often in OFTEN}
    query = (
        select(Touch.person_id, func.max(Touch.sent_at))
        .join(MessageVersion, MessageVersion.id == Touch.message_version_id)
        .join(Message, Message.id == MessageVersion.message_id)
        .where(Touch.person_id.in_(seldom), Touch.state == "sent", Message.purpose == "marketing")
        .group_by(Touch.person_id)
    )
    last = {at: sent for at, sent in session.execute(query).all() if sent is not None} if seldom else {}
    return paused, {at for at, days in seldom.items() if at in last and last[at] > now - timedelta(days=days)}


@dataclass
class Maker:
    """Makes a batch of one channel. What a version says is compiled once a language, its facts asked once."""

    desk: Desk
    session: Session
    shop: Shop
    now: datetime
    writings: dict[tuple[int, str, str], tuple[Writing, Compiled] | None] = field(default_factory=dict)
    facts: dict[tuple[int, str], dict[int, dict[str, object]]] = field(default_factory=dict)
    codes: dict[int, Mapping[str, object]] = field(default_factory=dict)
    service: set[int] = field(default_factory=set)
    gateways: dict[str, GatewaySettings] = field(default_factory=dict)
    email: EmailSettings | None = None

    def ready(self, touches: Sequence[Touch], channel: str) -> list[Outgoing]:
        """Those that may go, marked *handing*; the others are withheld with their cause."""
        ids = [touch.person_id for touch in touches]
        people = {one.id: one for one in self.session.scalars(select(Person).where(Person.id.in_(ids)))}
        care = send_facts(self.session, list(people.values()), channel, self.now)
        gone = no_longer_meant(self.session, self.desk.ledger(), touches, int(self.now.timestamp()))
        for touch in touches:
            if touch.id in gone:
                touch.state, touch.cause = "withheld", gone[touch.id]
        touches = [touch for touch in touches if touch.id not in gone]
        self.service = self._service({touch.message_version_id for touch in touches})
        self.facts = self._all_facts(touches, people)
        self.codes = self._all_codes(
            [one for one in touches if self._refusal(one, care[one.person_id]) is None], people
        )
        found = []
        for touch in touches:
            try:
                found.append(self._one(touch, people[touch.person_id], care[touch.person_id]))
            except Withhold as why:
                touch.state, touch.cause, touch.detail = "withheld", why.cause, why.detail
        return found

    def writing(self, touch: Touch, language: str) -> tuple[Writing, Compiled] | None:
        key = (touch.message_version_id, touch.channel, language)
        if key not in self.writings:
            found = writing_of(self.session, *key)
            self.writings[key] = (
                None
                if found is None
                else (
                    found,
                    compiled(
                        found,
                        kit_for(self.session, self.shop, found, touch.origin_kind in (ANSWER, CONFIRMATION)),
                    ),
                )
            )
        return self.writings[key]

    def _all_codes(
        self, touches: Sequence[Touch], people: dict[int, Person]
    ) -> dict[int, Mapping[str, object]]:
        """Codes of those who may get one, given out together."""
        groups: dict[tuple[int, str], dict[int, int]] = {}
        for touch in touches:
            if touch.origin_kind not in TO_ONE:
                key = (touch.message_version_id, people[touch.person_id].language or "")
                groups.setdefault(key, {})[touch.id] = touch.person_id
        found: dict[int, Mapping[str, object]] = {}
        for touch in touches:
            key = (touch.message_version_id, people[touch.person_id].language or "")
            made = self.writing(touch, key[1])
            if made is not None and touch.id not in found and key in groups:
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

    def _all_facts(self, touches: Sequence[Touch], people: dict[int, Person]) -> dict[tuple[int, str], dict[int, dict[str, object]]]:  # fmt: skip
        groups: dict[tuple[int, str], list[Person]] = {}
        for touch in touches:
            person = people[touch.person_id]
            groups.setdefault((touch.message_version_id, person.language or ""), []).append(person)
        filler = Filler(self.desk, self.session, self.shop, self.now)
        found = {}
        for touch in touches:
            key = (touch.message_version_id, people[touch.person_id].language or "")
            made = self.writing(touch, key[1])
            if made is not None and key not in found:
                found[key] = filler.facts(list({one.id: one for one in groups[key]}.values()), made[1])
        return found

    def _refusal(self, touch: Touch, care: SendFacts) -> str | None:
        if touch.origin_kind in TO_ONE:
            return _refusal_of_one(touch, care)
        return first_refusal(care, touch.message_version_id not in self.service)

    def _one(self, touch: Touch, person: Person, care: SendFacts) -> Outgoing:
        cause = self._refusal(touch, care)
        if cause:
            raise Withhold(cause)
        touch.address = touch.address if touch.origin_kind in TO_ONE and touch.address else care.address
        language = person.language or ""
        made = self.writing(touch, language)
        if made is None:
            raise Withhold("not written", f"the message says nothing on {touch.channel}")
        writing, template = made
        touch.language = writing.language
        try:
            facts = self.facts[touch.message_version_id, language][person.id]
            if touch.origin_kind == PROOF:
                filled = fill_for_preview(self.session, template, facts, self.shop, self.now)
            else:
                filled = fill_for_touch(self.session, template, facts, touch, self.shop, self.now, self.codes)
            sender, content = self._form(touch, person, writing, template, filled, facts)
        except (FieldProblem, BadKey, ValueError) as problem:
            raise Withhold("not filled", str(problem)) from problem
        touch.state, touch.handed_at, touch.attempts = "handing", self.now, touch.attempts + 1
        return Outgoing(
            touch.id, sender, touch.address or "", message_id(touch, self.shop), content, touch.channel
        )

    def _form(
        self, touch: Touch, person: Person, writing: Writing, template: Compiled, filled: Filled, facts: dict[str, object]
    ) -> tuple[str, bytes]:  # fmt: skip
        if isinstance(writing, EmailContent):
            assert isinstance(filled, FilledEmail)
            return self._email(touch, person, writing, filled)
        assert isinstance(filled, str) and isinstance(template, CompiledShort)
        if not filled:
            raise FieldProblem("Nothing of it is shown to this person.")
        settings = self._settings(touch.channel)
        body: dict[str, object] = {
            "id": message_id(touch, self.shop),
            "from": settings.sender,
            "to": touch.address,
        }
        if isinstance(writing, TextContent):
            touch.parts = parts(filled).parts
            touch.cost_minor = round(touch.parts * settings.cost_minor)
            return settings.sender, json.dumps(body | {"text": filled}).encode()
        return settings.sender, json.dumps(
            body | self._chat(touch, writing, template, filled, facts)
        ).encode()

    def _email(self, touch: Touch, person: Person, writing: EmailContent, filled: FilledEmail) -> tuple[str, bytes]:  # fmt: skip
        self.email = self.email or EmailSettings.load(self.session)
        settings = self.email
        mail = mail_for(self.session, touch, person, filled, writing, self.shop, self.now, settings)
        if settings.dkim_key and settings.dkim_domain:
            mail = signed(mail, settings.dkim_domain, settings.dkim_selector, settings.dkim_key)
        return return_path(touch, self.shop, settings), mail

    def _chat(
        self, touch: Touch, writing: ChatContent, template: CompiledShort, filled: str, facts: dict[str, object]
    ) -> dict[str, object]:  # fmt: skip
        last = self.session.scalar(
            select(func.max(Reply.at)).where(
                Reply.channel == "chat", Reply.address == (touch.address or ""), Reply.inward
            )
        )
        if touch.origin_kind not in TO_ONE and not conversation_open(last, self.now):
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


def _refusal_of_one(touch: Touch, care: SendFacts) -> str | None:
    if touch.origin_kind == PROOF:
        return None if touch.address else "no address"
    if care.deceased:
        return "deceased"
    if care.suppressed and touch.origin_kind != ANSWER:
        return "suppressed"
    return None if touch.address or care.address else "no address"


def return_path(touch: Touch, shop: Shop, settings: EmailSettings) -> str:
    """Each mail has its own (VERP), so that a report that comes back names the touch."""
    return f"bounce+{touch.token}@{settings.bounce_domain}" if settings.bounce_domain else shop.sender_email


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
