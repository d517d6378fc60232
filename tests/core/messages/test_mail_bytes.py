"""Mails written by hand, parsed back by the standard library, are those that it would have built."""

import unittest
from datetime import UTC, datetime
from email import policy
from email.parser import BytesParser

from hypothesis import example, given, settings
from hypothesis import strategies as st

from loyalbell.core.messages.email_rendering import FilledEmail
from loyalbell.core.messages.mail_bytes import mail_bytes
from loyalbell.core.messages.mime import Envelope, make_mail, one_line

AT = datetime(2026, 5, 12, 13, 40, tzinfo=UTC)
LINE = st.text(
    st.characters(exclude_categories=("Cs", "Cc"), exclude_characters="\u2028\u2029"), max_size=120
)
NAMES = LINE | st.sampled_from(
    (
        "Ann",
        "Dr. Lind",
        'O"Hara, Ltd',
        "Zoë Quist",
        "back\\slash",
        "=?utf-8?q?x?=",
        "A" * 200,
        "é " * 60,
        "a@b.example",
        "(c)",
    )
)
TEXTS = st.lists(LINE, max_size=6).map("\n".join) | st.sampled_from(
    ("", "\n", "\r\nx\r\r\n", "x" * 3_000, "é" * 500, ".\n.\nFrom here\n", "a =3D b = c  \n\t \n", "--=_0\n")
)


def envelope(sender: str = "Ida", to: str = "Ann", unsubscribe: str = "https://s.example/u/x", **more: str):
    facts = {"reply_to": ""} | more
    return Envelope(
        sender, "ida@shop.example", to, "ann@bücher.example", "<t1@shop.example>", AT, unsubscribe, **facts
    )


def read(raw: bytes):
    return BytesParser(policy=policy.default).parsebytes(raw)


class TheSameMail(unittest.TestCase):
    def check(self, email: FilledEmail, to: Envelope) -> None:
        raw = mail_bytes(email, to)
        ours, theirs = read(raw), read(make_mail(email, to).as_bytes())
        self.assertEqual(ours.defects, [])
        self.assertEqual(sorted(ours.keys()), sorted(theirs.keys()))
        for name in ("From", "To"):
            mine, other = ours[name].addresses[0], theirs[name].addresses[0]
            self.assertEqual(mine.addr_spec, other.addr_spec)
            self.assertEqual(*(self.read_alike(one) for one in (mine.display_name, self.name(to, name))))
        self.assertEqual(one_line(str(ours["Subject"])), one_line(email.subject))
        for name in ("Date", "Message-ID", "Reply-To", "List-Unsubscribe-Post"):
            self.assertEqual(ours[name], theirs[name])
        self.assertEqual(ours["List-Unsubscribe"], f"<{to.unsubscribe_url}>")
        for kind in ("plain", "html"):
            mine, other = ours.get_body((kind,)), theirs.get_body((kind,))
            self.assertEqual(mine is None, other is None)
            if mine is not None:
                self.assertEqual(mine.get_content(), other.get_content())
        for line in raw.split(b"\r\n"):
            self.assertLessEqual(len(line), 998)
            self.assertNotIn(b"\n", line)
            self.assertNotIn(b"\r", line)

    @staticmethod
    def read_alike(name: str) -> list[str]:
        """Between two encoded words of a name the library's reader puts a space, which RFC 2047 (section 6.2)
        says is none: names that need several are compared without spaces.
        """
        return name.split() if name.isascii() else ["".join(name.split())]

    @staticmethod
    def name(to: Envelope, header: str) -> str:
        return one_line(to.sender_name if header == "From" else to.to_name)

    @settings(max_examples=300, deadline=None)
    @given(NAMES, NAMES, NAMES)
    @example("", "", "")
    @example("Ida", "00" + "\U0001d400" * 8 + "\U0001d4a9" * 3, "x")
    def test_headers_of_every_shape(self, sender: str, to: str, subject: str) -> None:
        self.check(FilledEmail(subject, "<p>Hi</p>", "Hi\n"), envelope(sender, to))

    @settings(max_examples=200, deadline=None)
    @given(TEXTS, TEXTS)
    def test_bodies_of_every_shape(self, text: str, page: str) -> None:
        self.check(FilledEmail("Hello", page, text), envelope())

    def test_long_addresses_to_leave_by_stay_whole(self) -> None:
        """The standard library writes a long address as encoded words, which nobody can click."""
        self.check(FilledEmail("Hello", "y", "x"), envelope(unsubscribe="https://s.example/u/" + "x" * 300))

    def test_a_reply_address_and_text_alone(self) -> None:
        self.check(FilledEmail("Hello", "", "x"), envelope(reply_to="reply+abc@in.shop.example"))
        raw = mail_bytes(FilledEmail("Hello", "", "x"), envelope())
        self.assertEqual(read(raw).get_content_type(), "text/plain")

    def test_no_header_is_put_in_by_a_name(self) -> None:
        for bad in ("A\r\nBcc: x@y.example", "A\nBcc: x@y.example", "A\u2028Bcc: x@y.example", "A\x0bBcc: b"):
            raw = mail_bytes(FilledEmail(bad, "y", "x"), envelope(bad, bad))
            self.assertIsNone(read(raw)["Bcc"])
            self.assertNotIn(b"\r\nBcc", raw)

    def test_two_mails_have_two_boundaries(self) -> None:
        email = FilledEmail("Hello", "y", "x")
        other = Envelope(**(vars(envelope()) | {"message_id": "<t2@shop.example>"}))
        self.assertNotEqual(
            read(mail_bytes(email, envelope())).get_boundary(), read(mail_bytes(email, other)).get_boundary()
        )
