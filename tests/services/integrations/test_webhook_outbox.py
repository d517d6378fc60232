"""Telling other programs: signed, tried again, and written down."""

import json
import socket
from datetime import timedelta
from http.server import BaseHTTPRequestHandler, HTTPServer
from threading import Event, Thread
from unittest import TestCase

from standardwebhooks import Webhook as Reference

from loyalbell.channels import outward
from loyalbell.channels.outward import is_outside
from loyalbell.channels.webhook import Answer, deliver, new_secret, signature
from loyalbell.services.customers import commands as customer_commands
from loyalbell.services.customers import reachability
from loyalbell.services.customers.person_edit import NotKept
from loyalbell.services.integrations import webhook_outbox
from loyalbell.storage.schema import WebhookDelivery
from tests.support import NOW, ApplicationCase


class Receiver(BaseHTTPRequestHandler):
    got: list[tuple[dict[str, str], str]] = []
    status = 204

    def do_POST(self) -> None:
        body = self.rfile.read(int(self.headers["Content-Length"])).decode()
        type(self).got.append((dict(self.headers), body))
        self.send_response(self.status)
        self.end_headers()

    def log_message(self, *args: object) -> None:
        return


class Signing(TestCase):
    def test_the_example_of_the_specification(self) -> None:
        # Standard Webhooks 1.0, "Signature scheme" (recalled, and confirmed by the reference library below)
        found = signature(
            "whsec_plJ3nmyCDGBKInavdOK15jsl",
            "msg_loFOjxBNrRLzqYUf",
            1731705121,
            '{"event_type":"ping","data":{"success":true}}',
        )
        self.assertEqual(found, "v1,rAvfW3dJ/X/qxhsaXPOyyCGmRKsaKWcsNccKXlIktD0=")

    def test_the_reference_library_signs_alike(self) -> None:
        # standardwebhooks 1.1.0, the library of the specification's authors
        secret = new_secret()
        for body in ("{}", '{"a": "ü"}', " "):
            self.assertEqual(
                signature(secret, "m", 1778593200, body),
                Reference(secret).sign("m", NOW.replace(hour=13, minute=40), body),
            )

    def test_a_secret_that_is_none(self) -> None:
        with self.assertRaises(ValueError):
            signature("whsec_***", "m", 1, "")


class Telling(ApplicationCase):
    def setUp(self) -> None:
        super().setUp()
        self.person = self.add_person()
        self.hook, self.secret = webhook_outbox.add_webhook(
            self.application, "https://example.com/x", ["customer.changed", "consent.changed"], "Ida"
        )
        self.sent: list[tuple[str, str, str]] = []

    def answer(self, status: int | None) -> webhook_outbox.Deliver:
        def send(url: str, secret: str, message_id: str, stamp: int, body: str) -> Answer:
            self.sent.append((url, message_id, body))
            return Answer(status, None if status == 200 else "no")

        return send

    def change(self, name: str = "Ann") -> None:
        customer_commands.change_person(self.application, self.person, {"first_name": name}, "Ida")

    def newest(self) -> WebhookDelivery:
        return webhook_outbox.deliveries(self.application, self.hook)[0]

    def test_only_what_was_asked_for(self) -> None:
        self.change()
        customer_commands.add_tag(self.application, self.person, "vip", "Ida")
        reachability.say_consent(self.application, self.person, "email", "refused", "counter", "", "Ida")
        kinds = [one.kind for one in reversed(webhook_outbox.deliveries(self.application, self.hook))]
        self.assertEqual(kinds, ["customer.changed"] * 2 + ["consent.changed", "customer.changed"])
        with self.assertRaises(NotKept):
            customer_commands.change_person(self.application, self.person, {"email": "no"}, "Ida")
        self.assertEqual(
            len(webhook_outbox.deliveries(self.application, self.hook)), 4
        )  # nothing was changed, nothing is told

    def test_tried_again_by_the_schedule_and_then_given_up(self) -> None:
        self.change()
        waits = []
        while self.newest().state == "waiting":
            self.assertEqual(webhook_outbox.deliver_due(self.application, self.answer(500)), 1)
            self.assertEqual(webhook_outbox.deliver_due(self.application, self.answer(500)), 0)
            waits.append(self.newest().due_at - self.clock.now())
            self.clock.instant = max(self.newest().due_at, self.clock.now())
        self.assertEqual(len(self.sent), 10)
        self.assertEqual(len({message_id for _, message_id, _ in self.sent}), 1)
        self.assertEqual(waits[:3], [timedelta(seconds=5), timedelta(minutes=5), timedelta(minutes=30)])
        webhook_outbox.send_again(self.application, self.newest().id)
        webhook_outbox.deliver_due(self.application, self.answer(200))
        self.assertEqual((self.newest().state, len({body for _, _, body in self.sent})), ("delivered", 1))

    def test_one_that_is_gone_is_told_no_more(self) -> None:
        self.change()
        webhook_outbox.deliver_due(self.application, self.answer(410))
        self.change("Bo")
        self.assertEqual(webhook_outbox.deliver_due(self.application, self.answer(200)), 0)
        self.assertIsNotNone(webhook_outbox.all_webhooks(self.application)[0].stopped_at)

    def test_over_the_wire(self) -> None:
        server = HTTPServer(("127.0.0.1", 0), Receiver)
        Thread(target=server.serve_forever, daemon=True).start()
        self.addCleanup(server.server_close)
        self.addCleanup(server.shutdown)
        hook, secret = webhook_outbox.add_webhook(
            self.application,
            f"http://127.0.0.1:{server.server_port}/in",
            ["customer.changed"],
            "Ida",
            inside=True,
        )
        self.change("Zoë")
        webhook_outbox.deliver_due(
            self.application, lambda *given: deliver(*given, True) if "127" in given[0] else Answer(200, None)
        )
        self.assertEqual(webhook_outbox.deliveries(self.application, hook)[0].state, "delivered")
        headers, body = Receiver.got[-1]

        read = Reference(secret).verify(body, {name.lower(): value for name, value in headers.items()})
        self.assertEqual(read["type"], "customer.changed")
        self.assertEqual(read, json.loads(body))
        self.assertIsNone(deliver("http://127.0.0.1:1/", secret, "m", 1, "{}", True).status)
        many = len(Receiver.got)
        refused = deliver(f"http://127.0.0.1:{server.server_port}/in", secret, "m", 1, "{}")
        self.assertIn("inside our own network", str(refused.problem))
        self.assertEqual(len(Receiver.got), many)
        # its own choice, kept with the book, holds when it is due by itself
        self.change("Zora")
        webhook_outbox.deliver_due(self.application)
        self.assertEqual(webhook_outbox.deliveries(self.application, hook)[0].state, "delivered")

    def test_addresses_inside_are_refused(self) -> None:
        """Seen: webhooks reached loopback and private addresses. Ranges: IANA's special-purpose registries
        (RFC 6890), RFC 4193, RFC 4291.
        """
        for host in (
            "127.0.0.1",
            "127.9.9.9",
            "10.1.2.3",
            "172.16.0.1",
            "192.168.1.1",
            "169.254.169.254",
            "100.64.0.1",
            "0.0.0.0",
            "224.0.0.1",
            "[::1]",
            "[::]",
            "[fc00::1]",
            "[fe80::1]",
            "[::ffff:127.0.0.1]",
            "[2002:7f00:1::]",
            "2130706433",
            "0x7f.1",
            "localhost",
        ):
            with self.subTest(host), self.assertRaises(webhook_outbox.CannotKeepWebhook):
                webhook_outbox.add_webhook(self.application, f"http://{host}/", ["message.sent"], "Ida")
        for address in ("192.0.43.8", "2001:4860::8"):
            self.assertTrue(is_outside(address), address)

    def test_an_answer_that_drips_is_ended(self) -> None:
        """Seen: a call could last for ever. The bound is shortened, so that the test is quick."""
        usual, outward.DEADLINE_SECONDS = outward.DEADLINE_SECONDS, 0.5
        self.addCleanup(setattr, outward, "DEADLINE_SECONDS", usual)
        listening = socket.create_server(("127.0.0.1", 0))
        self.addCleanup(listening.close)
        done = Event()
        self.addCleanup(done.set)

        def drip() -> None:
            there, _ = listening.accept()
            with there:
                while not done.wait(0.1):
                    try:
                        there.sendall(b"H")
                    except OSError:
                        return

        Thread(target=drip, daemon=True).start()
        url = f"http://127.0.0.1:{listening.getsockname()[1]}/"
        self.assertIn("Timeout", str(deliver(url, new_secret(), "m", 1, "{}", True).problem))

    def test_addresses_that_are_none(self) -> None:
        for url in ("", "example.com", "ftp://example.com", "http://", "https://a b", "http://x:99999"):
            with self.assertRaises(webhook_outbox.CannotKeepWebhook):
                webhook_outbox.add_webhook(self.application, url, ["message.sent"], "Ida")
        with self.assertRaises(webhook_outbox.CannotKeepWebhook):
            webhook_outbox.add_webhook(self.application, "https://example.com", ["nothing"], "Ida")
