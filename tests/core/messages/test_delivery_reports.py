"""Delivery reports, complaints, machines' answers and the words that stop."""

import unittest

from hypothesis import given
from hypothesis import strategies as st

from loyalbell.core.messages.delivery_reports import read_report, say_status, status_in
from loyalbell.core.messages.reply_keywords import STOP, is_automatic, keyword, newest_words

# RFC 3464 appendix E.1 and E.2, from memory; the hosts are made up, the fields and their folding are as there
SINGLE = b"""\
Date: Thu, 7 Jul 1994 17:16:05 -0400
From: Mail Delivery Subsystem <MAILER-DAEMON@host.example>
Message-Id: <199407072116.RAA14128@host.example>
Subject: Returned mail: Cannot send message for 5 days
To: <owner-list@host.example>
MIME-Version: 1.0
Content-Type: multipart/report; report-type=delivery-status;
      boundary="RAA14128.773615765/HOST"

--RAA14128.773615765/HOST

   ----- The following addresses had delivery problems -----
<louisl@larry.slip.example>  (unrecoverable error)

--RAA14128.773615765/HOST
content-type: message/delivery-status

Reporting-MTA: dns; host.example

Original-Recipient: rfc822;louisl@larry.slip.example
Final-Recipient: rfc822;louisl@larry.slip.example
Action: failed
Status: 4.0.0
Diagnostic-Code: smtp; 426 connection timed out
Last-Attempt-Date: Thu, 7 Jul 1994 17:15:49 -0400

--RAA14128.773615765/HOST
content-type: message/rfc822

Message-ID: <abc@shop.example>
Subject: Hello

words
--RAA14128.773615765/HOST--
"""
SEVERAL = SINGLE.replace(
    SINGLE[
        SINGLE.index(b"Original-Recipient") : SINGLE.index(
            b"--RAA14128.773615765/HOST\ncontent-type: message/rfc822"
        )
    ],
    b"""\
Original-Recipient: rfc822;arathib@vnet.example
Final-Recipient: rfc822;arathib@vnet.example
Action: failed
Status: 5.0.0 (permanent failure)
Diagnostic-Code: smtp; 550 'arathib@vnet.example' is not a
 registered gateway user
Remote-MTA: dns; vnet.example

Original-Recipient: rfc822;johnh@hpnjld.example
Final-Recipient: rfc822;johnh@hpnjld.example
Action: delayed
Status: 4.0.0 (hpnjld.example: host name lookup failure)

Final-Recipient: rfc822;full@box.example
Action: failed
Status: 5.2.2

""",
)
# RFC 5965 appendix B.1, from memory
COMPLAINT = b"""\
From: <abusedesk@example.com>
Date: Thu, 8 Mar 2005 17:40:36 EDT
Subject: FW: Earn money
To: <abuse@example.net>
MIME-Version: 1.0
Content-Type: multipart/report; report-type=feedback-report;
     boundary="part1_13d.2e68ed54_boundary"

--part1_13d.2e68ed54_boundary
Content-Type: text/plain; charset="US-ASCII"
Content-Transfer-Encoding: 7bit

This is an email abuse report for an email message received from IP
192.0.2.1 on Thu, 8 Mar 2005 14:00:00 EDT.

--part1_13d.2e68ed54_boundary
Content-Type: message/feedback-report

Feedback-Type: abuse
User-Agent: SomeGenerator/1.0
Version: 1

--part1_13d.2e68ed54_boundary
Content-Type: message/rfc822
Content-Disposition: inline

From: <somespammer@example.net>
To: <Undisclosed Recipients>
Subject: Earn money
MIME-Version: 1.0
Content-type: text/plain
Message-ID: 8787KJKJ3K4J3K4J3K4J3.mail@example.net
Date: Thu, 02 Sep 2004 12:31:03 -0500

Spam Spam Spam
--part1_13d.2e68ed54_boundary--
"""


class Reports(unittest.TestCase):
    def test_one_recipient_put_off_too_long(self) -> None:
        report = read_report(SINGLE)
        assert report is not None
        (bounce,) = report.bounces
        self.assertEqual((report.kind, report.message_id), ("bounce", "<abc@shop.example>"))
        self.assertEqual(
            (bounce.recipient, bounce.status, bounce.hard), ("louisl@larry.slip.example", "4.0.0", False)
        )

    def test_several_recipients(self) -> None:
        report = read_report(SEVERAL)
        assert report is not None
        self.assertEqual([one.hard for one in report.bounces], [True, False, False])
        self.assertIn("full", report.bounces[2].words)

    def test_a_complaint(self) -> None:
        report = read_report(COMPLAINT)
        assert report is not None
        self.assertEqual(
            (report.kind, report.message_id), ("complaint", "8787KJKJ3K4J3K4J3K4J3.mail@example.net")
        )

    @given(st.binary(max_size=300))
    def test_any_other_mail_is_no_report(self, raw: bytes) -> None:
        self.assertIsNone(read_report(b"Subject: Hello\n\n" + raw))

    def test_causes_in_plain_words(self) -> None:
        self.assertEqual(status_in("550 5.1.1 <a@b.example>: no such user"), "5.1.1")
        self.assertEqual(say_status("5.1.1"), "there is no such mailbox (5.1.1)")
        self.assertEqual(status_in("451 try again"), "")


class Words(unittest.TestCase):
    def test_words_that_stop_in_several_languages(self) -> None:
        """Common practice, no source: networks ask for STOP, STOPALL, UNSUBSCRIBE, CANCEL, END and QUIT,
        START and HELP.
        """
        for text in (
            "STOP",
            "Stop.",
            " stop all ",
            "UNSUBSCRIBE",
            "Cancel",
            "END",
            "quit!",
            "Please stop",
            "ALTO",
            "arrêt",
            "Stop texting me",
        ):
            self.assertEqual(keyword(text), "stop", text)
        for text, kind in (("Start", "start"), ("HELP", "help"), ("Ayuda", "help"), ("unstop", "start")):
            self.assertEqual(keyword(text), kind, text)
        for text in (
            "",
            "Can you stop by on Tuesday to see the kittens we have?",
            "yes",
            "no thanks",
            "the end of May suits me",
            "🐕",
        ):
            self.assertEqual(keyword(text), "answer", text)

    @given(
        st.sampled_from([word for words in STOP.values() for word in words]),
        st.sampled_from(("", ".", "!", " ")),
    )
    def test_every_stop_word_stops_however_it_is_written(self, word: str, end: str) -> None:
        for text in (word + end, word.upper() + end, word.title() + end):
            self.assertEqual(keyword(text), "stop")

    def test_machines_that_answer(self) -> None:
        """RFC 3834 section 5: Auto-Submitted other than “no”."""
        self.assertTrue(is_automatic({"Auto-Submitted": "auto-replied"}))
        self.assertFalse(is_automatic({"Auto-Submitted": "no"}, "Bath on Tuesday"))
        self.assertTrue(is_automatic({}, "Automatic reply: Bath on Tuesday"))
        self.assertTrue(is_automatic({"Precedence": "auto_reply"}))

    def test_what_is_quoted_is_left_out(self) -> None:
        self.assertEqual(
            newest_words("Yes please\r\n\r\nOn Tue, 12 May 2026 at 9:40, Otterby wrote:\r\n> Hello"),
            "Yes please",
        )
        self.assertEqual(newest_words("> only quoted"), "> only quoted")
