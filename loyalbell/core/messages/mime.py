"""An email as RFC 5322 text, with the refusal headers of RFC 2369 and RFC 8058."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from email.headerregistry import Address
from email.message import EmailMessage
from email.policy import SMTP
from email.utils import format_datetime

from loyalbell.core.messages.email_rendering import FilledEmail


@dataclass(frozen=True)
class Envelope:
    """Who an email is from and to. ``unsubscribe_url`` takes a one-click POST (RFC 8058)."""

    sender_name: str
    sender_email: str
    to_name: str
    to_email: str
    message_id: str
    date: datetime
    unsubscribe_url: str
    reply_to: str = ""


@dataclass(frozen=True)
class MailFile:
    """A file that goes with a mail. ``kind`` is its media type."""

    name: str
    kind: str
    data: bytes


def one_line(text: str) -> str:
    """``text`` without line breaks or other control characters, fit for a header."""
    if text.isprintable() and "  " not in text:
        return text.strip()
    return " ".join("".join(c if c.isprintable() else " " for c in text).split())


def make_mail(email: FilledEmail, envelope: Envelope, files: Sequence[MailFile] = ()) -> EmailMessage:
    """multipart/alternative, plain text first (RFC 2046 section 5.1.4); files beside it."""
    mail = EmailMessage(policy=SMTP)
    mail["From"] = _address(envelope.sender_name, envelope.sender_email)
    mail["To"] = _address(envelope.to_name, envelope.to_email)
    if envelope.reply_to:
        mail["Reply-To"] = envelope.reply_to
    mail["Subject"] = one_line(email.subject)
    mail["Date"] = format_datetime(envelope.date)
    mail["Message-ID"] = envelope.message_id
    mail["List-Unsubscribe"] = f"<{envelope.unsubscribe_url}>"
    mail["List-Unsubscribe-Post"] = "List-Unsubscribe=One-Click"
    mail.set_content(email.text)
    if email.html:
        mail.add_alternative(email.html, subtype="html")
    for file in files:
        main, _, sub = file.kind.partition("/")
        mail.add_attachment(
            file.data, maintype=main, subtype=sub or "octet-stream", filename=one_line(file.name)
        )
    return mail


def wire_address(email: str) -> str:
    """``email`` with its domain in ASCII (IDNA, RFC 3490), as mail servers take it.

    Raises ``UnicodeError`` for a domain that cannot be written so.
    """
    name, at_sign, domain = email.rpartition("@")
    return f"{name}{at_sign}{domain.encode('idna').decode('ascii')}"


def _address(name: str, email: str) -> Address:
    return Address(display_name=one_line(name), addr_spec=wire_address(email))
