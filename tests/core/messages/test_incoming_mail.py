"""Mails that come in: who writes and in which words; and mails made to keep the program busy."""

import unittest
from email.message import EmailMessage

from loyalbell.core.messages.delivery_reports import read_report
from loyalbell.core.messages.incoming_mail import MOST_BYTES, MOST_WORDS, read_mail, text_of_html
from loyalbell.core.messages.reply_keywords import keyword, newest_words

BIG = 1_000_000
HTML = b"From: ann@example.com\r\nContent-Type: text/html\r\n\r\n"
TEXT = b"From: ann@example.com\r\nContent-Type: text/plain; charset=utf-8\r\n\r\n"


def of_type(kind: bytes, line: bytes) -> bytes:
    return b"From: ann@example.com\r\nContent-Type: " + kind + b"\r\n\r\n" + line * (BIG // len(line))


def nested(depth: int) -> bytes:
    layer = "Content-Type: multipart/mixed; boundary=b{0}\r\n\r\n--b{0}\r\n"
    return "".join(layer.format(at) for at in range(depth)).encode() + b"\r\n" * (BIG // 2)


HOSTILE = {
    "nothing but openings": HTML + b"<" * BIG,
    "tags that never end": HTML + b"<a " * (BIG // 3),
    "blocks within blocks": HTML + b"<div>" * (BIG // 5),
    "a style that never ends": HTML + b"<style>" * (BIG // 7),
    "a sign by a million digits": HTML + b"&#" + b"9" * BIG + b";",
    "accents upon accents": TEXT + b"a" + "\u0315\u0300".encode() * (BIG // 4),
    "words of quoting": TEXT + b"On a wrote\n" * (BIG // 11),
    "a slow alphabet": TEXT.replace(b"utf-8", b"punycode") + b"a-" + b"9" * BIG,
    "comments within comments": b"From: " + b"(a" * BIG + b"\r\n\r\nhi",
    "quotes in the type": b"Content-Type: multipart/mixed" + b';"' * BIG + b"; boundary=x\r\n\r\nhi",
    "folded quotes in the type": b"Content-Type: multipart/mixed"
    + b';"\r\n ' * BIG
    + b"; boundary=x\r\n\r\nhi",
    "parts within parts": nested(3_000),
    "a few parts within parts": nested(8),
    "mails within mails": b"Content-Type: message/rfc822\r\n\r\n" * (BIG // 30),
    "headers": b"".join(b"X-%d: a\r\n" % at for at in range(BIG // 10)),
    "reports": of_type(b"multipart/report; report-type=delivery-status; boundary=x", b"--x\r\n\r\n"),
    "an alphabet that is none": TEXT.replace(b"utf-8", b"zip") + b"x" * 50,
    "nothing": b"",
}


class IncomingMailTest(unittest.TestCase):
    def made(self, text: str, page: str = "") -> bytes:
        mail = EmailMessage()
        mail["From"] = "Ann Pell <Ann@Example.com>"
        mail["Subject"] = "Grüße aus Linz"
        mail["Message-ID"] = "<one@example.com>"
        mail.set_content(text) if text else mail.set_content(page, subtype="html")
        if text and page:
            mail.add_alternative(page, subtype="html")
        return mail.as_bytes()

    def test_who_writes_and_what(self) -> None:
        """Built by the standard library (RFC 5322, 2045, 2047), read back."""
        mail = read_mail(self.made("Thursday suits me", "<p>Not this</p>"))
        self.assertEqual(
            (mail.sender, mail.subject, mail.words.strip(), mail.network_id, mail.is_automatic),
            ("ann@example.com", "Grüße aus Linz", "Thursday suits me", "<one@example.com>", False),
        )
        only_page = "<head><title>x</title><style>p{}</style></head><p>Tom &amp; I<br>come</p><b>soon</b>"
        self.assertEqual(read_mail(self.made("", only_page)).words, "Tom & I\ncome\nsoon")
        latin = TEXT.replace(b"utf-8", b"iso-8859-1") + "Schöne Grüße".encode("latin-1")
        self.assertEqual(read_mail(latin).words, "Schöne Grüße")

    def test_an_attached_text_is_not_what_somebody_says(self) -> None:
        mail = EmailMessage()
        mail.set_content("see the list")
        mail.add_attachment("STOP", filename="list.txt")
        self.assertEqual(read_mail(mail.as_bytes()).words.strip(), "see the list")

    def test_broken_pages(self) -> None:
        for page, words in (
            ("2 < 3", "2 < 3"),
            ("a<b", "a<b"),
            ("İ<b>STOP</b>", "İSTOP"),
            ("<script>if (a<b) x()</script>yes", "yes"),
            ("<p>one<p>two", "one\ntwo"),
        ):
            self.assertEqual(text_of_html(page), words, page)

    def test_mails_made_to_keep_the_program_busy_end_in_few_words(self) -> None:
        """Seen: 40 kB of ``<`` took 11 s, and every page stood still."""
        for name, raw in HOSTILE.items():
            with self.subTest(name):
                mail = read_mail(raw)
                self.assertLessEqual(len(mail.words), MOST_WORDS)
                self.assertIn(keyword(newest_words(mail.words)), ("answer", "stop"))
                self.assertIsNone(read_report(raw))

    def test_only_the_beginning_is_read(self) -> None:
        """A part that begins behind the bound is not seen, though few words stand before it."""
        head = b"From: ann@example.com\r\nContent-Type: multipart/mixed; boundary=b\r\n\r\n--b\r\n"
        filler = b"Content-Type: image/png\r\n\r\n" + b"x\r\n" * (MOST_BYTES // 3) + b"--b\r\n"
        late = head + filler + b"Content-Type: text/plain\r\n\r\nSTOP\r\n--b--\r\n"
        self.assertEqual(read_mail(late).words, "")

    def test_an_alphabet_that_is_not_of_mail_is_not_read_as_one(self) -> None:
        """``punycode`` is a codec of the language that takes seconds; RFC 2978 knows no such charset."""
        mail = TEXT.replace(b"utf-8", b"punycode") + b"Mnchen-3ya"
        self.assertEqual(read_mail(mail).words, "Mnchen-3ya")


if __name__ == "__main__":
    unittest.main()
