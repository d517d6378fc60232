"""Emails by receiving domain, counted by hand."""

from datetime import timedelta

from loyalbell.core.policy.delivery_state import BOUNCED, SENT
from loyalbell.services.results.deliverability import by_domain
from loyalbell.services.results.ranges import days_of
from loyalbell.storage.schema import Delivery, DeliveryEvent
from tests.support import ApplicationCase


class DomainsTest(ApplicationCase):
    def test_each_domain_with_its_shares(self) -> None:
        letter, person, now = self.letter(), self.add_person(), self.clock.now()
        rows = [("a@Good.example", SENT)] * 60 + [("b@bad.example", SENT)] * 30
        rows += [("c@bad.example", BOUNCED)] * 2 + [("d@few.example", BOUNCED)] * 3
        with self.application.database.transaction() as session:
            for number, (address, state) in enumerate(rows, 1):
                session.add(
                    Delivery(
                        **{
                            "id": number,
                            "origin_kind": "campaign",
                            "origin_id": 1,
                            "occurrence": str(number),
                        },
                        **{"person_id": person, "message_version_id": letter, "channel": "email"},
                        **{"address": address, "token": f"t{number}", "state": state, "due_at": now},
                        **{"sent_at": now if state is SENT else None, "handed_at": now},
                    )
                )
            session.flush()
            for number, kind in (
                (1, "opened"),
                (1, "opened"),
                (2, "opened"),
                (61, "refused"),
                (62, "complained"),
            ):
                session.add(DeliveryEvent(delivery_id=number, kind=kind, at=now))
        today = now.date()
        found = {one.domain: one for one in by_domain(self.application, days_of("7", today, "UTC"))}
        good, bad, few = (found[f"{name}.example"] for name in ("good", "bad", "few"))
        self.assertEqual((good.taken, good.refused, good.opened, good.is_bad), (60, 0, 2, False))
        self.assertEqual((bad.taken, bad.refused, bad.unsubscribed, bad.complained), (30, 2, 1, 1))
        self.assertTrue(bad.is_bad, "2 of 32 is more than one in fifty")
        self.assertFalse(few.is_bad, "3 of 3 are too few to tell")
        earlier = days_of("own", today, "UTC", "2020-01-01", str(today - timedelta(days=2)))
        self.assertEqual(by_domain(self.application, earlier), [])
