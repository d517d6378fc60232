"""The volume guard knows weekdays, confirmed backlogs, and what a person calls usual (rules, section 6)."""

from datetime import timedelta

from loyalbell.core.clock.pacing import Pace
from loyalbell.core.clock.send_windows import SendWindow
from loyalbell.services.scheduler import tick
from loyalbell.services.sequences import volume_guard
from tests.services.sequences.test_runner import AFTER_AN_ORDER, DAY, HOUR, SequenceCase, wait

TUESDAY_NOON = {"kind": "window", "weekdays": [1], "begins": "10:00", "ends": "18:00"}
A_WEEK = timedelta(days=7)


class GuardWeekdaysTest(SequenceCase):
    def setUp(self) -> None:
        super().setUp()
        self.numbers = iter(range(10_000))

    def orders(self, people: int) -> None:
        for _ in range(people):
            self.add_order(self.add_person(f"p{next(self.numbers)}@example.com"), 0)
        self.clock.move_on(HOUR)
        tick(self.application, self.sender)

    def held(self) -> int:
        return len(self.deliveries("held"))

    def test_a_sequence_for_tuesdays_does_not_alarm_each_tuesday(self) -> None:
        """Seen: a Tuesday-only sequence alarmed every Tuesday. Other days have a message or two."""
        self.care(limits=[], quiet_begins="", quiet_ends="", guard_factor=2.0, guard_floor=3)
        steps = [
            {
                "do": "lot",
                "id": "l",
                "arms": [
                    {"share": 90, "steps": [self.message("m", release=TUESDAY_NOON)]},
                    {"share": 10, "steps": [self.message("n")]},
                ],
            },
        ]
        made = self.ring({"start": AFTER_AN_ORDER, "steps": steps})
        self.care(limits=[], quiet_begins="", quiet_ends="", guard_floor=10_000)
        for _ in range(21):
            self.orders(4)
            self.walk(DAY - HOUR, 4 * HOUR)
        self.care(limits=[], quiet_begins="", quiet_ends="", guard_factor=2.0, guard_floor=3)
        for _ in range(7):
            self.orders(4)
            self.walk(DAY - HOUR, 4 * HOUR)
        self.walk(DAY)
        self.assertEqual(self.held(), 0)
        self.assertGreater(made, 0)
        self.orders(90)
        self.walk(DAY)
        while self.clock.now().weekday() != 1 or self.clock.now().hour < 15:
            self.walk(HOUR)
        self.assertGreater(self.held(), 50, "a Tuesday far above the others is held all the same")

    def test_what_was_let_go_counts_as_usual_only_when_a_person_says_so(self) -> None:
        for is_usual in (False, True):
            with self.subTest(is_usual=is_usual):
                self.setUp()
                self.care(limits=[], quiet_begins="", quiet_ends="", guard_floor=5, newcomer_percent=0.01)
                self.ring({"start": AFTER_AN_ORDER, "steps": [self.message("m")]})
                self.orders(20)
                batch = self.deliveries("held")[0].held_batch_id or 0
                volume_guard.decide(self.application, batch, None, "Ida", is_usual)
                tick(self.application, self.sender)
                self.clock.move_on(8 * DAY)
                self.orders(20)
                self.assertEqual(bool(self.held()), not is_usual)

    def test_a_paced_backlog_that_was_confirmed_is_no_alarm(self) -> None:
        self.care(limits=[], quiet_begins="", quiet_ends="", guard_floor=5, newcomer_percent=0.01)
        for _ in range(60):
            self.add_order(self.add_person(f"p{next(self.numbers)}@example.com"), 80)
        start = {"on": "lack", "happening": {"what": "order"}, "days": 60}
        pace = Pace(20, 86_400, SendWindow(kind="window", begins="09:00", ends="17:00"))
        self.ring({"start": start, "steps": [self.message("m"), wait("w", 9)]}, backlog=True, pace=pace)
        self.walk(5 * DAY)
        self.assertEqual((len(self.deliveries("sent")), self.held()), (60, 0))
