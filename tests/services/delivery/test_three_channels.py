"""Messages on three channels: made for each person, handed over, called back about, and answered."""

import base64
import json
import re
import time
import unittest
from datetime import timedelta

import dkim
from cryptography.hazmat.primitives import serialization
from cryptography.hazmat.primitives.asymmetric import rsa
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey
from cryptography.hazmat.primitives.serialization import Encoding, NoEncryption, PrivateFormat

from loyalbell.channels.dkim_signing import BadKey, new_key, public_key, signed
from loyalbell.channels.http_gateway import GatewaySender, called_back
from loyalbell.channels.sender import Outgoing
from loyalbell.channels.webhook import new_secret, signature
from loyalbell.core.messages import content as c
from loyalbell.core.messages.sender_records import Sender, records_for
from loyalbell.core.offers.terms import Terms
from loyalbell.core.segments.model import Group, OffersCondition, PeopleCondition, Rule
from loyalbell.post_room.server import KEY, PostRoom
from loyalbell.post_room.store import PostRoomStore
from loyalbell.services.campaigns import audience
from loyalbell.services.campaigns import commands as campaign_commands
from loyalbell.services.campaigns import queries as campaign_queries
from loyalbell.services.customers import timeline
from loyalbell.services.delivery import engagement
from loyalbell.services.messages import commands as message_commands
from loyalbell.services.messages import letterheads, proofs
from loyalbell.services.messages import queries as message_queries
from loyalbell.services.offers import commands as offer_commands
from loyalbell.services.replies import inbound, inbox
from loyalbell.services.scheduler import tick
from loyalbell.services.segments import commands as segment_commands
from loyalbell.services.segments import queries as segment_queries
from loyalbell.services.settings.channels import (
    ChatSettings,
    EmailSettings,
    LinkSettings,
    ProofReader,
    TextSettings,
)
from loyalbell.storage.consent import consent_now
from loyalbell.storage.schema import (
    ConsentEntry,
    Delivery,
    DeliveryEvent,
    OfferCode,
    Preference,
    Reply,
    Suppression,
)
from tests.support import NOW, ApplicationCase, FakeSender

MAIL = (
    b"From: a@shop.example\r\nTo: b@example.com\r\nSubject: Hi\r\nDate: Tue, 12 May 2026 09:40:00"
    b" +0000\r\nMessage-ID: <1@x>\r\n\r\nwords\r\n"
)


class ThreeChannels(ApplicationCase):
    def setUp(self) -> None:
        super().setUp()
        with self.application.database.transaction() as session:
            TextSettings(
                url="http://127.0.0.1:1/text",
                key="k",
                secret=new_secret(),
                sender="+15185550100",
                cost_minor=1,
            ).save(session)
            ChatSettings(url="http://127.0.0.1:1/chat", key="k", secret=new_secret(), sender="Shop").save(
                session
            )
            EmailSettings(bounce_domain="in.shop.example").save(session)
            LinkSettings(booking_url="https://shop.example/book", phone="(518) 555-0100").save(session)
        self.offer = offer_commands.keep(self.application, None, "Ten", Terms(percent=10, days=30), "Ida")
        self.opening = letterheads.keep_opening(
            self.application, None, "Hello", 'Hi {{ first_name | default: "there" }}?', "Ida"
        )
        letterheads.settle_opening(self.application, self.opening, "approved", "Ida")
        self.ann = self.reach("ann@example.com", "+12125550101", "ann.1", "Ann")
        self.bo = self.reach(None, "+12125550102", None, "Bo", language="es-MX")
        self.message = message_commands.keep(self.application, None, "Three", self.content(), "Ida")

    def reach(
        self, email: str | None, phone: str | None, chat: str | None, name: str, **facts: object
    ) -> int:
        person = self.add_person(
            email,
            "never asked" if email is None else "agreed",
            phone=phone,
            chat_handle=chat,
            first_name=name,
            **facts,
        )
        for channel, address in (("text", phone), ("chat", chat)):
            if address:
                self.say(person, channel, "agreed")
        return person

    def say(self, person: int, channel: str, state: str) -> None:
        with self.application.database.transaction() as session:
            session.add(
                ConsentEntry(
                    person_id=person, channel=channel, state=state, at=NOW - timedelta(days=9), source="test"
                )
            )

    def content(self) -> c.MessageContent:
        head = message_queries.letterheads(self.application)[0].id
        return c.MessageContent(
            writings=[
                c.EmailContent(
                    subject="Hi {{ first_name }}",
                    letterhead=head,
                    blocks=[c.Text(text="See [us]({{ booking_url }})."), c.Offer(offer=self.offer)],
                ),
                c.TextContent(
                    texts=[
                        c.ShownText(
                            text=(
                                f"Hi {{{{ first_name }}}}: {{{{ offer_{self.offer}.code }}}} {{{{ booking_url"
                                " }} {{ stop_words }}"
                            )
                        )
                    ]
                ),
                c.TextContent(
                    language="es", texts=[c.ShownText(text="Hola {{ first_name }} {{ stop_words }}")]
                ),
                c.ChatContent(
                    texts=[c.ShownText(text="Chat {{ first_name }}")], replies=["Yes"], opening=self.opening
                ),
            ]
        )

    def send(self, *channels: str, name: str = "May") -> FakeSender:
        people = (self.ann, self.bo)
        rule = Rule(root=Group(lines=[PeopleCondition(ids=people)]))
        segment = segment_commands.keep(self.application, None, f"Both {name}", rule, "Ida")
        made = campaign_commands.draft_campaign(
            self.application, name, segment, self.message, "Ida", list(channels)
        )
        with self.application.database.reading() as session:
            campaign = session.get_one(campaign_commands.Campaign, made)
        campaign_commands.start_campaign(
            self.application, made, len(audience.audience(self.application, campaign).reached), "Ida"
        )
        sender = FakeSender()
        tick(self.application, sender)
        return sender

    def deliveries(self) -> list[Delivery]:
        with self.application.database.reading() as session:
            return list(session.query(Delivery).order_by(Delivery.id))

    def state(self, person: int, channel: str) -> str | None:
        with self.application.database.reading() as session:
            return consent_now(session, [person], channel).get(person)

    def test_each_on_the_first_channel_that_reaches_them_and_in_their_language(self) -> None:
        sender = self.send("email", "text")
        found = {one.recipient: one for one in sender.handed}
        self.assertEqual(set(found), {"ann@example.com", "+12125550102"})
        text = json.loads(found["+12125550102"].content)
        self.assertEqual((text["text"], text["from"]), ("Hola Bo Reply STOP to end", "+15185550100"))
        self.assertTrue(found["ann@example.com"].sender.startswith("bounce+"))
        self.assertIn(b"Reply-To: reply+", found["ann@example.com"].content)
        with self.application.database.reading() as session:
            tokens = [one.token for one in session.query(Delivery)]
        # who sees an address or the Message-ID must not reach the preferences page with it
        for one in found.values():
            head = one.content.partition(b"\r\n\r\n")[0].decode()
            seen = " ".join(line for line in head.splitlines() if not line.startswith("List-Unsubscribe:"))
            for token in tokens:
                self.assertNotIn(token, one.sender + one.message_id)
                self.assertNotIn(token, re.sub(r"List-Unsubscribe: [^:]*", "", seen.replace("\r", "")))
        bo = next(delivery for delivery in self.deliveries() if delivery.person_id == self.bo)
        self.assertEqual(
            (bo.channel, bo.language, bo.parts, bo.cost_minor, len(bo.token)), ("text", "es", 1, 1, 10)
        )

    def test_a_code_of_their_own_and_links_that_are_followed(self) -> None:
        sender = self.send("text")
        ann = json.loads(next(one for one in sender.handed if one.recipient == "+12125550101").content)[
            "text"
        ]
        with self.application.database.reading() as session:
            (code,) = session.query(OfferCode).all()
        delivery = next(one for one in self.deliveries() if one.person_id == self.ann)
        self.assertEqual(
            ann, f"Hi Ann: {code.code} http://127.0.0.1:1/s/{delivery.token}/0 Reply STOP to end"
        )
        self.assertEqual(
            engagement.clicked(self.application, delivery.token, "0"), "https://shop.example/book"
        )

    def test_who_holds_a_code_is_a_segment_that_follows_the_till(self) -> None:
        self.application.snapshot()
        holders = Rule(root=Group(lines=[OffersCondition(offer=self.offer)]))
        self.send("text")
        snapshot, met = segment_queries.who(self.application, holders)
        self.assertEqual(snapshot.people.ids[met].tolist(), [self.ann])
        with self.application.database.reading() as session:
            (code,) = session.query(OfferCode).all()
        self.clock.move_on(timedelta(hours=1))
        offer_commands.redeem(self.application, code.code, 5_000, "till")
        self.assertFalse(segment_queries.who(self.application, holders)[1].any())
        used = Rule(root=Group(lines=[OffersCondition(state="used", days=1)]))
        self.assertEqual(int(segment_queries.who(self.application, used)[1].sum()), 1)

    def test_a_chat_begins_with_an_approved_opening_message_only(self) -> None:
        body = json.loads(self.send("chat").handed[0].content)
        self.assertEqual((body["opening"], body["text"]), ("Hello", "Hi Ann?"))
        inbound.take_reply(self.application, "chat", "in-1", "ann.1", "Hello?", self.clock.now())
        body = json.loads(self.send("chat", name="June").handed[0].content)
        self.assertEqual((body["text"], body["replies"]), ("Chat Ann", ["Yes"]))
        letterheads.settle_opening(self.application, self.opening, "refused", "Ida")
        self.clock.move_on(timedelta(days=2))
        with self.assertRaises(campaign_queries.CannotSend):
            self.send("chat", name="July")

    def test_stop_holds_from_that_second_for_everyone_at_the_number(self) -> None:
        twin = self.reach(None, "+12125550102", None, "Bo’s twin")
        self.send("text")
        inbound.take_reply(self.application, "text", "in-2", "+12125550102", "Stop.", self.clock.now())
        self.assertEqual([self.state(self.bo, "text"), self.state(twin, "text")], ["refused", "refused"])
        sender = FakeSender()
        tick(self.application, sender)
        self.assertEqual(
            [json.loads(one.content)["text"][:24] for one in sender.handed], ["Test Shop: you will get "]
        )
        self.assertIsNone(
            inbound.take_reply(self.application, "text", "in-2", "+12125550102", "Stop.", self.clock.now())
        )
        tick(self.application, sender)
        self.assertEqual(len(sender.handed), 1)  # the same call again changes and sends nothing
        inbound.take_reply(self.application, "text", "in-3", "+12125550102", "START", self.clock.now())
        self.assertEqual(self.state(self.bo, "text"), "agreed")
        with self.application.database.reading() as session:
            self.assertEqual(inbox.waiting(session), 0)

    def test_start_gives_no_consent_that_was_never_there(self) -> None:
        cy = self.add_person("cy@example.com", phone="+12125550103")
        inbound.take_reply(self.application, "text", "in-4", "+12125550103", "start", self.clock.now())
        self.assertIsNone(self.state(cy, "text"))

    def test_words_land_in_the_tray_and_are_answered_on_the_same_channel(self) -> None:
        self.send("text")
        at = inbound.take_reply(
            self.application, "text", "in-5", "+12125550101", "Open on Sunday?", self.clock.now()
        )
        assert at is not None
        with self.application.database.reading() as session:
            (thread,) = inbox.threads(session)
            self.assertEqual(
                (thread.person.id if thread.person else 0, inbox.waiting(session)), (self.ann, 1)
            )
        self.clock.move_on(timedelta(minutes=30))
        inbox.answer(self.application, at, "From ten on. {{ not_a_field }}", "Ida")
        sender = FakeSender()
        tick(self.application, sender)
        self.assertEqual(
            [(one.recipient, json.loads(one.content)["text"]) for one in sender.handed],
            [("+12125550101", "From ten on. { { not_a_field }}")],
        )
        with self.application.database.reading() as session:
            self.assertEqual(inbox.waiting(session), 0)
            load = inbox.load(session, self.clock.now())
            events = [one.kind for one in session.query(DeliveryEvent)]
        self.assertEqual((load.median_minutes, sum(load.by_hour)), (30.0, 1))
        self.assertIn("replied", events)
        with self.assertRaises(inbox.CannotAnswer):
            inbox.answer(self.application, at, " ", "Ida")

    def mail(self, to: str, text: str, *headers: str) -> bytes:
        head = "\r\n".join(
            [
                "From: Ann <ann@example.com>",
                f"To: <{to}>",
                "Subject: Re: Hi",
                f"Message-ID: <{len(text)}{to}>",
                *headers,
            ]
        )
        return f"{head}\r\nContent-Type: text/plain\r\n\r\n{text}".encode()

    def test_mail_that_comes_in(self) -> None:
        sender = self.send("email")
        token = sender.handed[0].sender.removeprefix("bounce+").partition("@")[0]
        to = f"reply+{token}@in.shop.example"
        inbound.take_mail(self.application, [to], self.mail(to, "Thursday suits me\r\n\r\n> Hi Ann"))
        inbound.take_mail(
            self.application, [to], self.mail(to, "I am away until Monday.", "Auto-Submitted: auto-replied")
        )
        with self.application.database.reading() as session:
            rows = [
                (one.text, one.kind, one.state, one.person_id)
                for one in session.query(Reply).order_by(Reply.id)
            ]
        self.assertEqual(
            rows,
            [
                ("Thursday suits me", "answer", "new", self.ann),
                ("I am away until Monday.", "auto-reply", "done", self.ann),
            ],
        )
        inbound.take_mail(self.application, [to], self.mail(to, "unsubscribe"))
        self.assertEqual(self.state(self.ann, "email"), "refused")

    def report(self, token: str, status: str) -> bytes:
        return (
            "From: <postmaster@x.example>\r\nSubject: Report\r\nMIME-Version: 1.0\r\nContent-Type:"
            ' multipart/report; report-type=delivery-status; boundary="b"\r\n\r\n--b\r\nContent-Type:'
            " text/plain\r\n\r\nx\r\n--b\r\nContent-Type: message/delivery-status\r\n\r\nReporting-MTA: dns;"
            " x.example\r\n\r\nFinal-Recipient: rfc822; ann@example.com\r\nAction: failed\r\nStatus:"
            f" {status}\r\n\r\n--b--\r\n"
        ).encode()

    def test_a_hard_bounce_stops_an_address_at_once_and_three_soft_ones_in_different_weeks(self) -> None:
        for week, status in enumerate(("4.2.2", "4.2.2", "4.2.2")):
            token = (
                self.send("email", name=f"Week {week}")
                .handed[0]
                .sender.removeprefix("bounce+")
                .partition("@")[0]
            )
            with self.application.database.reading() as session:
                self.assertEqual(session.query(Suppression).count(), 0)
            for _ in range(2):  # the same report twice is one
                inbound.take_mail(
                    self.application, [f"bounce+{token}@in.shop.example"], self.report(token, status)
                )
            self.clock.move_on(timedelta(days=7))
        with self.application.database.reading() as session:
            self.assertEqual([one.reason for one in session.query(Suppression)], ["three soft bounces"])
            self.assertEqual(
                session.query(DeliveryEvent).filter(DeliveryEvent.kind == "soft bounce").count(), 3
            )

    def test_a_network_that_says_a_number_is_dead(self) -> None:
        handed = self.send("text").handed
        for one in handed[1:]:
            self.assertTrue(inbound.delivered(self.application, "text", one.message_id))
        self.assertTrue(
            inbound.failed(self.application, "text", handed[0].message_id, True, "number not in use")
        )
        self.assertFalse(inbound.failed(self.application, "text", "<unknown@x>", True, "x"))
        with self.application.database.reading() as session:
            self.assertEqual(
                [(one.address, one.reason) for one in session.query(Suppression)],
                [(handed[0].recipient, "hard bounce")],
            )

    def test_who_asked_for_a_pause_or_for_less_is_left_out_except_by_service_notices(self) -> None:
        self.send("email", "text")
        with self.application.database.transaction() as session:
            session.add(Preference(person_id=self.ann, token="t1", often="weekly"))
            session.add(
                Preference(person_id=self.bo, token="t2", often="any", paused_until=NOW + timedelta(days=30))
            )
        with self.assertRaises(campaign_queries.CannotSend):
            self.send("email", "text", name="June")
        message_commands.keep(self.application, self.message, "Three", self.content(), "Ida", "service")
        self.assertEqual(len(self.send("email", "text", name="Notice").handed), 2)
        message_commands.keep(self.application, self.message, "Three", self.content(), "Ida", "marketing")
        self.clock.move_on(timedelta(days=8))
        self.assertEqual(
            [one.recipient for one in self.send("email", "text", name="July").handed], ["ann@example.com"]
        )

    def test_a_proof_leaves_no_trace_in_the_diary_of_whom_it_was_read_as(self) -> None:
        writing = self.content().find("email")
        assert writing is not None
        with self.application.database.reading() as session:
            before = timeline.diary(session, self.ann)
        reader = ProofReader(name="Ida", email="i@shop.example")
        proofs.send_proof(self.application, writing, self.ann, reader, "Ida")
        sender = FakeSender()
        tick(self.application, sender)
        self.assertEqual(len(sender.handed), 1)
        with self.application.database.reading() as session:
            self.assertEqual(timeline.diary(session, self.ann), before)

    def test_a_proof_counts_nowhere_and_refuses_nobody(self) -> None:
        writing = self.content().find("email")
        assert writing is not None
        to = ProofReader(name="Bea", email="bea@shop.example")
        proofs.send_proof(self.application, writing, self.ann, to, "Ida")
        sender = FakeSender()
        tick(self.application, sender)
        (one,) = sender.handed
        self.assertEqual(one.recipient, "bea@shop.example")
        self.assertIn(b"Subject: Proof: Hi Ann", one.content)
        token = self.deliveries()[0].token
        self.assertTrue(engagement.refuse(self.application, token))
        self.assertEqual(self.state(self.ann, "email"), "agreed")
        with self.application.database.reading() as session:
            self.assertEqual((session.query(OfferCode).count(), session.query(DeliveryEvent).count()), (0, 0))
        self.assertEqual(len(self.application.snapshot().deliveries), 0)
        with self.assertRaisesRegex(proofs.NoProof, "no address"):
            proofs.send_proof(self.application, self.content().find("chat"), self.ann, to, "Ida")  # type: ignore[arg-type]

    def test_who_refused_a_channel_since_planning_gets_nothing_on_it(self) -> None:
        rule = Rule(root=Group(lines=[PeopleCondition(ids=(self.ann, self.bo))]))
        segment = segment_commands.keep(self.application, None, "Both", rule, "Ida")
        made = campaign_commands.draft_campaign(
            self.application, "Late", segment, self.message, "Ida", ["text"]
        )
        campaign_commands.start_campaign(self.application, made, 2, "Ida")
        inbound.take_reply(self.application, "text", "in-9", "+12125550101", "STOP", self.clock.now())
        sender = FakeSender()
        tick(self.application, sender)
        marketing = [
            one for one in sender.handed if "no more messages" not in json.loads(one.content)["text"]
        ]
        self.assertEqual([one.recipient for one in marketing], ["+12125550102"])
        self.assertEqual(
            {delivery.cause for delivery in self.deliveries() if delivery.state == "withheld"}, {"refused"}
        )


class Gateways(ApplicationCase):
    def setUp(self) -> None:
        super().setUp()
        self.store = PostRoomStore(self.folder)
        self.room = PostRoom(self.store, self.clock.now)
        self.room.start()
        self.addCleanup(self.store.close)
        self.addCleanup(self.room.stop)

    def out(self, at: int, to: str) -> Outgoing:
        body = {"id": f"<{at}@x>", "to": to, "text": "Hi"}
        return Outgoing(at, "s", to, f"<{at}@x>", json.dumps(body).encode(), "text")

    def test_taken_once_refused_and_put_off(self) -> None:
        sender = GatewaySender(f"{self.room.address}/text", KEY)
        found = {
            one.delivery_id: one.result
            for one in sender.send([self.out(1, "+1"), self.out(1, "+1"), self.out(2, "+10000")])
        }
        self.assertEqual(found, {1: "accepted", 2: "refused"})
        self.assertEqual(self.store.count_shorts("text"), 1)
        self.assertEqual((sender.knows("<1@x>"), sender.knows("<9@x>"), sender.try_out()), (True, False, ""))
        self.store.set_mood("refused_of_100", 100)
        self.assertEqual(sender.send([self.out(3, "+1")])[0].result, "try later")
        self.assertEqual(
            GatewaySender("http://127.0.0.1:1", "k").send([self.out(4, "+1")])[0].result, "try later"
        )
        self.assertIn("key", GatewaySender(f"{self.room.address}/text", "wrong").try_out())

    def test_calls_back_are_believed_only_with_a_fresh_signature(self) -> None:
        """Standard Webhooks 1.0.

        Judged by our own signature, which test_webhooks holds against the reference library.
        """
        secret, now = new_secret(), int(time.time())
        head = {
            "webhook-id": "m",
            "webhook-timestamp": str(now),
            "webhook-signature": signature(secret, "m", now, "{}"),
        }
        self.assertTrue(called_back(secret, head, "{}", now))
        self.assertFalse(called_back(secret, head, "{} ", now))
        self.assertFalse(called_back(secret, head, "{}", now + 3_600))
        self.assertFalse(called_back(new_secret(), head, "{}", now))
        self.assertFalse(called_back(secret, {}, "{}", now))


class Signing(unittest.TestCase):
    def test_a_key_made_here_and_its_record_are_verified_by_the_library(self) -> None:
        """RFC 6376; the record is the one that Settings show, its strings joined as a resolver does."""
        key = new_key()
        sender = Sender("ida@shop.example", "mail.shop.example", "", "shop.example", "bell", public_key(key))
        (record,) = [one for one in records_for(sender) if one.what == "DKIM"]
        text = "".join(re.findall(r'"([^"]*)"', record.value)).encode()
        made = signed(MAIL, "shop.example", "bell", key)
        self.assertTrue(dkim.verify(made, dnsfunc=lambda name, timeout=5: text))
        self.assertIn(record.name, "bell._domainkey.shop.example.")

    def test_other_kinds_of_keys_are_refused_in_words(self) -> None:
        """RFC 8301: RSA of at least 1,024 bits; Ed25519 (RFC 8463) is not promised."""
        pem = (Encoding.PEM, PrivateFormat.PKCS8, NoEncryption())
        other = Ed25519PrivateKey.generate().private_bytes(*pem).decode()
        with self.assertRaisesRegex(BadKey, "not an RSA key"):
            public_key(other)
        with self.assertRaisesRegex(BadKey, "not a private key"):
            public_key("no key")

    def test_dkim_is_verified_by_the_library(self) -> None:
        """RFC 6376; dkimpy verifies with the public key as a DNS record would give it."""
        key = rsa.generate_private_key(public_exponent=65_537, key_size=2_048)
        pem = key.private_bytes(
            serialization.Encoding.PEM,
            serialization.PrivateFormat.TraditionalOpenSSL,
            serialization.NoEncryption(),
        ).decode()
        public = key.public_key().public_bytes(
            serialization.Encoding.DER, serialization.PublicFormat.SubjectPublicKeyInfo
        )
        record = b"v=DKIM1; k=rsa; p=" + base64.b64encode(public)
        made = signed(MAIL, "shop.example", "s1", pem)
        self.assertTrue(dkim.verify(made, dnsfunc=lambda name, timeout=5: record))
        self.assertFalse(
            dkim.verify(made.replace(b"words", b"other"), dnsfunc=lambda name, timeout=5: record)
        )
        with self.assertRaises(BadKey):
            signed(MAIL, "shop.example", "s1", "not a key")
