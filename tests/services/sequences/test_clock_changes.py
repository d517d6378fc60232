"""Both days on which the clocks change, walked in two zones: each message leaves at its own minute, once.
Minute by minute in the hours around the change; ``make bad-days`` walks the whole days so.

What is expected is worked out here from the rules of the job, section 1, with ``zoneinfo``: days keep the
wall-clock time, hours are elapsed time, a local time that does not exist moves to the first instant after the
gap, and one that occurs twice means the first. The days are those of the tz database: in 2026 the clocks of
New York change on 8 March and 1 November, those of London on 29 March and 25 October.
"""

from datetime import UTC, datetime, timedelta
from typing import Any
from zoneinfo import ZoneInfo

from sqlalchemy import select

from loyalbell.services.scheduler import tick
from loyalbell.services.sequences import pausing
from loyalbell.storage.schema import Delivery, Person
from tests.services.sequences.test_runner import AFTER_AN_ORDER, SequenceCase, wait

MINUTE, DAY = timedelta(minutes=1), timedelta(days=1)
QUARTER, HALF = timedelta(minutes=15), timedelta(minutes=30)
DAYS = (
    ("America/New_York", datetime(2026, 3, 8)),
    ("America/New_York", datetime(2026, 11, 1)),
    ("Europe/London", datetime(2026, 3, 29)),
    ("Europe/London", datetime(2026, 10, 25)),
)
COMES, ODD = timedelta(hours=20, minutes=15), timedelta(hours=1, minutes=30)
"""They order at 20:15 the day before. At half past one the clocks of London skip or repeat an hour, those of
New York repeat one in autumn.
"""
LATE = timedelta(hours=2, minutes=30)
"""What the clocks of New York skip in spring."""


def instant(local: datetime, zone: ZoneInfo) -> datetime:
    """The first instant with this local time, or, where there is none, the first after the gap."""
    here = local.replace(tzinfo=zone).astimezone(UTC)
    while (
        here.astimezone(zone).replace(tzinfo=None) > local
        and (here - MINUTE).astimezone(zone).replace(tzinfo=None) >= local
    ):
        here -= MINUTE
    if here.astimezone(zone).replace(tzinfo=None) == local:
        return here
    # in the gap: back to its begin, whose last minute stands before what does not exist
    while here.astimezone(zone).replace(tzinfo=None) > local:
        here -= MINUTE
    return here + MINUTE


class ClockChanges(SequenceCase):
    every_minute = False

    def setUp(self) -> None:
        super().setUp()
        at = {"kind": "exact", "begins": "01:30"}
        late = {"kind": "exact", "begins": "02:30"}
        self.expect: dict[str, Any] = {
            "a day": lambda came, day, zone: instant(day + COMES, zone),
            "24 hours": lambda came, day, zone: came + DAY,
            "half past one": lambda came, day, zone: instant(day + ODD, zone),
            "half past two": lambda came, day, zone: instant(day + LATE, zone),
        }
        self.plans: dict[str, list[dict[str, Any]]] = {
            "a day": [wait("w", 1)],
            "24 hours": [wait("w", 24, "hours")],
            "half past one": [wait("w", 1), at],
            "half past two": [wait("w", 1), late],
        }

    def test_each_leaves_at_its_own_minute_and_once(self) -> None:
        for zone_name, day in DAYS:
            with self.subTest(zone=zone_name, day=f"{day:%d %B}"):
                self.walk_over(zone_name, day)

    def walk_over(self, zone_name: str, day: datetime) -> None:
        zone = ZoneInfo(zone_name)
        came = (day - DAY + COMES).replace(tzinfo=zone).astimezone(UTC)
        self.clock.instant = came - MINUTE
        made = {}
        for name, steps in self.plans.items():
            release = {"release": steps[1]} if len(steps) > 1 else {}
            message = self.message("m", **release)
            made[name] = self.ring({"start": AFTER_AN_ORDER, "steps": [steps[0], message]}, f"{name} {day}")
        self.clock.instant = came
        person = self.add_person(f"{day:%m%d}@example.com")
        with self.application.database.transaction() as session:
            session.get_one(Person, person).zone = zone_name
        self.add_order(person, 0)
        end = came + timedelta(hours=26)
        while self.clock.now() <= end:
            tick(self.application, self.sender)
            self.clock.move_on(MINUTE if self.is_near(day, zone) else QUARTER)
        with self.application.database.reading() as session:
            rows = session.execute(
                select(Delivery.origin_id, Delivery.sent_at).where(Delivery.person_id == person)
            )
            sent: dict[int, list[datetime]] = {}
            for sequence, at in rows:
                sent.setdefault(sequence, []).append(at)
        for name, sequence in made.items():
            wanted = self.expect[name](came, day, zone)
            self.assertEqual(sent.get(sequence), [wanted], f"{name}: {wanted.astimezone(zone)}")
        for sequence in made.values():
            self.stop(sequence)

    def is_near(self, day: datetime, zone: ZoneInfo) -> bool:
        """Between half past midnight and half past three, where the clocks change."""
        local = self.clock.now().astimezone(zone).replace(tzinfo=None) - day
        return self.every_minute or HALF <= local < HALF + timedelta(hours=3)

    def stop(self, sequence: int) -> None:
        pausing.stop_all(self.application, sequence, "Ida")
