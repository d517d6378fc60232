"""A tick with 100,000 people due, writes included, and a year rehearsed for 50,000 customers through six
steps.
"""

import shutil
import tempfile
import time
from pathlib import Path

import numpy as np
from sqlalchemy import insert

from bench.measure import Line, once
from loyalbell.core.clock.send_windows import QuietHours
from loyalbell.core.history.snapshot import Consents, HistorySnapshot, Orders, People
from loyalbell.core.messages import content as c
from loyalbell.core.sequences.engine_facts import SendPolicy, SequenceHistory
from loyalbell.core.sequences.plan import read_plan
from loyalbell.core.sequences.plan_tree import tree_of
from loyalbell.core.sequences.rehearsal import RehearsalScene
from loyalbell.core.sequences.simulator import rehearse
from loyalbell.demo.build import NOW, ZONE
from loyalbell.services.application import Application
from loyalbell.services.messages import commands as message_commands
from loyalbell.services.messages import queries as message_queries
from loyalbell.services.sequences import publishing
from loyalbell.services.sequences.commands import keep
from loyalbell.services.sequences.runner import SequenceRunner
from loyalbell.services.settings.channels import CareSettings
from loyalbell.services.settings.shop import ShopForm, open_shop
from loyalbell.storage.schema import ConsentEntry, Enrolment, Person

DUE, REHEARSED = 100_000, 50_000
A_SECOND, MOST_SECONDS = 20_000, 3.0
DAY = 86_400
SHOP = ShopForm(
    "Bench",
    ZONE,
    "USD",
    "US",
    "1 Bench Row",
    "http://127.0.0.1:1",
    "Ida",
    "ida@bench.example",
    "127.0.0.1",
    1,
)


class Still:
    def now(self):  # type: ignore[no-untyped-def]
        return NOW


def book_with_people_due(folder: Path, due: int = DUE) -> Application:
    application = Application(folder, Still())
    open_shop(application, SHOP, "Ida", "ida@bench.example", "a long password")
    letterhead = message_queries.letterheads(application)[0].id
    letter = message_commands.keep(
        application,
        None,
        "Hello",
        c.EmailContent(subject="Hello", preview="p", letterhead=letterhead, blocks=[c.Text(text="Hello")]),
        "Ida",
    )
    plan = {
        "start": {"on": "hand"},
        "stops": [{"what": "order"}],
        "steps": [
            {"do": "message", "id": "a", "message": letter},
            {"do": "wait", "id": "w"},
            {"do": "message", "id": "b", "message": letter},
        ],
    }
    made = keep(application, None, "Bench", read_plan(plan), "Ida")
    publishing.must_fix = lambda found: False
    publishing.publish(application, made, publishing.Choices(), "Ida", normal=10.0 * due)
    with application.database.transaction() as session:
        CareSettings(limits=[], guard_floor=1_000_000, newcomer_percent=100).save(session)
        session.execute(
            insert(Person),
            [{"id": at, "email": f"p{at}@bench.example", "joined_at": NOW} for at in range(1, due + 1)],
        )
        session.execute(
            insert(ConsentEntry),
            [
                {"person_id": at, "channel": "email", "state": "agreed", "at": NOW, "source": "bench"}
                for at in range(1, due + 1)
            ],
        )
        way = {
            "sequence_id": made,
            "version_id": 1,
            "key": "bench",
            "anchor_at": NOW,
            "entered_at": NOW,
            "state": "under way",
            "step": "a",
            "due_at": NOW,
            "settled": False,
            "sent": "",
            "trail": [],
        }
        session.execute(insert(Enrolment), [way | {"person_id": at} for at in range(1, due + 1)])
    return application


def tick_line() -> Line:
    folder = Path(tempfile.mkdtemp(prefix="loyalbell-bench-"))
    try:
        application = book_with_people_due(folder)
        application.snapshot()
        ringing = SequenceRunner(application)
        begin = time.perf_counter()
        moved = ringing.tick()
        seconds = time.perf_counter() - begin
        assert moved == DUE, moved
        application.close()
    finally:
        shutil.rmtree(folder, ignore_errors=True)
    return Line(
        "engine tick, writes included",
        f"{DUE:,} people due",
        moved / seconds,
        A_SECOND,
        "the bound",
        "1 or more",
        moved / seconds >= A_SECOND,
        "a second",
    )


def seconds_of_a_rehearsed_year(everybody: int = REHEARSED) -> float:
    """Of a plan of six steps, for people with six orders each in two years."""
    rng = np.random.default_rng(1)
    now = int(NOW.timestamp())
    count, start = 6 * everybody, now - 365 * DAY
    orders = Orders.of(
        key=np.arange(count),
        person=rng.integers(0, everybody, count),
        at=rng.integers(now - 730 * DAY, now, count),
        money=np.full(count, 1_000),
    )
    everyone = np.arange(everybody)
    consents = Consents.of(
        person=np.tile(everyone, 2),
        at=np.full(2 * everybody, now - 900 * DAY),
        channel=np.repeat([0, 1], everybody),
        state=np.where(rng.random(2 * everybody) < 0.7, 1, 0),
    )
    snapshot = HistorySnapshot(
        ZONE,
        "USD",
        People.of(everyone + 1, np.full(everybody, now - 900 * DAY)),
        orders=orders,
        consents=consents,
    )
    window = {"kind": "window", "weekdays": [1, 2, 3], "begins": "10:00", "ends": "12:00"}
    steps = [
        {"do": "wait", "id": "w1", "span": {"amount": 60, "unit": "days"}},
        {"do": "message", "id": "m1", "message": 1, "channels": ["text", "email"], "release": window},
        {"do": "wait", "id": "w2"},
        {"do": "message", "id": "m2", "message": 1},
        {"do": "wait", "id": "w3", "span": {"amount": 5, "unit": "days"}},
        {"do": "message", "id": "m3", "message": 1},
    ]
    tree = tree_of(
        read_plan(
            {
                "start": {"on": "event"},
                "again": {"kind": "each"},
                "stops": [{"what": "order"}],
                "steps": steps,
            }
        )
    )
    return once(
        lambda: rehearse(
            [RehearsalScene("bench", tree)],
            SequenceHistory(snapshot, SendPolicy(quiet=QuietHours("21:00", "08:00"))),
            start,
            now,
        )
    )


def rehearsal_line() -> Line:
    seconds, count = seconds_of_a_rehearsed_year(), 6 * REHEARSED
    return Line(
        "a year rehearsed, six steps",
        f"{REHEARSED:,} people, {count:,} orders in two years",
        seconds,
        MOST_SECONDS,
        "the bound",
        "below 1",
        seconds < MOST_SECONDS,
    )


def lines() -> list[Line]:
    return [tick_line(), rehearsal_line()]
