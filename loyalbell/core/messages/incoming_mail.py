"""One mail that came in, read within bounds: whatever somebody sends, it takes no longer than a blink.

Only the beginning of a mail is read; what a person writes stands there. Anything odd leaves less to read,
never an error.
"""

import hashlib
import html
import re
import string
from collections.abc import Iterator
from contextlib import suppress
from dataclasses import dataclass
from email.header import decode_header, make_header
from email.message import Message
from email.parser import BytesParser
from email.utils import getaddresses

from loyalbell.core.messages.reply_keywords import is_automatic

MOST_BYTES = 65_536
"""Of a mail so many are read; attachments come after the words."""
MOST_PARTS_WITHIN_PARTS = 8
MOST_HEADER = 2_000
MOST_CONTENT_TYPE = 1_000
MOST_WORDS = 20_000
_CONTENT_TYPE = re.compile(rb"^content-type:.*(?:\r?\n[ \t].*)*", re.IGNORECASE | re.MULTILINE)
_CHARSET = re.compile(r"charset\s*=\s*\"?([\w.:-]{1,40})", re.IGNORECASE)
_CHARSETS = re.compile(
    r"^(us-?ascii|utf-?8|latin-?1|iso-8859-\d+|windows-\d+|cp\d+|koi8-[ru]|shift[_-]jis|euc-(jp|kr)|"
    r"iso-2022-jp|gb(k|2312|18030)|big5)$",
    re.IGNORECASE,
)
_WITHIN = re.compile(rb"boundary|message/rfc822", re.IGNORECASE)
_TAG = re.compile(r"/?([a-z][a-z0-9]{0,20})", re.IGNORECASE)
_ENDS_LINE = {
    "br",
    "p",
    "div",
    "tr",
    "li",
    "ul",
    "ol",
    "table",
    "blockquote",
    "h1",
    "h2",
    "h3",
    "h4",
    "h5",
    "h6",
}
_SMALL = str.maketrans(string.ascii_uppercase, string.ascii_lowercase)
_NOT_SAID = {"script", "style", "title"}
_SPACES = re.compile(r"[ \t\xa0]+")
MACHINE_HEADERS = ("Auto-Submitted", "X-Autoreply", "X-Autorespond", "X-Auto-Response-Suppress", "Precedence")


@dataclass(frozen=True)
class IncomingMail:
    """``sender`` is an address in small letters, or empty; ``network_id`` tells the mail from others."""

    sender: str
    subject: str
    words: str
    is_automatic: bool
    network_id: str


def parsed(raw: bytes) -> Message:
    """The mail's structure, of its beginning; a mail of too many parts within parts has none."""
    start = _CONTENT_TYPE.sub(lambda found: found[0][:MOST_CONTENT_TYPE], raw[:MOST_BYTES])
    if sum(1 for _ in _WITHIN.finditer(start)) > MOST_PARTS_WITHIN_PARTS:
        start = (
            start.partition(b"\r\n\r\n" if b"\r\n\r\n" in start else b"\n\n")[0][:MOST_HEADER] + b"\r\n\r\n"
        )
    return BytesParser().parsebytes(start)


def read_mail(raw: bytes) -> IncomingMail:
    """Who writes, about what, in which words."""
    mail = parsed(raw)
    subject = header_of(mail, "Subject")
    machine = {name: header_of(mail, name) for name in MACHINE_HEADERS if mail.get(name) is not None}
    return IncomingMail(
        _sender(header_of(mail, "From")),
        subject,
        _words(mail),
        is_automatic(machine, subject),
        header_of(mail, "Message-ID").strip() or hashlib.sha256(raw).hexdigest(),
    )


def _sender(header: str) -> str:
    try:
        found = [address for _, address in getaddresses([header]) if "@" in address]
    except RecursionError:  # comments within comments
        return ""
    return found[0].lower() if found else ""


def header_of(mail: Message, name: str) -> str:
    """A header on one line, decoded as RFC 2047 says, its beginning."""
    text = " ".join(str(mail.get(name, ""))[:MOST_HEADER].split())
    try:
        return str(make_header(decode_header(text)))
    except (ValueError, LookupError):
        return text


def _words(mail: Message) -> str:
    """The plain part, else the HTML part as text."""
    parts = list(_texts(mail))
    for kind in ("text/plain", "text/html"):
        for part in parts:
            if part.get_content_type() == kind:
                text = _decoded(part)[: 4 * MOST_WORDS]
                return (text_of_html(text) if kind == "text/html" else text)[:MOST_WORDS]
    return ""


def _texts(mail: Message) -> Iterator[Message]:
    for part in mail.walk():
        if not part.is_multipart() and not str(part.get("Content-Disposition", "")).lower().startswith(
            "attachment"
        ):
            yield part


def _decoded(part: Message) -> str:
    content = part.get_payload(decode=True)
    content = content if isinstance(content, bytes) else b""
    found = _CHARSET.search(str(part.get("Content-Type", ""))[:MOST_CONTENT_TYPE])
    charset = found[1] if found and _CHARSETS.match(found[1]) else "utf-8"
    try:
        return content.decode(charset, "replace")
    except LookupError:
        return content.decode("utf-8", "replace")


def text_of_html(page: str) -> str:
    """The words of a page without its marks, scripts and styles; each block on a line of its own.

    Each sign is looked at a fixed number of times, however the page is broken.
    """
    said, low, at = [], page.translate(_SMALL), 0
    while (opens := page.find("<", at)) >= 0 and (closes := page.find(">", opens)) >= 0:
        said.append(page[at:opens])
        tag = _TAG.match(low, opens + 1)
        name, at = tag[1] if tag else "", closes + 1
        if name in _ENDS_LINE:
            said.append("\n")
        if name in _NOT_SAID and low[opens + 1] != "/":
            end = low.find(f"</{name}", at)
            at = end if end >= 0 else len(page)
    said.append(page[at:])
    text = "".join(said)
    with suppress(ValueError):  # a number of thousands of digits for a sign
        text = html.unescape(text)
    lines = (_SPACES.sub(" ", line).strip() for line in text.splitlines())
    return re.sub(r"\n{3,}", "\n\n", "\n".join(lines)).strip()
