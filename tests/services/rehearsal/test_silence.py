"""An empty rehearsal says why, and who would get the messages instead."""

from datetime import timedelta
from typing import Any

from loyalbell.core.sequences.plan import read_plan
from loyalbell.services.rehearsal import rehearsals
from loyalbell.services.rehearsal.silence import why_silent
from loyalbell.storage.schema import Membership
from tests.support import NOW, ApplicationCase

RENEWAL = {"on": "date", "which": "renewal", "days": -3, "at": "10:00"}
ONCE = {"root": {"lines": [{"about": "orders", "comparison": "exactly", "value": 1}]}}
LAPSED = {"on": "lack", "happening": {"what": "order"}, "days": 60}


class WhySilent(ApplicationCase):
    def said(self, start: dict[str, Any], *steps: dict[str, Any], **more: Any) -> list[str]:
        plan = read_plan({"start": start, "steps": list(steps), **more})
        made = rehearsals.rehearse_past(self.application, plan)
        return why_silent(self.application, plan, made.figures, made.days)

    def message(self) -> dict[str, Any]:
        return {"do": "message", "id": "m", "message": self.letter(), "channels": ["email"]}

    def membership(self, renews_in: int) -> None:
        person = self.add_person(f"m{renews_in}@example.com")
        day = NOW.date()
        with self.application.database.transaction() as session:
            session.add(
                Membership(
                    person_id=person,
                    external_id=f"m{renews_in}",
                    plan="Club",
                    term="yearly",
                    started_on=day - timedelta(days=400),
                    renews_on=day + timedelta(days=renews_in),
                )
            )

    def test_renewals_that_lie_ahead(self) -> None:
        for days in (5, 30, 300):
            self.membership(days)
        first, coming = self.said(RENEWAL, self.message())
        self.assertEqual(
            first, "No membership renewed in the past 180 days: files tell only the next renewal."
        )
        self.assertEqual(coming, "In the coming 6 weeks 2 renew.")

    def test_one_that_renewed_in_the_past_is_no_silence(self) -> None:
        self.membership(-20)
        self.assertEqual(self.said(RENEWAL, self.message()), [])

    def test_a_date_that_nobody_has(self) -> None:
        self.add_person("ann@example.com")
        self.assertEqual(
            self.said({"on": "date", "which": "birthday"}, self.message()),
            [
                "Nobody had their birthday in the past 180 days, of what is on file.",
                "Ask customers for the date, or import it.",
            ],
        )

    def test_people_past_the_line_already(self) -> None:
        for number in range(3):
            self.add_order(self.add_person(f"p{number}@example.com"), 400)
        self.assertEqual(
            self.said(LAPSED, self.message()),
            [
                "It did not happen to anybody in the past 180 days.",
                "3 people are past the line already and get it if you add them when you publish.",
            ],
        )

    def test_those_who_do_not_meet_the_condition_are_not_counted(self) -> None:
        for number in range(3):
            person = self.add_person(f"p{number}@example.com")
            for _ in range(number):
                self.add_order(person, 400)
            self.add_order(person, 410)
        self.assertIn("1 person is past", " ".join(self.said(LAPSED, self.message(), only=ONCE)))

    def test_no_message_and_nobody_by_themselves(self) -> None:
        self.assertEqual(self.said(LAPSED), ["It has no message yet."])
        self.assertIn("by themselves", self.said({"on": "hand"}, self.message())[0])

    def test_everybody_kept_back(self) -> None:
        self.add_order(self.add_person("ann@example.com", "refused"), 70)
        said = self.said(LAPSED, self.message())
        self.assertEqual(said, ["1 came in, and each message was kept back: 1 refused this channel."])

    def test_the_first_message_lies_beyond_the_rehearsal(self) -> None:
        self.add_order(self.add_person("ann@example.com"), 70)
        wait = {"do": "wait", "id": "w", "span": {"amount": 90, "unit": "days"}}
        self.assertEqual(
            self.said(LAPSED, wait, self.message()),
            ["1 came in; the first message comes later than this rehearsal reaches."],
        )
