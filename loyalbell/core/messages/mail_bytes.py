"""A mail as the bytes that go over the wire, without the library's parsing and folding of each header.

``make_mail`` builds the same mail with the library; tests parse both back and compare. Lines are folded and
words encoded only where they must be (RFC 5322 section 2.1.1, RFC 2047); text is 7bit or quoted-printable
(RFC 2045 section 6.7).
"""

import binascii
import hashlib
import re
from email.header import Header
from email.utils import format_datetime
from functools import lru_cache

from loyalbell.core.messages.email_rendering import FilledEmail
from loyalbell.core.messages.mime import Envelope, one_line, wire_address

LONGEST_LINE = 78
"""A line should not be longer (RFC 5322 section 2.1.1)."""
_PLAIN_NAME = re.compile(r"[A-Za-z0-9!#$%&'*+/=?^_`{|}~ -]+")
"""Signs of a display name that need no quotes: atoms with single spaces between (RFC 5322 section 3.2.3)."""
_BREAKS = re.compile(r"\r\n|\r|\n")
_ALWAYS = b"List-Unsubscribe-Post: List-Unsubscribe=One-Click\r\nMIME-Version: 1.0\r\n"


def mail_bytes(email: FilledEmail, envelope: Envelope) -> bytes:
    """multipart/alternative, plain text first; the text alone where there is no HTML. Raises
    ``UnicodeError`` for a domain that cannot be written.
    """
    head = [
        b"From: ",
        _address("From", one_line(envelope.sender_name), envelope.sender_email),
        b"\r\nTo: ",
        _address("To", one_line(envelope.to_name), envelope.to_email),
    ]
    if envelope.reply_to:
        head += [b"\r\nReply-To: ", envelope.reply_to.encode()]
    head += [b"\r\nSubject: ", _words("Subject", one_line(email.subject))]
    head += [b"\r\nDate: ", format_datetime(envelope.date).encode()]
    head += [b"\r\nMessage-ID: ", envelope.message_id.encode()]
    head += [b"\r\nList-Unsubscribe: <", envelope.unsubscribe_url.encode(), b">\r\n", _ALWAYS]
    text = _part(email.text, b"plain")
    if not email.html:
        return b"".join([*head, text])
    # no line of quoted-printable begins with what this begins with, and no text knows the rest
    mark = b"=_" + hashlib.blake2b(envelope.message_id.encode(), digest_size=15).hexdigest().encode()
    between = b"--" + mark
    return b"".join(
        [
            *head,
            b'Content-Type: multipart/alternative; boundary="' + mark + b'"\r\n\r\n',
            *(between, b"\r\n", text, b"\r\n", between, b"\r\n", _part(email.html, b"html"), b"\r\n"),
            between + b"--\r\n",
        ]
    )


@lru_cache(maxsize=64)
def _address(header: str, name: str, email: str) -> bytes:
    """A mailbox; its name as it is, in quotes, or in encoded words (RFC 2047)."""
    where = f"<{wire_address(email)}>"
    if not name:
        return where[1:-1].encode()
    if not name.isascii() or "=?" in name:
        said = Header(name, "utf-8", maxlinelen=LONGEST_LINE, header_name=header).encode(linesep="\r\n")
    elif _PLAIN_NAME.fullmatch(name):
        said = name
    else:
        escaped = name.replace("\\", "\\\\").replace('"', '\\"')
        said = f'"{escaped}"'
    last = said.rpartition("\r\n")[2]
    fold = "\r\n " if len(header) + 2 + len(last) + 1 + len(where) > LONGEST_LINE else " "
    return f"{said}{fold}{where}".encode()


def _words(header: str, value: str) -> bytes:
    """Unstructured text: as it is, folded between words, or in encoded words."""
    if not value.isascii() or "=?" in value:
        return (
            Header(value, "utf-8", maxlinelen=LONGEST_LINE, header_name=header)
            .encode(linesep="\r\n")
            .encode()
        )
    if len(header) + 2 + len(value) <= LONGEST_LINE:
        return value.encode()
    lines, width = [""], LONGEST_LINE - len(header) - 2
    for word in value.split(" "):
        if lines[-1] and len(lines[-1]) + 1 + len(word) > width:
            lines.append(word)
            width = LONGEST_LINE - 1
        else:
            lines[-1] += (" " if lines[-1] else "") + word
    return "\r\n ".join(lines).encode()


def _part(text: str, kind: bytes) -> bytes:
    """Headers and body of one text, which ends with a line break."""
    lines = _BREAKS.split(text)
    if lines and not lines[-1]:
        lines.pop()
    head = b"Content-Type: text/" + kind + b'; charset="utf-8"\r\nContent-Transfer-Encoding: '
    body = "\r\n".join(lines) + "\r\n"
    if body.isascii() and max(map(len, lines), default=0) <= LONGEST_LINE:
        return head + b"7bit\r\n\r\n" + body.encode()
    return head + b"quoted-printable\r\n\r\n" + binascii.b2a_qp(body.encode("utf-8", "replace"), istext=True)
