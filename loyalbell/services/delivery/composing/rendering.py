"""Making the one message that a person gets: compiled once for a version, filled with their facts."""

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from functools import lru_cache
from typing import Any

import numpy as np
from sqlalchemy import select
from sqlalchemy.orm import Session

from loyalbell.core.history.money import say_money
from loyalbell.core.messages import content as c
from loyalbell.core.messages.email_rendering import (
    CompiledEmail,
    FilledEmail,
    PictureFact,
    RenderContext,
    compile_email,
    fill_email,
    link_name,
)
from loyalbell.core.messages.item_lists import Shelf, Stock, named_items
from loyalbell.core.messages.mail_bytes import mail_bytes
from loyalbell.core.messages.merge_fields import fields_used, fill
from loyalbell.core.messages.mime import Envelope, make_mail
from loyalbell.core.messages.short_rendering import CompiledShort, compile_short, fill_short, offers_named
from loyalbell.core.messages.spoken_dates import say_date
from loyalbell.core.policy.origins import SEQUENCE
from loyalbell.core.segments.evaluation import evaluate
from loyalbell.core.segments.model import Rule, RuleProblem
from loyalbell.services.application import Application
from loyalbell.services.background_work import ResultCache
from loyalbell.services.delivery.composing.facts_at_hand import facts_at_hand, put_over
from loyalbell.services.delivery.composing.files_of_mail import files_of
from loyalbell.services.delivery.composing.merge_facts import field_facts
from loyalbell.services.delivery.page_tokens import KEEP, PREFERENCES, VIEW, page_token
from loyalbell.services.offers import commands as offer_commands
from loyalbell.services.offers import queries as offer_queries
from loyalbell.services.rhythm.queries import next_day, rhythms_of
from loyalbell.services.segments.queries import saved_rules
from loyalbell.services.settings.channels import EmailSettings, LinkSettings
from loyalbell.storage.schema import (
    Delivery,
    FieldValue,
    GalleryPicture,
    Item,
    Letterhead,
    MessageVersion,
    Offer,
    Person,
    SavedBlock,
    Shop,
)

Compiled = CompiledEmail | CompiledShort
Filled = FilledEmail | str
FEW_SAID = 3
NO_LETTERHEAD = c.LetterheadLook(header="", footer="", ink="#1f2a2b", accent="#173b39")


_COMPILED = ResultCache()
"""Compiled letters are the same for every book, so that they are kept for the program, not for one
application.
"""


def compile_writing(writing: c.AnyWriting, context: RenderContext) -> Compiled:
    return compile_email(writing, context) if isinstance(writing, c.EmailContent) else compile_short(writing)


def compiled(writing: c.AnyWriting, context: RenderContext) -> Compiled:
    """Kept for as long as neither the writing nor what it leans on changes."""
    key = (writing.model_dump_json(), repr(context))
    return _COMPILED.get("compiled", key, lambda: compile_writing(writing, context), 256)


def look_of(session: Session, letterhead_id: int | None) -> c.LetterheadLook | None:
    letterhead = session.get(Letterhead, letterhead_id) if letterhead_id else None
    if letterhead is None:
        return None
    shop = session.get(Shop, 1)

    def url(picture_id: int | None) -> str:
        picture = session.get(GalleryPicture, picture_id) if picture_id else None
        return picture_url(shop, picture.token) if picture and shop else ""

    return c.LetterheadLook(
        header=letterhead.header,
        footer=letterhead.footer,
        ink=letterhead.ink,
        accent=letterhead.accent,
        paper=letterhead.paper,
        card=letterhead.card,
        font=letterhead.font,
        width=letterhead.width,
        logo=url(letterhead.logo_id),
        dark_logo=url(letterhead.dark_logo_id),
        link=letterhead.link,
    )


def picture_url(shop: Shop, token: str) -> str:
    return f"{shop.public_url}/picture/{token}"


def render_context_for(
    session: Session, shop: Shop, writing: c.AnyWriting, bare: bool = False
) -> RenderContext:
    """What a writing leans on. ``bare``: an answer to one person."""
    if not isinstance(writing, c.EmailContent) or bare:
        return RenderContext(NO_LETTERHEAD, bare=bare)
    look = look_of(session, writing.letterhead) or NO_LETTERHEAD
    blocks = list(c.every_block(writing.blocks))
    kept = {block.saved for block in blocks if isinstance(block, c.Saved)}
    saved = {
        row.id: read_block(row.block)
        for row in session.scalars(select(SavedBlock).where(SavedBlock.id.in_(kept)))
    }
    wanted = {
        one.picture for one in [*blocks, *c.every_block(list(saved.values()))] if isinstance(one, c.Picture)
    }
    pictures = {
        row.id: PictureFact(picture_url(shop, row.token), row.width, row.alt)
        for row in session.execute(
            select(GalleryPicture.id, GalleryPicture.token, GalleryPicture.width, GalleryPicture.alt).where(
                GalleryPicture.id.in_(wanted)
            )
        )
    }
    return RenderContext(look, pictures, saved, tuple(LinkSettings.load(session).social))


def read_block(data: Mapping[str, Any]) -> c.Block:
    """Raises pydantic's ``ValidationError``."""
    return c.EmailContent.model_validate({"blocks": [data]}).blocks[0]


def newest_version(session: Session, message_id: int) -> MessageVersion:
    query = select(MessageVersion).where(MessageVersion.message_id == message_id)
    return session.scalars(query.order_by(MessageVersion.number.desc()).limit(1)).one()


def compiled_version(
    session: Session, shop: Shop, version_id: int, channel: str, language: str
) -> Compiled | None:
    """Of a version what somebody of a language gets on a channel; ``None`` where it says nothing there."""
    writing = writing_of(session, version_id, channel, language)
    return None if writing is None else compiled(writing, render_context_for(session, shop, writing))


def writing_of(session: Session, version_id: int, channel: str, language: str) -> c.AnyWriting | None:
    return c.read_content(session.get_one(MessageVersion, version_id).content).find(channel, language)


@lru_cache(maxsize=512)
def _asked(template: str) -> frozenset[str]:
    return frozenset(fields_used(template))


def asked_of(compiled: Compiled) -> frozenset[str]:
    """The names of the fields in it."""
    parts = (
        (compiled.subject, compiled.html, compiled.text)
        if isinstance(compiled, CompiledEmail)
        else (compiled.text,)
    )
    return frozenset().union(*(_asked(part) for part in (*parts, *compiled.links)))


def offers_in(compiled: Compiled) -> tuple[int, ...]:
    """Ids of every offer it names, by a block or by a field."""
    texts = (
        (compiled.subject, compiled.html, compiled.text)
        if isinstance(compiled, CompiledEmail)
        else (compiled.text,)
    )
    named = [offer for text in texts for offer in offers_named(text)]
    return tuple(dict.fromkeys([*compiled.offers, *named]))


@dataclass
class ContentFiller:
    """Facts of people for a compiled message, at one instant."""

    application: Application
    session: Session
    shop: Shop
    now: datetime

    def facts(self, people: Sequence[Person], compiled: Compiled) -> dict[int, dict[str, object]]:
        """Everything but what belongs to one touch: fields, which blocks are shown, lists of items."""
        asked = asked_of(compiled)
        found = field_facts(self.session, people, self.shop, self.now, asked)
        if "next_visit_on" in asked:
            for person_id, rhythm in rhythms_of(self.application, [person.id for person in people]).items():
                found[person_id]["next_visit_on"] = say_date(next_day(self.application, rhythm))
        for at, rule in enumerate(compiled.rules):
            shown = self._meeting(rule, [person.id for person in people])
            for person in people:
                found[person.id][f"show_{at}"] = person.id in shown
        if compiled.item_lists:
            self._add_items(compiled.item_lists, people, found)
        return found

    def at_hand(self, deliveries: Sequence[Delivery], compiled: Compiled) -> dict[int, dict[str, object]]:
        """By delivery the facts of the order, appointment, membership or visit that it is about."""
        return facts_at_hand(self.session, deliveries, self.shop, self.now, asked_of(compiled))

    def facts_of(self, delivery: Delivery, person: Person, compiled: Compiled) -> dict[str, object]:
        """Everything that one delivery is filled with, but its links and codes."""
        own = self.at_hand([delivery], compiled).get(delivery.id, {})
        return put_over(self.facts([person], compiled)[person.id], own)

    def _meeting(self, rule: Rule, ids: Collection[int]) -> set[int]:
        snapshot = self.application.snapshot()
        try:
            mask = evaluate(rule, snapshot, self.now, saved_rules(self.session))
        except RuleProblem:
            return set()
        return set(snapshot.people.ids[mask & np.isin(snapshot.people.ids, list(ids))].tolist())

    def _add_items(
        self, lists: Sequence[c.Items], people: Sequence[Person], found: dict[int, dict[str, object]]
    ) -> None:
        shelf, cards = self._shelf(), _cards(self.session, self.shop)
        numbers = dict(
            zip(
                [one.id for one in people],
                self.application.snapshot()
                .number_of(np.array([one.id for one in people], dtype=np.int64))
                .tolist(),
                strict=True,
            )
        )
        own = self._raw_values({one.field for one in lists if one.list == "field" and one.field}, people)
        for at, block in enumerate(lists):
            for person in people:
                value = own.get((person.id, block.field or 0))
                chosen = shelf.choose(
                    block.list, numbers[person.id], block.most, value, block.fallback == "best"
                )
                found[person.id][f"items_{at}"] = [
                    cards[one.item] | {"why": one.why} for one in chosen if one.item in cards
                ]

    def _raw_values(self, fields: Collection[int], people: Sequence[Person]) -> dict[tuple[int, int], object]:
        """By person and field what is on file, as it is."""
        if not fields:
            return {}
        query = select(FieldValue.person_id, FieldValue.field_id, FieldValue.value).where(
            FieldValue.person_id.in_([one.id for one in people]),
            FieldValue.field_id.in_(list(fields)),
            FieldValue.until.is_(None),
        )
        return {(person, field): value for person, field, value in self.session.execute(query)}

    def unknown_in(self, field: int) -> tuple[int, int, list[str]]:
        """How many people have something in a field that names no item, how many have anything in it, and the
        first few of those pieces.
        """
        keys = self._shelf().by_name
        query = select(FieldValue.value).where(FieldValue.field_id == field, FieldValue.until.is_(None))
        lacking, filled, said = 0, 0, dict[str, None]()
        for value in self.session.scalars(query):
            found, unknown = named_items(value, keys)
            filled += bool(found or unknown)
            lacking += bool(unknown)
            if len(said) < FEW_SAID:
                said |= dict.fromkeys(unknown)
        return lacking, filled, list(said)[:FEW_SAID]

    def _shelf(self) -> Shelf:
        snapshot = self.application.snapshot()
        return _shelf(self.application, snapshot.version, int(self.now.timestamp()) // 3_600)


def _shelf(application: Application, version: int, hour: int) -> Shelf:
    """One an hour and state of the book."""

    def work() -> Shelf:
        query = select(Item.id, Item.category, Item.lasts_days, Item.in_stock, Item.external_id)
        with application.database.reading() as session:
            stock = {
                row.id: Stock(row.category or "", row.lasts_days, row.in_stock, row.external_id or "")
                for row in session.execute(query)
            }
        return Shelf(application.snapshot(), int(application.clock.now().timestamp()), stock)

    return application.cache.of_version("shelf", version, hour, work, 2)


def _cards(session: Session, shop: Shop) -> dict[int, dict[str, str]]:
    """What a card says of each item; ``url`` is completed for a touch."""
    own = dict(
        session.execute(
            select(Item.id, GalleryPicture.token).join(GalleryPicture, GalleryPicture.id == Item.picture_id)
        ).all()
    )
    return {
        item.id: {
            "id": str(item.id),
            "name": item.name,
            "price": ""
            if item.price_minor is None
            else say_money(item.price_minor, shop.currency, country=shop.country),
            "picture": picture_url(shop, own[item.id]) if item.id in own else item.picture_url or "",
            "url": item.link or shop.public_url,
        }
        for item in session.scalars(select(Item))
    }


def own_links(session: Session, shop: Shop, token: str) -> dict[str, str]:
    """The links that belong to one touch. Pages that show or change what is on file have tokens of their own
    (``page_tokens``).
    """
    own = {purpose: page_token(session, purpose, token) for purpose in (PREFERENCES, KEEP, VIEW)}
    return {
        "unsubscribe_url": unsubscribe_url(shop, token),
        "preferences_url": f"{shop.public_url}/preferences/{own[PREFERENCES]}",
        "keep_url": f"{shop.public_url}/keep/{own[KEEP]}",
        "browser_url": f"{shop.public_url}/view/{own[VIEW]}",
    }


OWN_LINKS = ("unsubscribe_url", "preferences_url", "keep_url", "browser_url")


def unsubscribe_url(shop: Shop, token: str) -> str:
    return f"{shop.public_url}/u/{token}"


Codes = Mapping[int, Mapping[str, object]]


def run_of(sequence_id: int, key: str) -> str:
    """The name of a person's way through a sequence, in which they get one code of each offer."""
    return f"{sequence_id} {key}"


def codes_for(
    session: Session, compiled: Compiled, deliveries: Sequence[Delivery], shop: Shop, now: datetime
) -> Codes:
    """By delivery what its offers say, each with the person's own code.

    A code that is over by now is left out, so that the message is withheld: what it says would not hold.
    """
    found: dict[int, dict[str, object]] = {delivery.id: {} for delivery in deliveries}
    receivers: dict[int | None, offer_commands.Receiver] = {}
    for delivery in deliveries:
        of_sequence = delivery.origin_kind == SEQUENCE
        run = run_of(delivery.origin_id, delivery.occurrence) if of_sequence else ""
        receivers[delivery.id] = offer_commands.Receiver(delivery.person_id, run)
    for offer_id in offers_in(compiled):
        offer = session.get(Offer, offer_id)
        for delivery_id, code in offer_commands.issue_many(session, shop, offer_id, receivers, now).items():
            assert offer is not None and delivery_id is not None
            if not offer_queries.why_not(code, now, shop.zone):
                said = offer_queries.facts(session, shop, offer, code, now)
                found[delivery_id][f"offer_{offer_id}"] = said
    return found


def fill_for_delivery(
    session: Session,
    compiled: Compiled,
    facts: Mapping[str, object],
    delivery: Delivery,
    shop: Shop,
    now: datetime,
    codes: Codes | None = None,
) -> Filled:
    """With followed links, the pixel, the person's own codes and refusal link. Raises ``FieldProblem``.

    ``codes`` are those of a whole batch, where they were given out before.
    """
    short = "s" if delivery.channel == "text" else "l"
    links = {
        link_name(at): f"{shop.public_url}/{short}/{delivery.token}/{at}" for at in range(len(compiled.links))
    }
    if codes is None:
        codes = codes_for(session, compiled, [delivery], shop, now)
    items = {
        name: [card | {"url": f"{shop.public_url}/l/{delivery.token}/i{card['id']}"} for card in cards]
        for name, cards in facts.items()
        if name.startswith("items_") and isinstance(cards, list)
    }
    own = {
        **own_links(session, shop, delivery.token),
        "open_pixel": f"{shop.public_url}/o/{delivery.token}.gif",
    }
    return _fill(compiled, {**facts, **links, **codes.get(delivery.id, {}), **items, **own})


def fill_for_preview(
    session: Session,
    compiled: Compiled,
    facts: Mapping[str, object],
    shop: Shop,
    now: datetime,
    marks: Mapping[str, str] | None = None,
) -> Filled:
    """With plain links (or to the ``marks``, by their names), sample codes and without a pixel.

    Raises ``FieldProblem``.
    """
    own = dict.fromkeys(OWN_LINKS, "#") | {"open_pixel": ""}
    links: dict[str, object] = {
        link_name(at): fill(url, {**facts, **own}) for at, url in enumerate(compiled.links)
    }
    for offer_id in offers_in(compiled):
        offer = session.get(Offer, offer_id)
        if offer is not None:
            links[f"offer_{offer_id}"] = offer_queries.facts(session, shop, offer, None, now)
    return _fill(compiled, {**facts, **links, **own, **(marks or {})})


def _fill(compiled: Compiled, facts: Mapping[str, object]) -> Filled:
    if isinstance(compiled, CompiledEmail):
        return fill_email(compiled, facts)
    return fill_short(compiled, facts)


def message_id(delivery: Delivery, shop: Shop) -> str:
    """Always the same for one message, so that a network can be asked about it."""
    return f"<{delivery.message_key}@{shop.sender_email.partition('@')[2] or 'localhost'}>"


def _reply_address(delivery: Delivery, settings: EmailSettings) -> str:
    """Answers come back to an address of the touch's own, where mail for that domain is taken in."""
    return f"reply+{delivery.message_key}@{settings.bounce_domain}" if settings.bounce_domain else ""


def mail_for(
    session: Session,
    delivery: Delivery,
    person: Person,
    filled: FilledEmail,
    writing: c.EmailContent,
    shop: Shop,
    now: datetime,
    settings: EmailSettings,
) -> bytes:
    has_files = writing.attachments or writing.receipt or writing.care_sheets
    files = files_of(session, writing, delivery, person, shop, now) if has_files else []
    envelope = Envelope(
        sender_name=writing.sender_name or shop.sender_name,
        sender_email=shop.sender_email,
        to_name=person.name,
        to_email=delivery.address or "",
        message_id=message_id(delivery, shop),
        date=now,
        unsubscribe_url=unsubscribe_url(shop, delivery.token),
        reply_to=writing.reply_to or settings.reply_to or _reply_address(delivery, settings),
    )
    if files or not envelope.to_email.isascii():
        return make_mail(filled, envelope, files).as_bytes()
    return mail_bytes(filled, envelope)
