"""From a message version to the mail one person gets: compiled once, filled per person."""

from collections.abc import Mapping
from datetime import datetime
from functools import lru_cache

from sqlalchemy.orm import Session

from loyalbell.core.messages.content import EmailContent, LetterheadLook, read_content
from loyalbell.core.messages.email import CompiledEmail, FilledEmail, compile_email, fill_email, link_name
from loyalbell.core.messages.mail import Envelope, make_mail
from loyalbell.store.tables import Letterhead, MessageVersion, Person, Shop, Touch

NO_LETTERHEAD = LetterheadLook(header="", footer="", ink="#1f2a2b", accent="#173b39")


@lru_cache(maxsize=64)
def _compiled(content: str, look: LetterheadLook) -> CompiledEmail:
    return compile_email(EmailContent.model_validate_json(content), look)


def compiled(content: EmailContent, look: LetterheadLook | None) -> CompiledEmail:
    return _compiled(content.model_dump_json(), look or NO_LETTERHEAD)


def look_of(session: Session, letterhead_id: int | None) -> LetterheadLook | None:
    letterhead = session.get(Letterhead, letterhead_id) if letterhead_id else None
    if letterhead is None:
        return None
    return LetterheadLook(
        header=letterhead.header, footer=letterhead.footer, ink=letterhead.ink, accent=letterhead.accent
    )


def compiled_version(session: Session, version_id: int) -> CompiledEmail:
    content = read_content(session.get_one(MessageVersion, version_id).content)
    return compiled(content, look_of(session, content.letterhead))


def unsubscribe_url(shop: Shop, token: str) -> str:
    return f"{shop.public_url}/u/{token}"


def fill_for_touch(
    email: CompiledEmail, facts: Mapping[str, object], touch: Touch, shop: Shop
) -> FilledEmail:
    """With tracked links, the pixel and the person's own refusal link. Raises ``FieldProblem``."""
    links = {link_name(at): f"{shop.public_url}/l/{touch.token}/{at}" for at in range(len(email.links))}
    own = {
        "unsubscribe_url": unsubscribe_url(shop, touch.token),
        "open_pixel": f"{shop.public_url}/o/{touch.token}.gif",
    }
    return fill_email(email, {**facts, **links, **own})


def fill_for_preview(email: CompiledEmail, facts: Mapping[str, object]) -> FilledEmail:
    """With plain links and without a pixel. Raises ``FieldProblem``."""
    links = {link_name(at): url for at, url in enumerate(email.links)}
    return fill_email(email, {**facts, **links, "unsubscribe_url": "#", "open_pixel": ""})


def message_id(touch: Touch, shop: Shop) -> str:
    """Always the same for one touch, so that a mail can be told again."""
    return f"<{touch.token}@{shop.sender_email.partition('@')[2]}>"


def mail_for(touch: Touch, person: Person, filled: FilledEmail, shop: Shop, now: datetime) -> bytes:
    envelope = Envelope(
        sender_name=shop.sender_name,
        sender_email=shop.sender_email,
        to_name=person.name,
        to_email=touch.address or "",
        message_id=message_id(touch, shop),
        date=now,
        unsubscribe_url=unsubscribe_url(shop, touch.token),
    )
    return make_mail(filled, envelope).as_bytes()
