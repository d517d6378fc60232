"""Mails of the program itself, to whoever works with it or asks for one: plain words from the shop."""

from datetime import UTC, datetime
from email.message import EmailMessage
from email.policy import SMTP
from email.utils import format_datetime, formataddr

from loyalbell.channels.sender import Outgoing
from loyalbell.core.messages.mime import one_line, wire_address
from loyalbell.storage.schema import Shop


def own_mail(
    shop: Shop, to: str, subject: str, words: str, key: str, now: datetime, number: int = 0
) -> Outgoing:
    """``key`` makes its Message-ID, ``number`` is what its outcome is known by."""
    mail = EmailMessage(policy=SMTP)
    mail["From"] = formataddr((one_line(shop.sender_name), shop.sender_email))
    mail["To"] = wire_address(to)
    mail["Subject"] = one_line(subject)
    mail["Date"] = format_datetime(now.astimezone(UTC))
    mail["Message-ID"] = message_id = f"<{key}@{shop.sender_email.partition('@')[2]}>"
    mail["Auto-Submitted"] = "auto-generated"
    mail.set_content(words)
    return Outgoing(number, shop.sender_email, to, message_id, mail.as_bytes())
