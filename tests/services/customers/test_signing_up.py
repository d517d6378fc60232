"""Who is asked whether they want mail: bounded, without a word that was typed; till then a refusal stays."""

from datetime import timedelta

from sqlalchemy import func, select

from loyalbell.services.application import FROM_WHERE
from loyalbell.services.customers import confirmation_mail, erasure, signing_up
from loyalbell.services.customers.asking import AskingSettings
from loyalbell.services.replies import inbound
from loyalbell.services.scheduler import tick
from loyalbell.storage.consent import consent_now
from loyalbell.storage.schema import ConsentEntry, Person, Shop, SignUp, Suppression
from tests.support import NOW, ApplicationCase, FakeSender

START = "From: Ann <ann@example.com>\r\nMessage-ID: <{0}@x>\r\nSubject: hi\r\n\r\nSTART\r\n"


class SigningUpTest(ApplicationCase):
    def setUp(self) -> None:
        super().setUp()
        with self.application.database.transaction() as session:
            ann = Person(email="ann@example.com", first_name="Ann", joined_at=NOW)
            session.add(ann)
            session.flush()
            session.add(
                ConsentEntry(
                    person_id=ann.id, channel="email", state="refused", at=NOW, source="preference page"
                )
            )
            self.ann = ann.id
        self.sender = FakeSender()

    def sign_up(self, email: str, **more: str) -> None:
        signing_up.sign_up(self.application, {"email": email} | more)

    def said(self) -> str | None:
        with self.application.database.reading() as session:
            return consent_now(session, [self.ann], "email").get(self.ann)

    def asked(self) -> list[str]:
        tick(self.application, self.sender)
        return [one.recipient for one in self.sender.handed]

    def token(self) -> str:
        with self.application.database.reading() as session:
            return session.scalars(select(SignUp.token).order_by(SignUp.id.desc())).first() or ""

    def test_start_with_a_made_up_sender_changes_nothing_and_asks_the_owner(self) -> None:
        """Seen: it turned a refusal into *agreed*."""
        inbound.take_mail(self.application, ["reply@in.shop.example"], START.format(1).encode())
        self.assertEqual(self.said(), "refused")
        self.assertEqual(self.asked(), ["ann@example.com"])
        inbound.take_mail(self.application, ["reply@in.shop.example"], START.format(2).encode())
        self.assertEqual(self.asked(), ["ann@example.com"])  # once an hour
        self.assertTrue(signing_up.confirm(self.application, self.token()))
        self.assertEqual(self.said(), "agreed")

    def test_what_was_agreed_to_is_kept_word_by_word_with_page_form_and_times(self) -> None:
        held = FROM_WHERE.set("192.0.2.7")
        self.addCleanup(FROM_WHERE.reset, held)
        page = "https://shop.example/hear-from-us"
        signing_up.sign_up(self.application, {"email": "bo@example.com"}, page=page)
        self.clock.move_on(timedelta(hours=2))
        signing_up.confirm(self.application, self.token())
        with self.application.database.reading() as session:
            said = session.scalars(select(ConsentEntry).order_by(ConsentEntry.id.desc())).first()
            form = signing_up.form_version(session)
        assert said
        self.assertEqual(
            said.wording,
            "You agree that Test Shop may write to you by email. Every mail has a link to stop it.",
        )
        self.assertEqual(
            said.evidence,
            {
                "page": page,
                "form": form,
                "language": "en",
                "asked at": NOW.isoformat(),
                "asked from": "192.0.2.7",
                "confirmed at": (NOW + timedelta(hours=2)).isoformat(),
                "confirmed from": "192.0.2.7",
            },
        )

    def test_the_form_has_another_version_once_it_says_something_else(self) -> None:
        with self.application.database.transaction() as session:
            before = signing_up.form_version(session)
            AskingSettings(wording="News, once a month.").save(session)
            self.assertNotEqual(signing_up.form_version(session), before)
            self.assertEqual(
                signing_up.words_agreed_to(session, "de"),
                "News, once a month. In jeder E-Mail steht ein Link zum Abmelden.",
            )

    def test_a_link_is_too_old_after_a_fortnight_and_pressed_again_undoes_no_refusal(self) -> None:
        self.sign_up("ann@example.com")
        token = self.token()
        self.assertTrue(signing_up.confirm(self.application, token))
        with self.application.database.transaction() as session:
            session.add(
                ConsentEntry(
                    person_id=self.ann,
                    channel="email",
                    state="refused",
                    at=self.clock.now() + timedelta(minutes=1),
                    source="a page",
                )
            )
        self.clock.move_on(timedelta(minutes=2))
        self.assertTrue(signing_up.confirm(self.application, token))
        self.assertEqual(self.said(), "refused")
        self.clock.move_on(signing_up.BETWEEN)
        self.sign_up("bo@example.org")
        self.clock.move_on(timedelta(days=signing_up.CONFIRM_DAYS, minutes=1))
        self.assertIs(signing_up.confirm(self.application, self.token()), False)

    def test_while_everything_is_silent_nobody_is_asked(self) -> None:
        self.sign_up("bo@example.org")
        with self.application.database.transaction() as session:
            session.get_one(Shop, 1).ringing = False
        self.assertEqual(confirmation_mail.send_due(self.application, self.sender), 0)
        self.assertEqual(self.sender.handed, [])

    def test_start_from_somebody_who_had_not_refused_asks_nobody(self) -> None:
        self.sign_up("ann@example.com")
        signing_up.confirm(self.application, self.token())
        self.clock.move_on(signing_up.BETWEEN)
        inbound.take_mail(self.application, ["reply@in.shop.example"], START.format(4).encode())
        with self.application.database.reading() as session:
            self.assertEqual(session.scalar(select(func.count()).select_from(SignUp)), 1)

    def test_start_from_somebody_who_is_not_on_file_asks_nobody(self) -> None:
        raw = START.format(3).replace("ann@", "nobody@").encode()
        inbound.take_mail(self.application, ["reply@in.shop.example"], raw)
        self.assertEqual(self.asked(), [])

    def test_a_refusal_stays_until_it_is_confirmed(self) -> None:
        """Seen: signing up somebody else turned their *refused* into *waiting*."""
        self.sign_up("ann@example.com")
        self.asked()
        self.assertEqual(self.said(), "refused")
        signing_up.confirm(self.application, self.token())
        self.assertEqual(self.said(), "agreed")

    def test_sixty_for_one_mailbox_are_one_mail_and_no_customer(self) -> None:
        """Seen: 60 mails and 60 customers."""
        for at in range(60):
            self.sign_up(f"Victim+{at}@example.org")
        self.assertEqual(self.asked(), ["victim+0@example.org"])
        with self.application.database.reading() as session:
            self.assertEqual(session.scalar(select(func.count()).select_from(Person)), 1)
        for hour in range(5):
            self.clock.move_on(signing_up.BETWEEN)
            self.sign_up(f"victim+late{hour}@example.org")
        self.assertEqual(len(self.asked()), signing_up.MOST_A_DAY)

    def test_mails_to_confirm_are_bounded_in_all(self) -> None:
        usual, signing_up.MOST_AN_HOUR = signing_up.MOST_AN_HOUR, 5
        self.addCleanup(setattr, signing_up, "MOST_AN_HOUR", usual)
        for at in range(9):
            self.sign_up(f"somebody{at}@example.org")
        self.assertEqual(len(self.asked()), 5)

    def test_no_word_that_was_typed_stands_in_the_mail(self) -> None:
        """Seen: the attacker's words stood in *To:*."""
        self.sign_up("bo@example.org", first_name="Win 1,000 at evil.example", last_name="\r\nBcc: x@x")
        self.asked()
        content = self.sender.handed[0].content
        for word in (b"Win 1", b"evil", b"Bcc"):
            self.assertNotIn(word, content)

    def test_a_suppressed_address_is_not_asked(self) -> None:
        with self.application.database.transaction() as session:
            session.add(Suppression(channel="email", address="gone@example.org", reason="complaint", at=NOW))
        self.sign_up("gone@example.org")
        self.assertEqual(self.asked(), [])

    def test_a_network_that_wants_it_later_gets_it_later_and_once(self) -> None:
        self.sign_up("bo@example.org")
        self.sender.result = "try later"
        confirmation_mail.send_due(self.application, self.sender)
        self.assertEqual(confirmation_mail.send_due(self.application, FakeSender()), 0)
        self.clock.move_on(confirmation_mail.AGAIN_AFTER)
        calm = FakeSender()
        self.assertEqual(confirmation_mail.send_due(self.application, calm), 1)
        self.assertEqual(confirmation_mail.send_due(self.application, calm), 0)

    def test_erasing_takes_the_wish_out_too(self) -> None:
        """Seen: the row stayed, with name and answers."""
        self.sign_up("ANN@example.com", first_name="Ann")
        erasure.erase(self.application, [self.ann], "Ida")
        with self.application.database.reading() as session:
            self.assertEqual(session.scalar(select(func.count()).select_from(SignUp)), 0)
