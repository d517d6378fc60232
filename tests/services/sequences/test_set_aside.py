"""One bad thing stops one thing: a sequence that cannot be carried out is set aside, the others go on."""

from sqlalchemy import delete

from loyalbell.core.segments.model import read_rule
from loyalbell.services.campaigns import commands as campaign_commands
from loyalbell.services.scheduler import tick
from loyalbell.services.segments import commands as segment_commands
from loyalbell.services.sequences import pausing
from loyalbell.services.today import queries as today_queries
from loyalbell.storage.schema import Campaign, Segment, Sequence, SequenceVersion
from tests.services.sequences.test_runner import AFTER_AN_ORDER, DAY, HOUR, SequenceCase, wait


class SetAsideTest(SequenceCase):
    def setUp(self) -> None:
        super().setUp()
        rule = read_rule({"version": 1, "root": {"lines": [{"about": "orders", "value": 1}]}})
        self.segment = segment_commands.keep(self.application, None, "Buyers", rule, "Ida")
        self.line = {"about": "segment", "segment": self.segment}

    def lose_the_segment(self) -> None:
        """As it could be lost before it was refused: by a restore, or an earlier version."""
        with self.application.database.transaction() as session:
            session.execute(delete(Segment).where(Segment.id == self.segment))

    def state_of(self, sequence_id: int) -> tuple[str, bool]:
        sequence = self.application.find(Sequence, sequence_id)
        assert sequence is not None
        return sequence.state, sequence.set_aside_because is not None

    def needs(self) -> list[str]:
        return [need.title for need in today_queries.today(self.application).needs]

    def test_a_segment_that_is_gone_stops_the_one_that_asks_for_it(self) -> None:
        """Seen: 197 failed ticks, nothing of any sequence sent, Today silent."""
        rule = {"root": {"lines": [self.line]}}
        steps = [wait("w", 1, "hours"), self.message("a")]
        asks = self.ring({"start": AFTER_AN_ORDER, "stop_when": rule, "steps": steps}, "Asks")
        plain = self.ring({"start": AFTER_AN_ORDER, "steps": [self.message("b")]}, "Plain")
        self.lose_the_segment()
        self.clock.move_on(HOUR)
        self.add_order(self.add_person(), 0)
        self.clock.move_on(HOUR)
        self.walk(3 * HOUR)
        self.assertEqual([one.step for one in self.deliveries("sent")], ["b"])
        self.assertEqual((self.state_of(asks), self.state_of(plain)), (("paused", True), ("live", False)))
        self.assertIn("“Asks” has been set aside", self.needs())
        self.assertEqual([one.state for one in self.enrolments()].count("under way"), 1, "keeps their place")

    def test_where_it_is_the_start_that_asks(self) -> None:
        start = {"on": "segment", "way": "joins", "rule": {"root": {"lines": [self.line]}}}
        asks = self.ring({"start": start, "steps": [self.message("a")]}, "Asks")
        plain = self.ring({"start": AFTER_AN_ORDER, "steps": [self.message("b")]}, "Plain")
        self.lose_the_segment()
        self.clock.move_on(HOUR)
        self.add_order(self.add_person(), 0)
        self.clock.move_on(HOUR)
        self.walk(2 * DAY, HOUR)
        self.assertEqual([one.step for one in self.deliveries("sent")], ["b"])
        self.assertEqual((self.state_of(asks), self.state_of(plain)), (("paused", True), ("live", False)))

    def test_a_plan_that_cannot_be_read(self) -> None:
        asks = self.ring({"start": AFTER_AN_ORDER, "steps": [self.message("a")]}, "Broken")
        self.ring({"start": AFTER_AN_ORDER, "steps": [self.message("b")]}, "Plain")
        with self.application.database.transaction() as session:
            version = session.query(SequenceVersion).filter_by(sequence_id=asks).one()
            version.plan = {"version": 1, "steps": "none"}
        self.clock.move_on(HOUR)
        self.add_order(self.add_person(), 0)
        self.clock.move_on(HOUR)
        self.walk(HOUR)
        self.assertEqual([one.step for one in self.deliveries("sent")], ["b"])
        self.assertEqual(self.state_of(asks), ("paused", True))

    def test_resumed_once_it_is_mended(self) -> None:
        rule = {"root": {"lines": [{"about": "segment", "segment": self.segment, "within": False}]}}
        steps = [wait("w", 1, "hours"), self.message("a")]
        asks = self.ring({"start": AFTER_AN_ORDER, "stop_when": rule, "steps": steps}, "Asks")
        with self.application.database.transaction() as session:
            kept = session.get_one(Segment, self.segment).rule
            session.get_one(Segment, self.segment).rule = {"root": "nothing"}
        self.clock.move_on(HOUR)
        self.add_order(self.add_person(), 0)
        self.clock.move_on(HOUR)
        self.walk(2 * HOUR)
        self.assertEqual(self.state_of(asks), ("paused", True))
        with self.application.database.transaction() as session:
            session.get_one(Segment, self.segment).rule = kept
        pausing.resume(self.application, asks, True, True, "Ida")
        self.walk(2 * HOUR)
        self.assertEqual(self.state_of(asks), ("live", False))
        self.assertEqual([one.step for one in self.deliveries("sent")], ["a"])

    def test_a_campaign_whose_segment_leans_on_nothing_is_held(self) -> None:
        outer = segment_commands.keep(
            self.application, None, "Outer", read_rule({"version": 1, "root": {"lines": [self.line]}}), "Ida"
        )
        self.add_order(self.add_person(), 0)
        self.clock.move_on(HOUR)
        made = campaign_commands.draft_campaign(self.application, "May", outer, self.letter(), "Ida")
        with self.application.database.transaction() as session:
            campaign = session.get_one(Campaign, made)
            campaign.state, campaign.goes_out_at, campaign.people_seen = "scheduled", self.clock.now(), 1
        self.ring({"start": AFTER_AN_ORDER, "steps": [self.message("b")]}, "Plain")
        self.lose_the_segment()
        self.clock.move_on(HOUR)
        self.add_order(self.add_person("b@example.com"), 0)
        self.clock.move_on(HOUR)
        tick(self.application, self.sender)
        held = self.application.find(Campaign, made)
        self.assertEqual(held and held.state, "held")
        self.assertIn("cannot be counted", (held and held.held_because) or "")
        self.assertEqual([one.step for one in self.deliveries("sent")], ["b"])
