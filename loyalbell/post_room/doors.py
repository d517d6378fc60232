"""The made-up people at work: they fetch pictures, press links, refuse, answer and complain through our own
doors.
"""

import json
import re
import smtplib
import time
import uuid
from collections.abc import Callable
from dataclasses import dataclass
from datetime import datetime
from email.message import EmailMessage
from email.policy import SMTP
from html.parser import HTMLParser

import httpx
import structlog

from loyalbell.channels.webhook import signature
from loyalbell.core.channels import CHANNELS
from loyalbell.post_room.behaviour import ANSWERS, Arrived, reactions
from loyalbell.post_room.store import Mail, PostRoomStore, Reaction, Short

log = structlog.get_logger()
_URL = re.compile(r"https?://\S+")
_PIXEL = re.compile(r"/o/[0-9a-zA-Z]+\.gif")
Buy = Callable[[str, str, int], None]


@dataclass(frozen=True)
class Doors:
    """Where our own doors are: customers' links, the mail that comes in, and the secrets of the networks.

    ``buy(channel, address, seed)`` rings up an order for whoever has the address.
    """

    mail_host: str
    mail_port: int
    public_url: Callable[[], str]
    secret: Callable[[str], str]
    buy: Buy


class _Links(HTMLParser):
    def __init__(self) -> None:
        super().__init__()
        self.links: list[str] = []
        self.pixel = ""

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        given = dict(attrs)
        if tag == "a" and "/l/" in (given.get("href") or ""):
            self.links.append(given["href"] or "")
        if tag == "img" and _PIXEL.search(given.get("src") or ""):
            self.pixel = given["src"] or ""


def _links_of(mail: Mail) -> _Links:
    found = _Links()
    body = mail.parsed.get_body(("html",)) if mail.parsed else None
    if body is not None:
        found.feed(str(body.get_content()))
    return found


class People:
    """Plans reactions to what arrived, and performs those whose time has come."""

    def __init__(self, store: PostRoomStore, doors: Doors) -> None:
        self.store, self.doors = store, doors
        self._http = httpx.Client(timeout=10, follow_redirects=False, trust_env=False)

    def look(self) -> int:
        """Plans reactions to everything new. Returns to how many messages."""
        seen = 0
        for channel in CHANNELS:
            for about, at, recipient in self.store.unseen(channel):
                arrived = self._arrived(channel, about, at, recipient)
                if arrived is not None:
                    self.store.plan(channel, about, reactions(arrived))
                seen += 1
        return seen

    def _arrived(self, channel: str, about: int, at: int, recipient: str) -> Arrived | None:
        if channel == "email":
            mail = self.store.open(about)
            if mail is None or mail.subject.startswith(("Proof: ", "Re: ", "Confirm")):
                return None
            return Arrived(channel, about, recipient, at, len(_links_of(mail).links))
        short = self.store.open_short(about)
        if short is None:
            return None
        return Arrived(
            channel,
            about,
            recipient,
            at,
            len(_URL.findall(str(short.body.get("text", "")))),
            short.body.get("replies") or [],
        )

    def act(self, now: datetime) -> int:
        """Performs what is due, the earliest first. Returns how many."""
        due = self.store.due(int(now.timestamp()))
        for reaction in due:
            try:
                self._perform(reaction)
            except (httpx.HTTPError, OSError, smtplib.SMTPException) as problem:
                log.warning("a made-up person could not act", kind=reaction.kind, problem=str(problem))
            self.store.settle(reaction.id)
        return len(due)

    def _perform(self, reaction: Reaction) -> None:
        if reaction.channel == "email":
            mail = self.store.open(reaction.about)
            if mail is not None:
                self._with_mail(mail, reaction.kind)
            return
        short = self.store.open_short(reaction.about)
        if short is not None:
            self._with_short(short, reaction)

    def _with_mail(self, mail: Mail, kind: str) -> None:
        what, _, number = kind.partition(":")
        links = _links_of(mail)
        if what in ("fetched", "opened") and links.pixel:
            agent = "PictureFetcher/1.0 (prefetch)" if what == "fetched" else "Mozilla/5.0 (mail reader)"
            self._get(links.pixel, agent)
        elif what == "clicked" and links.links:
            self._get(links.links[int(number) % len(links.links)], "Mozilla/5.0")
        elif what == "refused" and mail.parsed is not None:
            url = str(mail.parsed["List-Unsubscribe"] or "").strip("<>")
            self._http.post(url, data={"List-Unsubscribe": "One-Click"})
        elif what == "bought":
            self.doors.buy("email", mail.recipient, mail.id)
        elif what in ("answered", "auto"):
            self._write_back(mail, int(number or 0), what == "auto")
        elif what in ("bounced-hard", "bounced-soft", "complained"):
            self._report(mail, what)

    def _get(self, url: str, agent: str) -> None:
        self._http.get(url, headers={"User-Agent": agent})

    def _send(self, sender: str, recipient: str, raw: bytes) -> None:
        with smtplib.SMTP(self.doors.mail_host, self.doors.mail_port, timeout=10) as server:
            server.sendmail(sender, [recipient], raw)

    def _write_back(self, mail: Mail, number: int, machine: bool) -> None:
        assert mail.parsed is not None
        answer = EmailMessage(policy=SMTP)
        to = str(mail.parsed["Reply-To"] or mail.parsed["From"])
        answer["From"], answer["To"] = mail.recipient, to
        answer["Subject"] = f"{'Automatic reply' if machine else 'Re'}: {mail.subject}"
        answer["Message-ID"] = (
            f"<{uuid.uuid5(uuid.NAMESPACE_URL, f'{mail.id}-{number}-{machine}').hex}@people.example>"
        )
        answer["In-Reply-To"] = str(mail.parsed["Message-ID"])
        if machine:
            answer["Auto-Submitted"] = "auto-replied"
        words = "I am away until Monday." if machine else ANSWERS[number]
        answer.set_content(f"{words}\n\nOn that day {to} wrote:\n> {mail.subject}\n")
        self._send(mail.recipient, str(mail.parsed["Reply-To"] or mail.sender), answer.as_bytes())

    def _report(self, mail: Mail, what: str) -> None:
        """A delivery report (RFC 3464) or a complaint (RFC 5965)."""
        if what == "complained":
            kind, fields = (
                "feedback-report",
                "Feedback-Type: abuse\r\nUser-Agent: PostRoom/1\r\nVersion: 1\r\n",
            )
            part = "message/feedback-report"
        else:
            status = "5.1.1" if what == "bounced-hard" else "4.2.2"
            kind, part = "delivery-status", "message/delivery-status"
            fields = (
                "Reporting-MTA: dns; post-room.example\r\n\r\nFinal-Recipient: rfc822;"
                f" {mail.recipient}\r\nAction: failed\r\nStatus: {status}\r\nDiagnostic-Code: smtp;"
                f" {'550' if status[0] == '5' else '452'} {status}\r\n"
            )
        assert mail.parsed is not None
        raw = (
            f"From: <postmaster@post-room.example>\r\nTo: <{mail.sender}>\r\nSubject: Report\r\nMIME-Version:"
            " 1.0\r\n"
            f'Content-Type: multipart/report; report-type={kind}; boundary="b"\r\n\r\n'
            "--b\r\nContent-Type: text/plain\r\n\r\nA report.\r\n--b\r\nContent-Type:"
            f" {part}\r\n\r\n{fields}\r\n"
            f"--b\r\nContent-Type: message/rfc822\r\n\r\nMessage-ID: {mail.parsed['Message-ID']}\r\nSubject:"
            " x\r\n\r\nx\r\n--b--\r\n"
        )
        self._send("", mail.sender, raw.encode())

    def _with_short(self, short: Short, reaction: Reaction) -> None:
        what, _, number = reaction.kind.partition(":")
        if what in ("delivered", "failed"):
            self._call(
                short,
                {
                    "type": what,
                    "id": short.message_id,
                    "permanent": what == "failed",
                    "reason": "number not in use",
                },
            )
        elif what == "clicked":
            links = _URL.findall(str(short.body.get("text", "")))
            if links:
                self._get(links[int(number) % len(links)].rstrip(".,;:!?)"), "Mozilla/5.0")
        elif what == "bought":
            self.doors.buy(short.channel, short.recipient, short.id)
        else:
            replies = short.body.get("replies") or []
            words = {"stop": "STOP", "pressed": replies[int(number)] if what == "pressed" else ""}.get(what)
            self._call(
                short,
                {
                    "type": "received",
                    "id": f"in-{short.channel}-{short.id}-{reaction.id}",
                    "from": short.recipient,
                    "text": words or ANSWERS[int(number or 0)],
                },
            )

    def _call(self, short: Short, body: dict[str, object]) -> None:
        """A signed call of the network."""
        message, at, text = f"msg_{uuid.uuid4().hex}", int(time.time()), json.dumps(body)
        signed = signature(self.doors.secret(short.channel), message, at, text)
        headers = {"webhook-id": message, "webhook-timestamp": str(at), "webhook-signature": signed}
        self._http.post(f"{self.doors.public_url()}/callbacks/{short.channel}", content=text, headers=headers)
