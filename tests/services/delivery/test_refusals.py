"""A refusal of the mail server or a gateway about us counts against no customer."""

import asyncio
import unittest
from collections.abc import Sequence
from typing import Any

from aiosmtpd.controller import Controller
from sqlalchemy import select

from loyalbell.channels.http_gateway import _result
from loyalbell.channels.loopback import LOOPBACK, free_port
from loyalbell.channels.sender import Outcome, Outgoing, Sender
from loyalbell.channels.smtp import SmtpSender
from loyalbell.core.messages.refusals import many_of_few
from loyalbell.services.scheduler import tick
from loyalbell.storage.schema import Delivery, Suppression
from tests.services.campaigns.test_plans import CampaignPlanCase
from tests.services.sequences.test_runner import HOUR

MAIL = b"Subject: Hi\r\n\r\nHi\r\n"


class Answering:
    """A mail server that answers each command as it is told."""

    def __init__(self, **answers: str) -> None:
        self.answers = answers
        self.recipients: list[str] = []

    async def handle_MAIL(self, server: Any, session: Any, envelope: Any, address: str, options: Any) -> str:
        envelope.mail_from = address
        return self.answers.get("mail", "250 OK")

    async def handle_RCPT(self, server: Any, session: Any, envelope: Any, address: str, options: Any) -> str:
        envelope.rcpt_tos.append(address)
        self.recipients.append(address)
        return self.answers.get("rcpt", "250 OK")

    async def handle_DATA(self, server: Any, session: Any, envelope: Any) -> str:
        await asyncio.sleep(0)
        return self.answers.get("data", "250 OK")


class RefusalsTest(CampaignPlanCase):
    def server(self, **answers: str) -> SmtpSender:
        return self.served(Answering(**answers))

    def served(self, handler: Answering) -> SmtpSender:
        controller = Controller(handler, hostname=LOOPBACK, port=free_port())
        controller.start()
        self.addCleanup(controller.stop)
        return SmtpSender(LOOPBACK, controller.port)

    def setUp(self) -> None:
        super().setUp()
        self.more = [self.add_person(f"more{number}@example.com") for number in range(34)]
        for person in self.more:
            self.add_order(person, 100)

    def suppressed(self) -> int:
        with self.application.database.reading() as session:
            return len(list(session.scalars(select(Suppression))))

    def begin(self) -> int:
        made = self.draft(engaged_only=False)
        self.start(made)
        return made

    def test_relaying_denied_at_mail_from(self) -> None:
        """Seen: it suppressed all 40 customers for good."""
        made = self.begin()
        tick(self.application, _Through(self.server(mail="550 relaying denied")))
        self.assertEqual((self.suppressed(), self.sent(made)), (0, 0))
        self.clock.move_on(HOUR)
        tick(self.application, _Through(self.server()))
        self.assertEqual(self.sent(made), 40, "all got it once the mail server took us again")

    def test_a_policy_at_rcpt_and_a_refusal_after_data(self) -> None:
        for answers in ({"rcpt": "550 5.7.1 Blocked by policy"}, {"data": "554 5.7.1 Looks like spam"}):
            with self.subTest(**answers):
                made = self.begin()
                tick(self.application, _Through(self.server(**answers)))
                self.assertEqual((self.suppressed(), self.sent(made)), (0, 0))

    def test_a_server_that_knows_nobody_any_more_marks_nobody(self) -> None:
        self.begin()
        tick(self.application, _Through(self.server(rcpt="550 5.1.1 User unknown")))
        self.assertEqual(self.suppressed(), 0)

    def test_a_domain_with_an_umlaut_is_written_as_the_wire_wants_it(self) -> None:
        """Seen: one such customer put 41 messages in doubt (RFC 5891: A-labels; the value from memory)."""
        anna = self.add_person("anna@exämple.com")
        self.add_order(anna, 100)
        made = self.begin()
        handler = Answering()
        tick(self.application, _Through(self.served(handler)))
        self.assertEqual(self.sent(made), 41)
        self.assertIn("anna@xn--exmple-cua.com", handler.recipients)
        self.assertEqual([one for one in handler.recipients if not one.isascii()], [])

    def test_an_address_that_cannot_be_written_stays_with_its_own_message(self) -> None:
        """A label of a domain has at most 63 characters (RFC 1035, section 2.3.4)."""
        odd = self.add_person(f"odd@{'a' * 70}.example")
        self.add_order(odd, 100)
        made = self.begin()
        tick(self.application, _Through(self.server()))
        self.assertEqual(self.sent(made), 40)
        with self.application.database.reading() as session:
            kept = session.scalars(select(Delivery).where(Delivery.person_id == odd)).one()
        self.assertEqual((kept.state, kept.cause), ("withheld", "not made"))

    def test_one_mailbox_that_is_gone_is_marked(self) -> None:
        sender = self.server(rcpt="550 5.1.1 User unknown")
        gone = Outgoing(1, "shop@example.com", "gone@example.com", "<1@x>", MAIL)
        self.assertEqual([one.result for one in sender.send([gone])], ["refused"])

    def test_statuses_of_a_gateway(self) -> None:
        """Seen: a gateway's 404 suppressed every number; 402, 301, 400 marked customers bounced."""
        for status in (301, 302, 400, 401, 402, 403, 404, 429, 500, 502, 503):
            self.assertEqual(_result(status), "try later", status)
        self.assertEqual([_result(status) for status in (200, 202, 409, 410)], [*["accepted"] * 3, "refused"])


class _Through(Sender):
    """Hands a batch to an SMTP sender; cannot be asked."""

    def __init__(self, sender: SmtpSender) -> None:
        self.sender = sender

    def send(self, batch: Sequence[Outgoing]) -> list[Outcome]:
        return self.sender.send(batch)

    def knows(self, message_id: str, channel: str = "email") -> bool | None:
        return None


class FewTest(unittest.TestCase):
    def test_how_many_alike_are_too_many_of_a_days_answers(self) -> None:
        """From three on; more than a fifth of fewer than 20, more than a tenth of more."""
        for alike, answers, doubted in (
            (2, 2, False),
            (3, 3, True),
            (3, 14, True),
            (3, 15, False),
            (3, 20, True),
            (3, 29, True),
            (3, 30, False),
            (4, 30, True),
        ):
            with self.subTest(alike=alike, answers=answers):
                self.assertEqual(many_of_few(alike, answers), doubted)
