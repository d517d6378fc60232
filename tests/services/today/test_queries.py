"""What Today counts, held against the book row by row."""

from datetime import datetime, timedelta

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from loyalbell.core.clock.local_time import start_of_day
from loyalbell.core.policy.delivery_state import DeliveryState
from loyalbell.services.today.queries import today
from loyalbell.storage.schema import Campaign, Delivery, DeliveryEvent, Segment
from tests.services.sequences.test_runner import SequenceCase
from tests.support import NOW, ZONE

STATES: tuple[DeliveryState, ...] = ("sent", "bounced", "unsure", "failed", "withheld", "planned", "held")
ORIGINS = ("campaign", "sequence", "answer", "proof", "confirmation")


class TodayTest(SequenceCase):
    def setUp(self) -> None:
        super().setUp()
        people = [self.add_person(f"p{number}@example.com") for number in range(4)]
        self.letter()
        with self.application.database.transaction() as session:
            number = 0
            for state in STATES:
                for origin in ORIGINS:
                    for back in (0.1, 3, 8, 20):
                        number += 1
                        self.add_delivery(
                            session, state, origin, people[number % 4], NOW - timedelta(days=back), number
                        )

    def add_delivery(
        self, session: Session, state: DeliveryState, origin: str, person: int, at: datetime, number: int
    ) -> None:
        left = state in ("sent", "bounced", "unsure")
        delivery = Delivery(
            origin_kind=origin,
            origin_id=1,
            step="a",
            occurrence=str(number),
            person_id=person,
            message_version_id=1,
            channel="email",
            token=f"t{number}",
            state=state,
            due_at=at,
            sent_at=at if left else None,
            attempts=number % 2 if state == "planned" else 0,
        )
        session.add(delivery)
        session.flush()
        if state == "sent":
            session.add(DeliveryEvent(delivery_id=delivery.id, kind="clicked", at=at))

    def test_what_left_is_counted_by_day(self) -> None:
        found = today(self.application)
        many = Delivery.origin_kind.in_(("campaign", "sequence"))
        with self.application.database.reading() as session:
            for load in found.days:
                begin = start_of_day(load.day, ZONE)
                day = (Delivery.sent_at >= begin) & (Delivery.sent_at < begin + timedelta(days=1))
                self.assertEqual(load.sent, session.scalar(select(func.count()).where(day, many)), load.day)
            week = Delivery.sent_at >= NOW - timedelta(days=7)
            heard = select(func.count(func.distinct(Delivery.person_id))).where(week, many)
            self.assertEqual(found.heard, session.scalar(heard))
            answered = (
                select(func.count(func.distinct(Delivery.person_id)))
                .join(DeliveryEvent)
                .where(DeliveryEvent.kind == "clicked", DeliveryEvent.at >= NOW - timedelta(days=7))
            )
            self.assertEqual(found.answered, session.scalar(answered))
        self.assertGreater(sum(load.sent for load in found.days), 0)

    def test_what_is_in_trouble_is_said_once_for_each_campaign(self) -> None:
        with self.application.database.transaction() as session:
            session.add(Segment(id=1, name="Everybody", rule={}, changed_at=NOW))
            session.flush()
            session.add(
                Campaign(
                    id=1, name="Spring", segment_id=1, message_id=1, made_at=NOW, started_at=NOW, state="sent"
                )
            )
        of = {need.title: need for need in today(self.application).needs if "Spring" in need.words}
        counts = {
            state: sum(1 for one in self.campaign if one.state == state)
            for state in ("unsure", "failed", "bounced")
        }
        tried = sum(1 for one in self.campaign if one.state == "planned" and one.attempts)
        self.assertTrue(tried and all(counts.values()))
        self.assertEqual(
            set(of),
            {
                f"{counts['unsure']} perhaps sent",
                f"{counts['failed']} messages not delivered",
                f"{counts['bounced']} not accepted",
                f"{tried} wait for another try",
            },
        )

    @property
    def campaign(self) -> list[Delivery]:
        with self.application.database.reading() as session:
            return list(session.scalars(select(Delivery).where(Delivery.origin_kind == "campaign")))
