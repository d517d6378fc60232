"""What a network says afterwards, in whatever order and however often it says it."""

from sqlalchemy import select

from loyalbell.services.delivery.composing.rendering import message_id
from loyalbell.services.replies import inbound
from loyalbell.services.scheduler import tick
from loyalbell.storage.schema import Delivery, DeliveryEvent, Suppression
from tests.services.campaigns.test_plans import CampaignPlanCase
from tests.services.sequences.test_runner import DAY, HOUR


class ReceiptsTest(CampaignPlanCase):
    def setUp(self) -> None:
        super().setUp()
        self.start(self.draft(engaged_only=False))
        tick(self.application, self.sender)
        self.clock.move_on(HOUR)

    def one(self) -> Delivery:
        with self.application.database.reading() as session:
            return session.scalars(select(Delivery).where(Delivery.state != "withheld")).first()

    def says(self, *words: str) -> tuple[str, int]:
        """The state of the message and the marks on its address after a network has said these things."""
        name = message_id(self.one(), self.application.the_shop())
        for word in words:
            if word == "delivered":
                inbound.delivered(self.application, "email", name)
            else:
                inbound.failed(self.application, "email", name, True, "no such number")
        with self.application.database.reading() as session:
            marks = session.scalars(select(Suppression).where(Suppression.lifted_at.is_(None))).all()
            return str(session.get_one(Delivery, self.one().id).state), len(marks)

    def test_delivered_twice_is_delivered_once(self) -> None:
        self.assertEqual(self.says("delivered"), ("sent", 0))
        first = self.one().delivered_at
        self.clock.move_on(DAY)
        self.assertEqual(self.says("delivered"), ("sent", 0))
        self.assertEqual(self.one().delivered_at, first)

    def test_failed_twice_is_one_bounce(self) -> None:
        self.assertEqual(self.says("failed", "failed"), ("bounced", 1))
        with self.application.database.reading() as session:
            events = session.scalars(select(DeliveryEvent).where(DeliveryEvent.kind == "hard bounce")).all()
        self.assertEqual(len(events), 1)

    def test_a_later_delivered_lifts_the_mark(self) -> None:
        self.assertEqual(self.says("failed"), ("bounced", 1))
        self.assertEqual(self.says("delivered"), ("bounced", 0))

    def test_failed_after_it_has_arrived_marks_nobody(self) -> None:
        self.assertEqual(self.says("delivered", "failed"), ("sent", 0))

    def test_a_complaint_is_not_lifted(self) -> None:
        with self.application.database.transaction() as session:
            row = self.one()
            session.add(
                Suppression(
                    person_id=row.person_id,
                    channel="email",
                    address=row.address or "",
                    reason="complaint",
                    at=self.clock.now(),
                )
            )
        self.assertEqual(self.says("delivered"), ("sent", 1))
