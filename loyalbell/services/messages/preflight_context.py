"""What a message leans on, gathered for its pre-flight."""

import re
from collections.abc import Sequence
from datetime import datetime

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from loyalbell.core.messages import content as c
from loyalbell.core.messages.merge_fields import fields_used
from loyalbell.core.messages.preflight import PreflightContext
from loyalbell.core.offers.terms import expires
from loyalbell.services.application import Application
from loyalbell.services.delivery.composing.merge_facts import MAKERS
from loyalbell.services.delivery.composing.rendering import look_of
from loyalbell.services.messages.field_coverage import missing, missing_everywhere
from loyalbell.services.offers.queries import terms_of
from loyalbell.services.settings.channels import GATEWAYS, LinkSettings
from loyalbell.services.settings.sender_address import is_confirmed
from loyalbell.storage.schema import (
    AttachedFile,
    CustomField,
    GalleryPicture,
    Offer,
    OpeningMessage,
    SavedBlock,
    Segment,
    Shop,
)

Writing = c.AnyWriting
OWN_PAGES = re.compile(r"^/(sign-up|(preferences|keep|view|u|offer|picture)/[^/]+)/?$")
COUNTED = frozenset(name for names, _ in MAKERS for name in names)


def preflight_context(
    application: Application,
    session: Session,
    writing: Writing,
    audience: Sequence[int] | None = None,
    marketing: bool = True,
    score: tuple[float, str] | None = None,
) -> PreflightContext:
    """``audience`` are ids of people; everyone on file where it is ``None``."""
    shop, links = session.get_one(Shop, 1), LinkSettings.load(session)
    given = {"shop_phone": links.phone, "booking_url": links.booking_url, "review_url": links.review_url}
    lacks, people, is_estimate = missing_fields(application, session, writing, audience)
    wanted = writing.attachments if isinstance(writing, c.EmailContent) else []
    attached = session.scalar(
        select(func.sum(func.length(AttachedFile.data))).where(AttachedFile.id.in_(wanted))
    )
    return PreflightContext(
        look=look_of(session, writing.letterhead) if isinstance(writing, c.EmailContent) else None,
        lacking=lacking(session, shop),
        set_links=frozenset(name for name, value in given.items() if value),
        own_fields=frozenset(session.scalars(select(CustomField.id))),
        offers=_offers(session, shop, application.clock.now()),
        pictures=dict(session.execute(select(GalleryPicture.id, GalleryPicture.alt)).all()),
        saved=frozenset(session.scalars(select(SavedBlock.id))),
        segments=frozenset(session.scalars(select(Segment.id))),
        openings=dict(session.execute(select(OpeningMessage.id, OpeningMessage.state)).all()),
        attached=int(attached or 0),
        missing=lacks,
        audience=people,
        is_estimate=is_estimate,
        own_page=lambda path: OWN_PAGES.match(path) is not None,
        public_url=shop.public_url,
        marketing=marketing,
        filter_score=score,
    )


def lacking(session: Session, shop: Shop) -> dict[str, tuple[str, ...]]:
    """By channel what it still lacks before anything can be sent on it, in plain words."""
    found: dict[str, tuple[str, ...]] = {"email": ()}
    if not shop.sender_email:
        found["email"] = ("There is no sender address. Set it in Settings.",)
    elif not shop.smtp_host:
        found["email"] = ("There is no mail server. Set it in Settings.",)
    elif not is_confirmed(session, shop):
        words = (
            f"Nobody has confirmed the sender’s address {shop.sender_email}. Settings, Channels sends a link"
            " to it."
        )
        found["email"] = (words,)
    for channel, group in GATEWAYS.items():
        settings = group.load(session)
        said = []
        if not settings.url:
            said.append(f"There is no {channel} network. Set it in Settings.")
        if not settings.sender:
            said.append(f"There is no sender for {channel}. Set it in Settings.")
        found[channel] = tuple(said)
    return found


def _offers(session: Session, shop: Shop, now: datetime) -> dict[int, str]:
    found = {}
    for offer in session.scalars(select(Offer)):
        until = expires(terms_of(offer), now, shop.zone)
        over = until is not None and until <= now
        why = "is archived" if offer.archived_at else "is over" if over else ""
        found[offer.id] = f"The offer “{offer.name}” {why}. Choose another." if why else ""
    return found


def missing_fields(
    application: Application, session: Session, writing: Writing, audience: Sequence[int] | None
) -> tuple[dict[str, int], int, bool]:
    """For how many of the audience each field of the writing is not on file; how many they are; and whether
    it is reckoned from a part of them.
    """
    asked = frozenset().union(*(fields_used(text) for _, text in c.texts_of(writing))) & COUNTED
    if not asked:
        return {}, len(audience or ()), False
    found = (
        missing_everywhere(application, asked)
        if audience is None
        else missing(application, session, audience, asked)
    )
    return {name: found.of(name) for name in asked}, found.people, found.is_estimate


def what_channels_lack(application: Application) -> dict[str, tuple[str, ...]]:
    """By channel what it still lacks before anything can be sent on it, in plain words."""
    with application.database.reading() as session:
        return lacking(session, session.get_one(Shop, 1))
