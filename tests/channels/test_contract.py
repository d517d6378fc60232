"""What every sender promises, held against each of them: one outcome a message, never a raise, no guess.

The codes are those of RFC 5321 (section 4.2), RFC 3463 and RFC 9110; what they say about whom is of the rules
of the job, section 5.
"""

import json
import unittest
from datetime import UTC, datetime, timedelta
from email.utils import format_datetime

from loyalbell.channels.http_gateway import GatewaySender
from loyalbell.channels.loopback import LOOPBACK, free_port
from loyalbell.channels.sender import Outcome, Outgoing, Sender
from loyalbell.channels.smtp import SmtpSender
from tests.channels.networks import Gateway, MailServer

MANY = 12
SHORT_SECONDS = 0.6


class Contract:
    """The tests; a subclass says how each behaviour is had of its network."""

    def network(self, behaviour: str) -> Sender:
        raise NotImplementedError

    def taken(self) -> list[str]:
        raise NotImplementedError

    def message(self, number: int) -> Outgoing:
        raise NotImplementedError

    def send(self, behaviour: str, count: int = MANY) -> list[Outcome]:
        sender = self.network(behaviour)
        batch = [self.message(number) for number in range(count)]
        outcomes = sender.send(batch)
        sender.finish(batch[0].channel)
        self.assertEqual(
            sorted(outcome.delivery_id for outcome in outcomes), list(range(count)), "one a message"
        )
        return outcomes

    def results(self, outcomes: list[Outcome]) -> set[str]:
        return {outcome.result for outcome in outcomes}

    def test_accepts_each_once(self) -> None:
        outcomes = self.send("accept")
        self.assertEqual(self.results(outcomes), {"accepted"})
        self.assertEqual(len(set(self.taken())), MANY)
        self.assertEqual(len(self.taken()), MANY)

    def test_a_person_who_is_not_there_is_refused_and_the_others_are_tried(self) -> None:
        outcomes = self.send("no such person")
        self.assertEqual(self.results(outcomes), {"refused"})
        self.assertFalse(any(one.about_us for one in outcomes))

    def test_a_refusal_of_us_ends_the_batch_and_refuses_nobody(self) -> None:
        outcomes = self.send("not us")
        self.assertEqual(self.results(outcomes), {"try later"})
        self.assertTrue(all(one.about_us for one in outcomes))
        self.assertLessEqual(self.tried(), 4, "no more than were under way")

    def tried(self) -> int:
        raise NotImplementedError

    def test_not_now_for_one_message_leaves_the_channel_alone(self) -> None:
        outcomes = self.send("later")
        self.assertEqual(self.results(outcomes), {"try later"})
        self.assertFalse(any(one.about_us for one in outcomes))

    def test_a_limit_is_told_from_a_fault(self) -> None:
        outcomes = self.send("too fast")
        self.assertEqual(self.results(outcomes), {"try later"})
        self.assertTrue(any(one.is_limit for one in outcomes))

    def test_a_network_that_hangs_with_the_message_leaves_it_unsure(self) -> None:
        outcomes = self.send("hangs with it", 2)
        self.assertEqual(self.results(outcomes), {"unsure"})

    def test_a_connection_closed_with_the_message_leaves_it_unsure(self) -> None:
        outcomes = self.send("closes with it", 2)
        self.assertEqual(self.results(outcomes), {"unsure"})

    def test_garbage_is_never_an_acceptance_nor_a_refusal(self) -> None:
        outcomes = self.send("garbage", 2)
        self.assertLessEqual(self.results(outcomes), {"try later", "unsure"})

    def test_nobody_listens(self) -> None:
        outcomes = self.send("nobody")
        self.assertEqual(self.results(outcomes), {"try later"})
        self.assertTrue(all(one.about_us for one in outcomes))


class MailContractTest(Contract, unittest.TestCase):
    ANSWERS = {
        "accept": {},
        "no such person": {"rcpt": "550 5.1.1 no such mailbox"},
        "not us": {"mail": "530 5.7.0 sign in first"},
        "later": {"rcpt": "450 4.2.1 mailbox busy"},
        "too fast": {"mail": "421 4.7.28 too many messages, slow down"},
        "hangs with it": {"content": "hang"},
        "closes with it": {"content": "close"},
        "garbage": {"hello": "garbage"},
    }

    def network(self, behaviour: str) -> Sender:
        if behaviour == "nobody":
            return SmtpSender(LOOPBACK, free_port(), timeout=SHORT_SECONDS)
        self.server = MailServer(**self.ANSWERS[behaviour])
        self.addCleanup(self.server.stop)
        return SmtpSender(LOOPBACK, self.server.port, timeout=SHORT_SECONDS)

    def taken(self) -> list[str]:
        return self.server.taken

    def tried(self) -> int:
        return max(len(self.server.recipients), 0)

    def message(self, number: int) -> Outgoing:
        mail = b"Subject: Hi\r\n\r\nHi\r\n"
        return Outgoing(number, "shop@example.com", f"p{number}@example.com", f"<{number}@x>", mail)

    def test_a_server_that_does_not_even_greet_has_taken_nothing(self) -> None:
        server = MailServer(hello="hang")
        self.addCleanup(server.stop)
        outcomes = SmtpSender(LOOPBACK, server.port, timeout=SHORT_SECONDS).send([self.message(1)])
        self.assertEqual([(one.result, one.about_us) for one in outcomes], [("try later", True)])

    def test_a_refusal_after_the_content_is_about_this_message(self) -> None:
        server = MailServer(content="554 5.7.1 looks like spam")
        self.addCleanup(server.stop)
        outcomes = SmtpSender(LOOPBACK, server.port).send([self.message(1)])
        self.assertEqual([(one.result, one.about_us) for one in outcomes], [("try later", False)])

    def test_connections_are_kept_from_group_to_group(self) -> None:
        server = MailServer()
        self.addCleanup(server.stop)
        sender = SmtpSender(LOOPBACK, server.port)
        for start in (0, 4, 8):
            sender.send([self.message(number) for number in range(start, start + 4)])
        kept = len(sender._idle)
        sender.finish()
        self.assertEqual((kept, len(server.taken), len(sender._idle)), (4, 12, 0))


class GatewayContractTest(Contract, unittest.TestCase):
    ANSWERS = {
        "accept": "202",
        "no such person": "410",
        "not us": "402",
        "later": "400",
        "too fast": "429",
        "hangs with it": "hang",
        "closes with it": "close",
        "garbage": "garbage",
    }

    def network(self, behaviour: str) -> Sender:
        if behaviour == "nobody":
            return GatewaySender(f"http://{LOOPBACK}:{free_port()}", "k", SHORT_SECONDS)
        self.gateway = Gateway(self.ANSWERS[behaviour])
        self.addCleanup(self.gateway.stop)
        return GatewaySender(self.gateway.url, "k", SHORT_SECONDS)

    def taken(self) -> list[str]:
        return self.gateway.taken

    def tried(self) -> int:
        return self.gateway.asked

    def message(self, number: int) -> Outgoing:
        body = json.dumps({"id": f"<{number}@x>", "to": f"+4930000{number}", "text": "Hi"}).encode()
        return Outgoing(number, "shop", f"+4930000{number}", f"<{number}@x>", body, "text")

    def test_retry_after_in_seconds_and_as_a_date(self) -> None:
        """RFC 9110, section 10.2.3."""
        soon = format_datetime(datetime.now(UTC) + timedelta(seconds=90), usegmt=True)
        for said, low, high in (("7", 7, 7), (soon, 80, 91), ("soon", None, None)):
            with self.subTest(said=said):
                gateway = Gateway("429", said)
                self.addCleanup(gateway.stop)
                wait = GatewaySender(gateway.url, "k").send([self.message(1)])[0].wait
                if low is None or high is None:
                    self.assertIsNone(wait)
                else:
                    self.assertTrue(low <= (wait or 0) <= high, wait)

    def test_the_same_message_again_is_one_message(self) -> None:
        gateway = Gateway()
        self.addCleanup(gateway.stop)
        for _ in range(2):
            GatewaySender(gateway.url, "k").send([self.message(1)])
        self.assertEqual(gateway.taken, ["<1@x>"])
