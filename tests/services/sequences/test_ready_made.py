"""Ready-made sequences hold the shapes of the rules of the job, section 6 (common practice, no source)."""

from datetime import timedelta
from typing import Any

from loyalbell.core.offers.terms import Terms
from loyalbell.core.sequences.plan import MessageStep, Plan, WaitStep, every_step
from loyalbell.services.messages import queries as message_queries
from loyalbell.services.offers import commands as offer_commands
from loyalbell.services.offers.queries import terms_of
from loyalbell.services.sequences import drafts, publishing, sequence_templates
from loyalbell.services.sequences.ready_made.making import Making
from loyalbell.services.settings.channels import LinkSettings
from loyalbell.storage import schema
from loyalbell.storage.schema import Event, Message, Offer, Person
from tests.services.sequences.test_runner import DAY, HOUR, SequenceCase

DAYS = {"minutes": 1 / 1_440, "hours": 1 / 24, "days": 1, "weeks": 7}


class ReadyMadeTest(SequenceCase):
    def plan(self, key: str) -> Plan:
        made = sequence_templates.make(self.application, key, "Ida")
        assert made is not None
        with self.application.database.reading() as session:
            return drafts.draft_of(session.get_one(schema.Sequence, made))

    def names(self, plan: Plan) -> list[str]:
        with self.application.database.reading() as session:
            known = {one.id: one.name for one in session.query(Message)}
        return [known[one.message] for one in self.messages(plan)]

    def messages(self, plan: Plan) -> list[Any]:
        return [one for one in every_step(plan.steps) if isinstance(one, MessageStep)]

    def waits(self, plan: Plan) -> list[float]:
        return [
            one.span.amount * DAYS[one.span.unit]
            for one in every_step(plan.steps)
            if isinstance(one, WaitStep)
        ]

    def terms(self, plan: Plan) -> list[Terms]:
        """Of each message that has an offer."""
        found = []
        with self.application.database.reading() as session:
            offers = {one.id: terms_of(one) for one in session.query(Offer)}
        for one in self.messages(plan):
            content = message_queries.content_of(self.application, one.message)
            email = content.find("email")
            blocks = getattr(email, "blocks", [])
            found += [offers[block.offer] for block in blocks if block.kind == "offer"]
        return found

    def test_win_back_waits_two_to_two_and_a_half_repeat_times_then_3_5_5_days(self) -> None:
        plan = self.plan("win-back")
        gap = Making(self.application, "Ida").gap()
        first, second = plan.steps[0].arms  # type: ignore[union-attr]
        for arm, factor in ((first, 2), (second, 2.5)):
            waits = [one.span.amount for one in arm.steps if isinstance(one, WaitStep)]
            self.assertEqual(waits[:4], [round(factor * gap), 3, 5, 5])
        self.assertEqual(len(self.messages(plan)), 8, "four messages in each of two arms")
        self.assertIn("order", [one.what for one in plan.exit_events])

    def test_two_four_and_eight_weeks_since_the_visit_each_with_a_better_offer(self) -> None:
        plan = self.plan("tiers")
        waits = self.waits(plan)
        self.assertEqual([sum(waits[: at + 1]) / 7 for at in range(3)], [2, 4, 8])
        percents = [terms.percent for terms in self.terms(plan)]
        self.assertEqual(len(percents), 3)
        self.assertTrue(percents[0] < percents[1] < percents[2], percents)

    def test_best_customers_are_those_with_more_orders_than_nine_tenths_of_this_shop(self) -> None:
        """Nineteen buyers with 1 to 19 orders of a year: a tenth of them is the one or two with most."""
        for many in range(1, 20):
            person = self.add_person(f"p{many}@example.com")
            for at in range(many):
                self.add_order(person, 1 + at)
        self.assertEqual(Making(self.application, "Ida").many_orders(), 18)
        plan = self.plan("vip")
        line = plan.start.rule.root.lines[0]  # type: ignore[union-attr]
        self.assertEqual((line.comparison, line.value, line.period.days), ("at least", 19, 365))

    def test_best_customers_get_one_code_of_10_to_15_per_cent_that_ends_48_hours_after_the_last_message(
        self,
    ) -> None:
        plan = self.plan("vip")
        terms = self.terms(plan)
        self.assertEqual(len(terms), 3)
        self.assertEqual(len(set(terms)), 1, "one offer, so one code, throughout")
        self.assertTrue(10 <= terms[0].percent <= 15)
        self.assertEqual(self.waits(plan), [1, 1])
        # given on day 0, told of on day 2 that it ends in two days: its last day is day 4
        self.assertEqual(terms[0].days, 2 + 2)
        self.assertEqual([one.what for one in plan.exit_events], ["order"])

    def test_an_offer_that_the_shop_has_is_taken_where_it_fits(self) -> None:
        offer_commands.keep(self.application, None, "Big", Terms(percent=30, days=4), "Ida")
        mine = offer_commands.keep(self.application, None, "Fits", Terms(percent=12, days=4), "Ida")
        making = Making(self.application, "Ida")
        self.assertEqual(making.offer(10, 15, 4), mine)
        self.assertNotEqual(making.offer(20, 25, 4), mine)

    def test_keep_in_touch_is_six_different_messages_the_last_on_day_151(self) -> None:
        plan = self.plan("keep-in-touch")
        self.assertEqual(len(set(self.names(plan))), 6)
        self.assertEqual(sum(self.waits(plan)), 151)

    def test_the_dated_series_has_four_messages_two_three_and_fourteen_days_apart(self) -> None:
        plan = self.plan("dated")
        self.assertEqual(self.waits(plan), [2, 3, 14])
        self.assertEqual([one.release.begins for one in self.messages(plan)[1:]], ["07:55", "11:05", "09:15"])
        self.assertEqual(len(set(self.names(plan))), 4)

    def test_second_purchase_goes_on_after_the_week(self) -> None:
        plan = self.plan("second")
        self.assertEqual(self.names(plan), ["A second visit", "A little help with the second visit"])
        self.assertEqual(self.waits(plan), [7])
        self.assertEqual(plan.start.days, 30)  # type: ignore[union-attr]

    def test_never_reacts_by_text_is_more_than_five_in_sixty_days(self) -> None:
        lines = {
            (line.about, getattr(line, "act", "")): line
            for line in self.plan("never-reacts-text").start.rule.root.lines  # type: ignore[union-attr]
        }
        got, clicked = lines["messages", "received"], lines["messages", "clicked"]
        self.assertEqual((got.comparison, got.value, got.period.days), ("at least", 6, 60))
        self.assertEqual((clicked.comparison, clicked.value, clicked.period.days), ("exactly", 0, 60))
        self.assertEqual(lines["person", ""].value, "60")

    def test_never_reacts_by_email_looks_at_72_weeks_and_at_the_site_too(self) -> None:
        lines = self.plan("never-reacts").start.rule.root.lines  # type: ignore[union-attr]
        self.assertEqual({line.about for line in lines}, {"consent", "messages", "orders", "events"})
        self.assertEqual({line.period.days for line in lines if line.about != "consent"}, {72 * 7})


class SignUpTest(SequenceCase):
    """Agreed, welcomed, and asked once more only where they have not come back within 24 hours."""

    def setUp(self) -> None:
        super().setUp()
        self.add_event(self.add_person("old@example.com"))
        made = sequence_templates.make(self.application, "welcome", "Ida")
        assert made is not None
        with self.application.database.transaction() as session:
            LinkSettings(booking_url="https://shop.example/book").save(session)
        publishing.publish(self.application, made, publishing.Choices(), "Ida", normal=10)
        self.walk(HOUR)
        self.ann, self.bob = self.sign_up("ann@example.com"), self.sign_up("bob@example.com")

    def sign_up(self, email: str) -> int:
        person = self.add_person(email, consent="never asked")
        with self.application.database.transaction() as session:
            session.add(
                schema.ConsentEntry(
                    person_id=person, channel="email", state="agreed", at=self.clock.now(), source="test"
                )
            )
            session.get_one(Person, person).joined_at = self.clock.now()
        return person

    def add_event(self, person: int) -> None:
        with self.application.database.transaction() as session:
            session.add(Event(person_id=person, kind="viewed a page", at=self.clock.now(), properties={}))

    def test_only_who_stayed_away_is_asked_once_more(self) -> None:
        self.walk(DAY)
        self.assertEqual({one.person_id for one in self.deliveries("sent")}, {self.ann, self.bob})
        self.clock.move_on(timedelta(minutes=1))
        self.add_event(self.ann)
        self.walk(2 * DAY)
        people = [one.person_id for one in self.deliveries("sent")]
        self.assertEqual((people.count(self.ann), people.count(self.bob)), (1, 2))
        first, second = [one for one in self.deliveries("sent") if one.person_id == self.bob]
        assert first.sent_at and second.sent_at
        self.assertTrue(second.sent_at - first.sent_at >= timedelta(hours=24))
