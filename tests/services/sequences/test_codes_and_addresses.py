"""One code a person, offer and run; the same message once to an address that two people share (rules of the
job, section 6).
"""

from datetime import timedelta

from sqlalchemy import select

from loyalbell.core.offers.terms import Terms
from loyalbell.core.sequences.plan import read_plan
from loyalbell.services.offers import commands as offer_commands
from loyalbell.services.scheduler import tick
from loyalbell.services.sequences.drafts import mistakes
from loyalbell.storage.schema import OfferCode
from tests.services.sequences.test_runner import AFTER_AN_ORDER, DAY, HOUR, SequenceCase, wait


class OneCodeTest(SequenceCase):
    def setUp(self) -> None:
        super().setUp()
        terms = Terms(kind="percent", percent=10, days=5)
        self.offer = offer_commands.keep(self.application, None, "Ten off", terms, "Ida")

    def showing(self, step: str) -> dict[str, object]:
        """A step whose message shows the code and its last day."""
        said = f"Your code {{{{ offer_{self.offer}.code }}}} until {{{{ offer_{self.offer}.until }}}}"
        return {"do": "message", "id": step, "message": self.letter(f"Code {step}", said)}

    def codes(self) -> list[OfferCode]:
        with self.application.database.reading() as session:
            return list(session.scalars(select(OfferCode).order_by(OfferCode.id)))

    def enter(self, *steps: dict[str, object], **more: object) -> None:
        self.add_order(self.add_person(), 0)
        self.clock.move_on(-HOUR)
        self.ring({"start": AFTER_AN_ORDER, "steps": list(steps), **more})
        self.clock.move_on(HOUR)

    def test_every_message_of_a_run_shows_the_same_code_and_its_last_day(self) -> None:
        """Seen: each message issued a new code; two live codes a person."""
        give = {"do": "offer", "id": "o", "offer": self.offer}
        self.enter(give, self.showing("m"), wait("w", 3), self.showing("n"))
        self.walk(4 * DAY)
        self.assertEqual([one.step for one in self.deliveries("sent")], ["m", "n"])
        (code,) = self.codes()
        for mail in self.sender.handed:
            self.assertIn(code.code.encode(), mail.content)
            last = (code.expires_at - timedelta(hours=12)).date()
            self.assertIn(f"{last.day} {last:%B}".encode(), mail.content)

    def test_another_run_gets_another_one(self) -> None:
        self.enter(self.showing("m"), again={"kind": "each"})
        self.walk(HOUR)
        self.add_order(1, 0)
        self.clock.move_on(HOUR)
        self.walk(HOUR)
        self.assertEqual(len({one.code for one in self.codes()}), 2)

    def test_a_code_that_is_over_is_never_sent(self) -> None:
        visit = {"kind": "until event", "happening": {"what": "visit"}}
        self.enter(self.showing("m"), wait("w", 9) | visit, self.showing("n"))
        self.walk(10 * DAY)
        states = {one.step: (one.state, one.cause) for one in self.deliveries()}
        self.assertEqual(states, {"m": ("sent", None), "n": ("withheld", "not filled")})
        self.assertEqual(len(self.codes()), 1)

    def test_the_check_says_where_the_code_will_be_over(self) -> None:
        first, second = self.showing("m"), self.showing("n")
        for days, wrong in ((5, False), (6, True)):
            with self.subTest(days=days):
                plan = read_plan({"start": AFTER_AN_ORDER, "steps": [first, wait("w", days), second]})
                said = [one.words for one in mistakes(self.application, plan) if "has ended" in one.words]
                self.assertEqual(bool(said), wrong, said)
        self.assertIn("holds 5 days, and this message leaves 6 days after", said[0])


class SameAddressTest(SequenceCase):
    def enter_two(self) -> None:
        for _ in range(2):
            self.add_order(self.add_person("family@example.com"), 0)
        self.add_order(self.add_person("alone@example.com"), 0)
        step = self.message("m")
        self.clock.move_on(-HOUR)
        self.ring({"start": AFTER_AN_ORDER, "steps": [step, wait("w", 9)]})
        self.clock.move_on(HOUR)
        tick(self.application, self.sender)

    def test_two_people_at_one_address_get_a_sequences_message_once(self) -> None:
        """Seen: only campaigns left the second one out."""
        self.enter_two()
        said = sorted((one.state, one.cause or "") for one in self.deliveries())
        self.assertEqual(said, [("sent", ""), ("sent", ""), ("withheld", "same address")])
        to = [one.recipient for one in self.sender.handed]
        self.assertEqual(sorted(to), ["alone@example.com", "family@example.com"])

    def test_also_when_the_second_is_due_some_hours_later(self) -> None:
        self.enter_two()
        self.add_order(self.add_person("family@example.com"), 0)
        self.clock.move_on(5 * HOUR)
        tick(self.application, self.sender)
        self.assertEqual(len(self.sender.handed), 2)
        self.add_order(self.add_person("family@example.com"), 0)
        self.clock.move_on(2 * DAY)
        tick(self.application, self.sender)
        self.assertEqual(len(self.sender.handed), 3, "another day is another matter")
