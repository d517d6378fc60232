"""Campaigns that go out more than once, and to some with another message."""

from datetime import timedelta
from typing import Any

from sqlalchemy import select

from loyalbell.core.campaigns.plan import Variant
from loyalbell.core.clock.recurrence import Repeat
from loyalbell.services.calendar import queries as calendar_queries
from loyalbell.services.campaigns import audience
from loyalbell.services.campaigns import commands as campaign_commands
from loyalbell.services.campaigns.queries import CannotSend
from loyalbell.services.results.campaign_results import results_of
from loyalbell.services.scheduler import tick
from loyalbell.services.segments import commands as segment_commands
from loyalbell.services.segments import queries as segment_queries
from loyalbell.storage.schema import Campaign, Delivery, MessageVersion, Shop
from tests.services.campaigns.test_plans import DAY, HOUR, CampaignPlanCase

WEEK = timedelta(weeks=1)


class RoundsCase(CampaignPlanCase):
    def each(self, campaign_id: int) -> dict[int, int]:
        """Messages that left, by person."""
        query = select(Delivery.person_id).where(
            Delivery.origin_kind == "campaign", Delivery.origin_id == campaign_id, Delivery.state == "sent"
        )
        with self.application.database.reading() as session:
            got = list(session.scalars(query))
        return {person: got.count(person) for person in got}

    def pass_by(self, span: timedelta, by: timedelta = DAY) -> None:
        end = self.clock.now() + span
        while self.clock.now() < end:
            self.clock.move_on(by)
            tick(self.application, self.sender)

    def begin(self, **plan: Any) -> int:
        made = self.draft(engaged_only=False, **plan)
        self.start(made)
        tick(self.application, self.sender)
        return made


class RoundsTest(RoundsCase):
    def test_every_week_three_times_and_no_more(self) -> None:
        made = self.begin(repeat=Repeat(times=3))
        self.assertEqual((self.of(made).state, self.sent(made)), ("scheduled", 6))
        self.assertEqual(self.of(made).goes_out_at, self.clock.now().replace(second=0) + WEEK)
        self.pass_by(4 * WEEK)
        self.assertEqual((self.of(made).state, self.each(made)), ("sent", dict.fromkeys(self.people, 3)))
        self.assertEqual([count for _, count in results_of(self.application, made).rounds], [6, 6, 6])

    def test_on_several_dates_to_whoever_is_in_the_segment_then(self) -> None:
        first = self.clock.now() + HOUR
        made = self.begin(at=first, more=(first + 3 * DAY, first + 8 * DAY))
        self.pass_by(2 * DAY, HOUR)
        self.assertEqual((self.of(made).state, self.sent(made)), ("scheduled", 6))
        late = self.add_person("late@example.com")
        self.add_order(late, 100)
        self.pass_by(8 * DAY, HOUR)
        self.assertEqual(self.each(made), dict.fromkeys(self.people, 3) | {late: 2})

    def test_only_those_who_have_not_had_it(self) -> None:
        made = self.begin(repeat=Repeat(times=2), again=False)
        late = self.add_person("late@example.com")
        self.add_order(late, 100)
        self.pass_by(2 * WEEK)
        self.assertEqual(self.each(made), dict.fromkeys([*self.people, late], 1))

    def test_rounds_missed_while_off_are_made_up_for_once_or_held(self) -> None:
        """As starts of sequences are: caught up once (rules of the job, section 6), and asked about when it
        is long ago.
        """
        made = self.begin(repeat=Repeat(unit="days"))
        self.clock.move_on(2 * DAY + HOUR)
        tick(self.application, self.sender)
        self.assertEqual(self.sent(made), 12, "two were missed, one goes out")
        self.clock.move_on(6 * DAY)
        tick(self.application, self.sender)
        self.assertEqual((self.of(made).state, self.sent(made)), ("held", 12))
        self.assertIn("days ago", self.of(made).held_because or "")
        campaign_commands.release_campaign(self.application, made, 6, "Ida")
        tick(self.application, self.sender)
        self.assertEqual((self.of(made).state, self.sent(made)), ("scheduled", 18))

    def test_silence_puts_a_round_off_and_a_stop_ends_them_all(self) -> None:
        made = self.begin(repeat=Repeat(unit="days"))
        with self.application.database.transaction() as session:
            session.get_one(Shop, 1).ringing = False
        self.pass_by(2 * DAY)
        self.assertEqual(self.sent(made), 6)
        campaign_commands.unschedule(self.application, made, "Ida")
        campaign_commands.discard_draft(self.application, made)
        self.assertEqual(self.of(made).state, "draft", "what has gone out is not thrown away")
        campaign_commands.end_campaign(self.application, made, "Ida")
        with self.application.database.transaction() as session:
            session.get_one(Shop, 1).ringing = True
        self.pass_by(3 * DAY)
        self.assertEqual((self.of(made).state, self.sent(made)), ("sent", 6))

    def test_a_round_that_was_moved_goes_out_once_and_the_others_stay(self) -> None:
        made = self.begin(repeat=Repeat(times=3))
        planned = self.clock.now().replace(second=0) + WEEK
        calendar_queries.move_campaign(self.application, made, (planned - 2 * DAY).date(), "Ida")
        days = {one.day: one for one in calendar_queries.calendar(self.application, None)}
        self.assertEqual([one.id for one in days[(planned - 2 * DAY).date()].campaigns], [made])
        self.assertEqual([one.id for one in days[(planned + WEEK).date()].rounds], [made])
        self.pass_by(6 * DAY)
        self.assertEqual((self.sent(made), self.of(made).goes_out_at), (12, planned + WEEK))


class VariantsTest(RoundsCase):
    def versions(self, campaign_id: int) -> dict[int, int]:
        """Message id by person."""
        query = select(Delivery.person_id, MessageVersion.message_id).join(
            MessageVersion, MessageVersion.id == Delivery.message_version_id
        )
        with self.application.database.reading() as session:
            return dict(session.execute(query.where(Delivery.origin_id == campaign_id)).all())

    def test_by_segment_the_first_line_counts_and_the_rest_get_the_first_message(self) -> None:
        other, third = self.letter("For regulars"), self.letter("For both")

        def of(ids: list[int]) -> int:
            rule = segment_queries.read_rule(
                {"version": 1, "root": {"lines": [{"about": "people", "ids": ids}]}}
            )
            return segment_commands.keep(self.application, None, f"These {ids}", rule, "Ida")

        one, two = of(self.people[:2]), of(self.people[1:4])
        made = self.begin(
            parted_by="segment",
            variants=(Variant(message=other, segment=one), Variant(message=third, segment=two)),
        )
        own = self.of(made).message_id
        self.assertEqual(
            [self.versions(made)[at] for at in self.people], [other, other, third, third, own, own]
        )
        self.assertEqual(results_of(self.application, made).count_of("delivered", other), 2)

    def test_by_lot_everybody_gets_one_and_always_the_same(self) -> None:
        for at in range(60):
            self.add_order(self.add_person(f"more{at}@example.com"), 100)
        other = self.letter("Another")
        made = self.begin(variants=(Variant(message=other, share=50),), repeat=Repeat(times=2))
        before = self.versions(made)
        self.assertEqual((len(before), len(set(before.values()))), (66, 2))
        self.pass_by(8 * DAY)
        self.assertEqual((self.versions(made), set(self.each(made).values())), (before, {2}))

    def test_messages_that_do_not_go_together_are_refused(self) -> None:
        made = self.draft()
        own = self.of(made).message_id
        for wrong in (own, 9_999):
            with self.subTest(wrong), self.assertRaises(CannotSend):
                campaign_commands.change_plan(
                    self.application,
                    made,
                    audience.plan_of(self.of(made)).model_copy(
                        update={"variants": (Variant(message=wrong, share=50),)}
                    ),
                )

    def test_one_whose_other_message_must_be_mended_does_not_start(self) -> None:
        broken = self.letter("Broken", text="Hello {{ nothing_of_that_name }}")
        made = self.draft(variants=(Variant(message=broken, share=50),))
        with self.assertRaises(CannotSend):
            self.start(made)
        with self.application.database.reading() as session:
            self.assertIsNone(session.scalar(select(Delivery.id).where(Delivery.origin_id == made)))
            self.assertEqual(session.get_one(Campaign, made).state, "draft")
