"""Mail that machines send back: delivery reports (RFC 3464) and complaints (RFC 5965)."""

import re
from dataclasses import dataclass
from email.message import Message
from typing import Literal

from loyalbell.core.messages.incoming_mail import parsed

_STATUS = re.compile(r"\b([245])\.(\d{1,3})\.(\d{1,3})\b")
CAUSES = {
    "5.1.1": "there is no such mailbox",
    "5.1.2": "there is no such mail domain",
    "5.1.3": "the address is not written as an address",
    "5.1.6": "the mailbox has moved",
    "5.1.10": "the domain takes no mail",
    "5.2.1": "the mailbox is switched off",
    "5.2.2": "the mailbox is full",
    "4.2.2": "the mailbox is full",
    "5.2.3": "the message is too long for it",
    "4.4.1": "its mail server did not answer",
    "4.4.7": "it could not be delivered in time",
    "5.4.1": "its mail server did not answer",
    "5.7.1": "its mail server does not want this message",
    "4.7.1": "its mail server wants it later",
    "5.3.4": "the message is too long for it",
}


@dataclass(frozen=True)
class Bounce:
    """One recipient of a delivery report.

    ``status`` is an enhanced code (RFC 3463); *hard* means for good.
    """

    recipient: str
    action: str
    status: str
    words: str

    @property
    def hard(self) -> bool:
        """A mailbox or domain that is not there, moved or switched off.

        A full or unwilling one may come round.
        """
        return self.action == "failed" and lasting(self.status)


def lasting(status: str) -> bool:
    """Whether a permanent refusal is about the address itself (5.1.x, 5.2.1) or gives no other reason (5.0.0,
    RFC 3463).
    """
    return status.startswith("5.1.") or status in ("5.2.1", "5.0.0")


@dataclass(frozen=True)
class Report:
    """``message_id`` is that of the mail it is about, where it says so."""

    kind: Literal["bounce", "complaint"]
    message_id: str
    bounces: tuple[Bounce, ...] = ()


def say_status(status: str, diagnostic: str = "") -> str:
    """The cause in plain words, with the code behind it."""
    words = CAUSES.get(status) or ("it was refused" if status.startswith("5") else "it was put off")
    return f"{words} ({status})" if status else words


def status_in(text: str) -> str:
    """The enhanced code in a server's reply; empty where it gives none."""
    found = _STATUS.search(text)
    return ".".join(found.groups()) if found else ""


def read_report(raw: bytes) -> Report | None:
    """The report in a mail, or ``None`` where it is none."""
    mail = parsed(raw)
    if mail.get_content_type() != "multipart/report":
        return None
    kind = str(mail.get_param("report-type") or "").lower()
    about = _about(mail)
    if kind == "feedback-report":
        return Report("complaint", about)
    if kind != "delivery-status":
        return None
    for part in mail.walk():
        if part.get_content_type() == "message/delivery-status":
            groups = [one for one in part.get_payload() if isinstance(one, Message)]
            found = [_bounce(group) for group in groups if group.get("Final-Recipient")]
            return Report("bounce", about, tuple(found)) if found else None
    return None


def _bounce(group: Message) -> Bounce:
    def last(name: str) -> str:
        return " ".join(str(group.get(name, "")).split()).partition(";")[2].strip()

    status = str(group.get("Status", "")).split("(")[0].strip()
    action = str(group.get("Action", "")).strip().lower()
    diagnostic = last("Diagnostic-Code")
    return Bounce(last("Final-Recipient").strip("<>"), action, status, say_status(status, diagnostic))


def _about(mail: Message) -> str:
    """The Message-ID of the mail that came back with the report."""
    for part in mail.walk():
        if part.get_content_type() == "message/rfc822":
            inner = part.get_payload()
            first = inner[0] if isinstance(inner, list) and inner else None
            if isinstance(first, Message) and first.get("Message-ID"):
                return str(first["Message-ID"]).strip()
        if part.get_content_type() == "text/rfc822-headers":
            found = re.search(r"^Message-ID:\s*(\S+)", str(part.get_payload()), re.IGNORECASE | re.MULTILINE)
            if found:
                return found[1]
    return ""
